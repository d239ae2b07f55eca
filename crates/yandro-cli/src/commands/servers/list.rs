//! `yandro servers list`.

use std::net::SocketAddr;

use yandro_core::ServerId;
use yandro_machine::php::{self, Php};
use yandro_machine::{Control, Found, NamedServer, servers};

use crate::commands::serve::background;
use crate::context::Context;
use crate::error::no_server;
use crate::view::{COMMAND, Cell, DIM, Data, GOOD, Outcome, STRONG, Table, Ui, WARN, data};

/// A server as the list has it.
struct Listed<'f> {
    found: &'f Found,
    listens: Vec<String>,
    process: Option<i32>,
}

impl Listed<'_> {
    /// Whether it runs; that is not asked within a sysroot.
    fn stands(&self, is_asked: bool) -> Cell {
        match self.process {
            _ if self.found.is_elsewhere() => Cell::new("on another machine", DIM),
            Some(pid) => Cell::new(format!("runs (process {pid})"), GOOD),
            None if is_asked => Cell::new("doesn't run", WARN),
            None => Cell::new("not asked: a sysroot", DIM),
        }
    }
}

impl<'f> Listed<'f> {
    fn of(context: &Context, found: &'f Found) -> Self {
        let control = if context.machine.is_real() { Control::of(&context.machine, found) } else { None };
        let process = control.and_then(|control| control.process());
        Self { found, listens: listens(context, found), process }
    }
}

/// Addresses of a server, by its configuration; for a remote one, its published ports.
fn listens(context: &Context, found: &Found) -> Vec<String> {
    let mut listens: Vec<String> = Vec::new();
    if let Some(named) = found.named.as_ref().filter(|named| named.is_elsewhere()) {
        let at = |port: u16| match named.address {
            Some(address) => SocketAddr::new(address, port).to_string(),
            None => port.to_string(),
        };
        let published = named.ports.iter().map(|port| format!("{} (its {})", at(port.here), port.there));
        let own = if named.ports.is_empty() { named.address.map(|address| address.to_string()) } else { None };
        return published.chain(own).collect();
    }
    for own in servers::configuration(&context.machine, found).listeners() {
        if !listens.contains(&own.address) {
            listens.push(own.address);
        }
    }
    listens
}

/// The built-in server, where it runs or has sites.
struct BuiltIn {
    listens: Vec<String>,
    runs: bool,
    process: Option<i32>,
}

impl BuiltIn {
    fn of(context: &Context) -> Option<Self> {
        let sites = context.list().map(|(_, list)| list.sites).unwrap_or_default();
        let is_real = context.machine.is_real();
        let runs = is_real && background::runs(context);
        let is_used = sites.iter().any(|site| site.server == Some(ServerId::BuiltIn));
        let ports = &context.settings.built_in;
        let listens = [ports.http_port, ports.https_port].map(|port| port.to_string()).to_vec();
        let process = background::process(&context.machine);
        (runs || is_used).then_some(Self { listens, runs, process })
    }

    fn cells(&self, context: &Context) -> Vec<Cell> {
        let stands = match (self.runs, self.process) {
            (true, Some(pid)) => Cell::new(format!("runs (process {pid})"), GOOD),
            (true, None) => Cell::new("runs", GOOD),
            (false, _) if !context.machine.is_real() => Cell::new("not asked: a sysroot", DIM),
            (false, _) => Cell::new("doesn't run: yandro servers start built-in", WARN),
        };
        vec![
            Cell::new(ServerId::BuiltIn.word(), STRONG),
            Cell::plain("yandro's own"),
            Cell::plain(""),
            Cell::plain(""),
            Cell::plain(self.listens.join(", ")),
            stands,
        ]
    }

    fn data(&self, context: &Context) -> ServerData {
        ServerData {
            name: ServerId::BuiltIn.word().to_owned(),
            kind: ServerId::BuiltIn.word(),
            layout: "",
            config: context.machine.places.settings().to_string(),
            sites: context.machine.places.site_list().to_string(),
            listens: self.listens.clone(),
            process: self.process,
            elsewhere: false,
            address: None,
            paths: None,
            ports: None,
        }
    }
}

pub(super) fn list(context: &Context) -> Outcome<'_> {
    let built_in = BuiltIn::of(context);
    let all: Vec<Listed<'_>> = context.present().all().iter().map(|found| Listed::of(context, found)).collect();
    let gone: Vec<&NamedServer> = context.registry.missing(context.present().all());
    let missing = gone.iter().map(|named| named.name.to_string()).collect();
    let php = php::installed(&context.machine);
    let data = Servers {
        servers: all.iter().map(to_data).chain(built_in.iter().map(|own| own.data(context))).collect(),
        missing,
        php: if php.is_empty() { None } else { Some(php.iter().map(php_data).collect()) },
    };
    Outcome::new(data, move |_, ui| {
        show_all(context, &all, built_in.as_ref(), &gone, ui);
        show_php(&php, ui);
    })
}

