//! `yandro help support`: what a report of a problem needs.

use std::collections::BTreeMap;

use yandro_core::{Content, ServerId, StoreKind, System};
use yandro_machine::trust::stores::{self, Store};
use yandro_machine::{Found, Machine, caches, caller, files, servers, trust};

use crate::context::Context;
use crate::error::CommandError;
use crate::view::change::labelled;
use crate::view::{Data, Outcome, Ui, data};

data! {
    /// Data of `yandro help support`.
    struct Support {
        yandro: String,
        system: String,
        user: String,
        /// Each server with its kind, version, layout, main file and whether it runs.
        servers: Vec<String>,
        resolver: String,
        trust: String,
        sites: Vec<String>,
        /// The text of the settings; none if there are no settings.
        settings: Option<String>,
    }
}

impl Data for Support {}

/// Gathers it. Names and folders of sites are only in it `with_names`.
pub(crate) fn run(context: &Context, with_names: bool) -> Result<Outcome<'_>, CommandError> {
    let machine = &context.machine;
    let (_, list) = context.list()?;
    let sites: Vec<String> = if with_names {
        list.sites.iter().map(|site| format!("{} -> {}", site.name, site.content)).collect()
    } else {
        let mut kinds: BTreeMap<String, usize> = BTreeMap::new();
        for site in &list.sites {
            let server = site.server.as_ref().map_or("any server", ServerId::word);
            let content = if matches!(site.content, Content::Folder { .. }) { "folder" } else { "upstream" };
            *kinds.entry(format!("{content} on {server}, https {}", site.https.word())).or_default() += 1;
        }
        kinds.into_iter().map(|(kind, number)| format!("{number} × {kind}")).collect()
    };
    let resolver = caches::resolver_setup(machine);
    let caches: Vec<&str> = resolver.caches.iter().map(|cache| cache.title()).collect();
    let caches = if caches.is_empty() { "none".to_owned() } else { caches.join(", ") };
    let settings = files::read_if_there(&machine.places.settings())?;
    let data = Support {
        yandro: format!("{} ({}, {})", env!("CARGO_PKG_VERSION"), std::env::consts::OS, std::env::consts::ARCH),
        system: yandro_machine::system_description(),
        user: user(),
        servers: context.present().all().iter().map(|found| server(context, found)).collect(),
        resolver: match &resolver.sources[..] {
            [] => format!("caches: {caches}"),
            sources => format!("hosts: {}; caches: {caches}", sources.join(" ")),
        },
        trust: trust::find(machine).map_or_else(|| trust_without_folder(machine), |store| store.folder().to_owned()),
        sites,
        settings: settings.map(|bytes| without_home(context, &String::from_utf8_lossy(&bytes))),
    };
    Ok(Outcome::new(data, move |data, ui| show(data, with_names, ui)))
}

fn show(data: &Support, with_names: bool, ui: &mut Ui) {
    let mut lines = vec![("yandro", data.yandro.clone()), ("system", data.system.clone()), ("user", data.user.clone())];
    let each = |label: &'static str, texts: &[String]| {
        texts
            .iter()
            .enumerate()
            .map(|(turn, text)| (if turn == 0 { label } else { "" }, text.clone()))
            .collect::<Vec<_>>()
    };
    lines.extend(each("servers", &data.servers));
    lines.push(("resolver", data.resolver.clone()));
    lines.push(("trust store", data.trust.clone()));
    lines.extend(each("sites", &data.sites));
    if let Some(settings) = &data.settings {
        let texts: Vec<String> = settings.lines().map(str::to_owned).collect();
        lines.extend(each("settings", &texts));
    }
    ui.print(&labelled(&lines));
    if !with_names {
        ui.note("names and folders of sites are left out; to include them: yandro help support --verbose");
    }
}

/// The system's stores that are in no folder.
fn trust_without_folder(machine: &Machine) -> String {
    let is_systems = |store: &Store| matches!(store.kind, StoreKind::Keychain | StoreKind::WindowsRoot);
    let all = stores::find(machine).into_iter().filter(is_systems).map(|store| store.path.into_string());
    let all: Vec<String> = all.collect();
    if all.is_empty() { "not found".to_owned() } else { all.join(", ") }
}

/// With whose rights this runs.
fn user() -> String {
    let under_sudo = std::env::var_os("SUDO_UID").is_some();
    match (caller::is_root(), under_sudo) {
        (true, true) => "root, by sudo".to_owned(),
        (true, false) => System::HERE.administrator().to_owned(),
        (false, _) => format!("not {}", System::HERE.administrator()),
    }
}

fn server(context: &Context, found: &Found) -> String {
    let version = servers::version(&context.machine, found).unwrap_or_else(|| "version unknown".to_owned());
    let status = match context.runs(found.id) {
        _ if found.is_elsewhere() => "on another machine or in a container",
        _ if !context.machine.is_real() => "not asked",
        true => "runs",
        false => "stopped",
    };
    let main = without_home(context, context.machine.places.inside(&found.layout.main).as_str());
    format!("{}: {}, {version}, layout {}, {main}, {status}", found.id.word(), found.kind, found.layout.known.title)
}

/// A text in which the home folder is `~`: it often holds a name.
fn without_home(context: &Context, text: &str) -> String {
    let home = context.machine.home();
    if home.components().count() > 1 { text.replace(home.as_str(), "~") } else { text.to_owned() }
}
