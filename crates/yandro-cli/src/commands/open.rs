//! `yandro open`.

use yandro_core::{HostName, System};

use crate::args::OpenArgs;
use crate::context::Context;
use crate::error::{CommandError, no_site};
use crate::view::{Data, Outcome, data};

data! {
    /// Data of `yandro open`.
    struct Opened {
        url: String,
        /// Whether a browser was started.
        opened: bool,
    }
}

impl Data for Opened {}

pub(crate) fn run<'c>(context: &Context, args: &OpenArgs) -> Result<Outcome<'c>, CommandError> {
    let name = HostName::parse(&args.name)?;
    let (_, list) = context.list()?;
    let site = list.answering(&name).ok_or_else(|| no_site(&name))?;
    if site.disabled {
        return Err(super::check::out_of_use(site));
    }
    let url = context.url_of(site, &name);
    let refused = refused(context).map_or_else(|| open::that_detached(&url).err().map(|why| why.to_string()), Some);
    let data = Opened { url, opened: refused.is_none() };
    Ok(Outcome::new(data, move |data, ui| {
        ui.print(&data.url);
        if let Some(why) = refused {
            ui.note(&format!("no browser was started: {why}"));
        }
    }))
}

/// Why no browser is started, if that is known before.
fn refused(context: &Context) -> Option<String> {
    let is_set = |name| std::env::var_os(name).is_some_and(|value| !value.is_empty());
    let has_screen = ["DISPLAY", "WAYLAND_DISPLAY", "BROWSER", "WSL_DISTRO_NAME"].into_iter().any(is_set);
    if context.preview {
        return Some("this is a preview".into());
    }
    if !context.machine.is_real() {
        return Some("a sysroot has no browser".into());
    }
    if is_set("SUDO_UID") {
        return Some("a browser must not run as root".into());
    }
    (System::HERE == System::Linux && !has_screen).then(|| "this session has no display".into())
}