fn show_all(context: &Context, all: &[Listed<'_>], built_in: Option<&BuiltIn>, gone: &[&NamedServer], ui: &mut Ui) {
    let machine = &context.machine;
    let unknown = servers::running(machine, context.present());
    if all.is_empty() && built_in.is_none() && !unknown.is_empty() {
        // Each of them is named below.
    } else if all.is_empty() && built_in.is_none() {
        ui.say(&format!("No web server was found.\nFix: {}", no_server()));
    } else {
        show(context, all, built_in, ui);
    }
    for own in &unknown {
        ui.note(&format!(
            "{} runs (process {}) with {}, and yandro doesn't know it; have yandro know it: {COMMAND}{}{COMMAND:#}",
            own.kind,
            own.pid,
            own.config,
            own.to_add()
        ));
    }
    for named in gone {
        ui.note(&format!(
            "`{0}` is named in {1}, and there is no {2}; take it out: {COMMAND}yandro servers drop {0}{COMMAND:#}",
            named.name,
            machine.places.settings(),
            named.config
        ));
    }
}

fn show(context: &Context, all: &[Listed<'_>], built_in: Option<&BuiltIn>, ui: &mut Ui) {
    let machine = &context.machine;
    let mut table = Table::new(&["SERVER", "KIND", "LAYOUT", "CONFIGURATION", "LISTENS ON", "STATUS"]).least(&[
        "LAYOUT",
        "KIND",
        "CONFIGURATION",
    ]);
    for own in all {
        table.row(vec![
            Cell::new(own.found.id.word(), STRONG),
            Cell::plain(own.found.kind.to_string()),
            Cell::plain(own.found.layout.known.title),
            Cell::plain(machine.places.inside(&own.found.layout.main).as_str()),
            Cell::plain(own.listens.join(", ")),
            own.stands(machine.is_real()),
        ]);
    }
    if let Some(own) = built_in {
        table.row(own.cells(context));
    }
    ui.table(&table);
    if let ([first, _, ..], true) = (all, all.first().is_some_and(|own| own.found.named.is_some())) {
        let word = first.found.id.word();
        ui.say(&format!(
            "\nA site goes on {STRONG}{word}{STRONG:#} unless another server is said: yandro map NAME --server WHICH"
        ));
    }
}

/// The php-fpm that sites can be given to.
fn show_php(all: &[Php], ui: &mut Ui) {
    if all.is_empty() {
        return;
    }
    let mut table = Table::new(&["PHP", "POOL", "RUNS AS", "ADDRESS", "STATUS"]).least(&["POOL", "RUNS AS"]);
    let word = |word: &Option<String>| Cell::plain(word.as_deref().unwrap_or("?"));
    for php in all {
        table.row(vec![
            Cell::new(if php.version.is_empty() { "?" } else { &php.version }, STRONG),
            word(&php.pool),
            word(&php.user),
            Cell::plain(php.address.as_ref().map(ToString::to_string).unwrap_or_default()),
            match &php.start {
                _ if php.listens => Cell::new("runs", GOOD),
                Some(start) => Cell::new(format!("doesn't run: {start}"), WARN),
                None => Cell::new("doesn't listen", WARN),
            },
        ]);
    }
    ui.say("");
    ui.table(&table);
    let running = all.iter().find(|php| php.listens && !php.version.is_empty());
    if let Some(php) = running.filter(|_| all.len() > 1) {
        ui.say(&format!("\nTo run a site's PHP with one of them: yandro map NAME --php={}", php.version));
    }
}

fn php_data(php: &Php) -> PhpData {
    PhpData {
        version: php.version.clone(),
        pool: php.pool.clone(),
        user: php.user.clone(),
        address: php.address.as_ref().map(ToString::to_string),
        listens: php.listens,
        start: php.start.clone(),
    }
}

data! {
    /// Data of `yandro servers`.
    struct Servers {
        servers: Vec<ServerData>,
        /// Servers of the settings that are not there.
        missing: Vec<String>,
        /// The pools of php-fpm, if there are any.
        php: Option<Vec<PhpData>>,
    }

    /// A pool of a php-fpm.
    struct PhpData {
        /// Such as `8.2`; empty if it isn't known.
        version: String,
        pool: Option<String>,
        /// The user that runs its PHP files.
        user: Option<String>,
        /// A socket, or `HOST:PORT`.
        address: Option<String>,
        listens: bool,
        /// The command that starts it, if it doesn't run.
        start: Option<String>,
    }

    /// A server.
    struct ServerData {
        name: String,
        kind: &'static str,
        layout: &'static str,
        /// Its main file.
        config: String,
        /// The folder of sites' files.
        sites: String,
        listens: Vec<String>,
        /// The number of its process, if it runs here.
        process: Option<i32>,
        /// Whether it is on another machine or in a container.
        elsewhere: bool,
        address: Option<std::net::IpAddr>,
        /// The pairs of folders, each as `HERE=THERE`.
        paths: Option<Vec<String>>,
        /// The published ports, each as `HERE:THERE`.
        ports: Option<Vec<String>>,
    }
}

impl Data for Servers {}

fn to_data(own: &Listed<'_>) -> ServerData {
    let found = own.found;
    let named = found.named.as_ref();
    let texts = |values: Vec<String>| if values.is_empty() { None } else { Some(values) };
    ServerData {
        name: found.id.word().to_owned(),
        kind: found.kind.word(),
        layout: found.layout.known.title,
        config: found.layout.main.to_string(),
        sites: found.layout.sites.to_string(),
        listens: own.listens.clone(),
        process: own.process,
        elsewhere: found.is_elsewhere(),
        address: named.and_then(|named| named.address),
        paths: named.and_then(|named| texts(named.paths.iter().map(ToString::to_string).collect())),
        ports: named.and_then(|named| texts(named.ports.iter().map(ToString::to_string).collect())),
    }
}
