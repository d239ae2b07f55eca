//! `yandro vhosts`.

use std::sync::Arc;

use yandro_core::{Answering, Configuration, Place, VirtualHost};
use yandro_machine::{Found, servers};

use crate::context::Context;
use crate::error::{CommandError, Status, no_server};
use crate::view::{BAD, COMMAND, Cell, DIM, Data, Outcome, STRONG, Table, Ui, WARN, count, data};

/// A server, and its configuration run through.
struct VhostServer<'c> {
    found: &'c Found,
    configuration: Arc<dyn Configuration>,
}

pub(crate) fn run(context: &Context) -> Result<Outcome<'_>, CommandError> {
    let of = |found| VhostServer { found, configuration: servers::configuration(&context.machine, found) };
    let all: Vec<VhostServer<'_>> = context.present().all().iter().map(of).collect();
    if all.is_empty() {
        return Err(CommandError::not_made("no web server was found").hint(no_server()));
    }
    let has_fault = all.iter().any(|server| server.configuration.fault().is_some());
    let status = if has_fault { Status::Findings } else { Status::Well };
    let data = VirtualHosts { servers: all.iter().map(server_data).collect() };
    let text = move |_: &VirtualHosts, ui: &mut Ui| {
        for (place, server) in all.iter().enumerate() {
            if all.len() > 1 {
                let gap = if place == 0 { "" } else { "\n" };
                ui.say(&format!("{gap}{STRONG}{}{STRONG:#}", server.found.id));
            }
            show(server, ui);
        }
    };
    Ok(Outcome::new(data, text).with(status))
}

fn show(server: &VhostServer<'_>, ui: &mut Ui) {
    let (answering, fault) = (server.configuration.answering(), server.configuration.fault());
    let mut table =
        Table::new(&["ADDRESS", "NAME", "SERVES", "TLS", "WHERE", "OWNER"]).least(&["TLS", "OWNER", "SERVES"]);
    for at in &answering {
        // The one that answers for other names first.
        let rest = (0..at.hosts.len()).filter(|own| *own != at.default);
        let order = std::iter::once(at.default).chain(rest);
        for (place, host) in order.filter_map(|own| at.hosts.get(own)).enumerate() {
            table.row(row(at, place, host, is_own(server.found, host)));
            for alias in &host.aliases {
                table.row(vec![Cell::plain(""), Cell::new(format!("  {alias}"), DIM)]);
            }
        }
    }
    if !answering.is_empty() {
        ui.table(&table);
    }
    if answering.iter().any(|at| at.hosts.len() > 1) {
        ui.say(&format!(
            "\n{DIM}The first of each address answers for names that none of its virtual hosts has.{DIM:#}"
        ));
    }
    for at in &answering {
        for (name, first, second) in at.collisions() {
            ui.print(&format!(
                "{WARN}!{WARN:#} {STRONG}{name}{STRONG:#} on {}: {first} answers, and {second} never does",
                at.address
            ));
        }
    }
    if let Some(fault) = fault {
        ui.print(&format!(
            "{BAD}✗{BAD:#} {STRONG}{}{STRONG:#}: {}; the text behind it was not read{}",
            fault.place.written(),
            fault.message,
            fault.excerpt.as_ref().map(|excerpt| format!("\n{excerpt}")).unwrap_or_default()
        ));
    } else if ui.verbose {
        let places: std::collections::BTreeSet<_> =
            answering.iter().flat_map(|at| at.hosts.iter().map(|host| &host.place)).collect();
        ui.say(&format!(
            "\n{} in {}",
            count(places.len(), "virtual host"),
            count(server.configuration.files().len(), "file")
        ));
    }
    if answering.is_empty() && fault.is_none() {
        ui.say(&format!("No virtual host yet. Map a site: {COMMAND}yandro map NAME FOLDER{COMMAND:#}"));
    }
}

fn row(at: &Answering<'_>, place: usize, host: &VirtualHost, is_own: bool) -> Vec<Cell> {
    let name = match host.name.as_deref() {
        Some("") => Cell::new("\"\"", STRONG),
        Some(name) => Cell::new(name, STRONG),
        None => Cell::new("(no name)", DIM),
    };
    vec![
        if place == 0 { Cell::plain(&at.address) } else { Cell::plain("") },
        name,
        Cell::plain(host.instead.as_deref().or(host.document_root.as_deref()).unwrap_or("–")),
        Cell::plain(if host.tls { "yes" } else { "–" }),
        Cell::new(host.place.written().to_string(), DIM),
        Cell::plain(if is_own { "yandro" } else { "manual" }),
    ]
}

fn is_own(found: &Found, host: &VirtualHost) -> bool {
    found.is_own(&host.place.file.as_str().into())
}

data! {
    /// Data of `yandro vhosts`.
    struct VirtualHosts {
        servers: Vec<ServerHosts>,
    }

    /// A server's virtual hosts.
    struct ServerHosts {
        server: String,
        addresses: Vec<AddressData>,
        /// A line that the server would refuse: the text behind it was not read.
        fault: Option<FaultData>,
    }

    /// A line that the server would refuse.
    struct FaultData {
        file: String,
        line: usize,
        message: String,
    }

    /// The virtual hosts on one address, in the order in which names are compared.
    struct AddressData {
        address: String,
        virtual_hosts: Vec<HostData>,
        collisions: Vec<CollisionData>,
    }

    /// A virtual host.
    struct HostData {
        name: Option<String>,
        aliases: Vec<String>,
        document_root: Option<String>,
        /// Its upstream, or its redirect.
        instead: Option<String>,
        tls: bool,
        file: String,
        line: usize,
        /// Whether it answers for names that none has.
        default: bool,
        /// `yandro` or `person`.
        whose: &'static str,
    }

    /// A name that two of them have.
    struct CollisionData {
        name: String,
        /// The place of the one that answers.
        answers: String,
        /// The place of the one that never does.
        never: String,
    }
}

impl Data for VirtualHosts {
    const VERSION: u32 = 2;
}

fn server_data(server: &VhostServer<'_>) -> ServerHosts {
    let fault = server.configuration.fault().map(|fault| FaultData {
        file: fault.place.file.clone(),
        line: fault.place.line,
        message: fault.message.clone(),
    });
    let addresses = server.configuration.answering().iter().map(|at| address_data(server.found, at)).collect();
    ServerHosts { server: server.found.id.word().to_owned(), addresses, fault }
}

fn address_data(found: &Found, at: &Answering<'_>) -> AddressData {
    let host = |(place, host): (usize, &&VirtualHost)| HostData {
        name: host.name.clone(),
        aliases: host.aliases.clone(),
        document_root: host.document_root.clone(),
        instead: host.instead.clone(),
        tls: host.tls,
        file: host.place.written().file,
        line: host.place.written().line,
        default: place == at.default,
        whose: if is_own(found, host) { "yandro" } else { "person" },
    };
    AddressData {
        address: at.address.clone(),
        virtual_hosts: at.hosts.iter().enumerate().map(host).collect(),
        collisions: at.collisions().into_iter().map(collision_data).collect(),
    }
}

fn collision_data((name, answers, never): (String, &Place, &Place)) -> CollisionData {
    CollisionData { name, answers: answers.to_string(), never: never.to_string() }
}
