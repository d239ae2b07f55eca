//! `yandro hosts point` and `yandro hosts drop`.

use std::net::IpAddr;

use yandro_core::{FileChange, HostName, HostsFile, remove_hosts_lines, set_hosts_line};

use super::super::apply::{apply, done};
use super::super::map::BROWSERS_REMEMBER;
use super::{changed, planned, read, refuse_site, refused};
use crate::context::Context;
use crate::error::CommandError;
use crate::view::{COMMAND, Data, Outcome, STRONG, Ui, both_ways, data};

const HIDES_REAL: &str =
    "somebody on the internet may own that name; while it is here, theirs can't be reached from this machine";

pub(crate) fn point<'c>(
    context: &'c Context,
    name: &'c str,
    address: IpAddr,
    ui: &mut Ui,
) -> Result<Outcome<'c>, CommandError> {
    let name = HostName::parse(name)?;
    let plan = || {
        let (_, list) = context.list()?;
        refuse_site(&list, &name, |site| format!("move the site: yandro map {} --address {address}", site.name))?;
        planned(context, (), |text| {
            set_hosts_line(text, &name, address).map(changed).map_err(|error| refused(context, &error))
        })
    };
    let done = done!(apply(context, ui, plan, |()| Ok(())));
    if done.set.change_of(&context.machine.places.hosts).is_some_and(|change| had_line(change, &name)) {
        ui.note(BROWSERS_REMEMBER);
    }
    if name.can_be_real() && !done.set.is_empty() {
        ui.note(HIDES_REAL);
    }
    let data = PointedData { name: name.to_string(), address, changed: !done.set.is_empty() };
    Ok(Outcome::new(data, move |data, ui| {
        let unchanged = if data.changed { "" } else { " (the hosts file says so already)" };
        ui.say(&format!("{STRONG}{}{STRONG:#} -> {address}{unchanged}", both_ways(&name)));
    }))
}

data! {
    /// Data of `yandro hosts point`.
    struct PointedData {
        name: String,
        address: IpAddr,
        /// Whether it had another address before.
        changed: bool,
    }

    /// Data of `yandro hosts drop`.
    struct LineDropped {
        /// The names.
        dropped: Vec<String>,
    }
}

impl Data for PointedData {}
impl Data for LineDropped {}

/// Whether the name pointed somewhere before.
fn had_line(change: &FileChange, name: &HostName) -> bool {
    change.before.as_ref().is_some_and(|before| !HostsFile::parse(before).entries_of(name).is_empty())
}

pub(crate) fn drop<'c>(context: &'c Context, names: &[String], ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let file = read(context)?;
    let file = HostsFile::parse(&file);
    let names: Vec<String> = names.iter().map(|name| to_drop(&file, name)).collect::<Result<_, _>>()?;
    let plan = || {
        let (_, list) = context.list()?;
        for name in names.iter().filter_map(|name| HostName::parse(name).ok()) {
            refuse_site(&list, &name, |site| format!("take the site away: yandro unmap {}", site.name))?;
        }
        planned(context, (), |text| {
            let mut text = text.to_vec();
            for name in &names {
                if HostsFile::parse(&text).entries_of_host(name).iter().all(|entry| entry.ours) {
                    return Err(CommandError::usage(format!(
                        "no line of your own in {} names `{name}`",
                        context.machine.places.hosts
                    ))
                    .hint("see which names there are: yandro hosts list"));
                }
                text = remove_hosts_lines(&text, name).map_err(|error| refused(context, &error))?.into_owned();
            }
            Ok(Some(text))
        })
    };
    done!(apply(context, ui, plan, |()| Ok(())));
    Ok(Outcome::new(LineDropped { dropped: names }, move |data, ui| {
        for name in &data.dropped {
            let shown = HostName::parse(name).map_or_else(|_| name.clone(), |name| name.to_unicode());
            ui.say(&format!(
                "{STRONG}{shown}{STRONG:#} is in the hosts file no more; to have it back: {COMMAND}yandro undo{COMMAND:#}"
            ));
        }
    }))
}

/// A name as it is in the file: also one that no site could have, such as a number.
fn to_drop(file: &HostsFile<'_>, given: &str) -> Result<String, CommandError> {
    let as_written = given.to_ascii_lowercase();
    if !file.entries_of_host(&as_written).is_empty() {
        return Ok(as_written);
    }
    Ok(HostName::parse(given)?.to_string())
}
