//! `yandro vhosts`.

use serde_json::json;
use yandro_core::config::{Answering, ConfigFault, VirtualHost};
use yandro_machine::servers::{self, Found};

use crate::context::Context;
use crate::error::{CommandError, NO_SERVER, Status};
use crate::view::{BAD, COMMAND, Cell, DIM, STRONG, Table, Ui, WARN, count};

/// What one server has.
struct Server<'s> {
    found: &'s Found,
    answering: Vec<Answering<'s>>,
    fault: Option<&'s ConfigFault>,
    files: usize,
}

pub(crate) fn run(context: &Context, ui: &mut Ui) -> Result<Status, CommandError> {
    let machine = &context.machine;
    let configurations: Vec<_> =
        context.servers().iter().map(|found| (found, servers::configuration(machine, found))).collect();
    let all: Vec<Server<'_>> = configurations
        .iter()
        .map(|(found, own)| Server { found, answering: own.answering(), fault: own.fault(), files: own.files().len() })
        .collect();
    if all.is_empty() {
        return Err(CommandError::not_made("no web server was found").hint(NO_SERVER));
    }
    let has_fault = all.iter().any(|server| server.fault.is_some());
    let status = if has_fault { Status::Findings } else { Status::Well };
    if ui.json {
        let told: Vec<_> = all.iter().map(|server| server_json(server)).collect();
        ui.json(&json!({ "version": 2, "servers": told }));
        return Ok(status);
    }
    for (place, server) in all.iter().enumerate() {
        if all.len() > 1 {
            let gap = if place == 0 { "" } else { "\n" };
            ui.say(&format!("{gap}{STRONG}{}{STRONG:#}", server.found.id));
        }
        show(server, ui);
    }
    Ok(status)
}

fn show(server: &Server<'_>, ui: &mut Ui) {
    let mut table = Table::new(&["ADDRESS", "NAME", "SERVES", "TLS", "WHERE", "WHOSE"]);
    for at in &server.answering {
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
    if !server.answering.is_empty() {
        ui.table(&table);
    }
    if server.answering.iter().any(|at| at.hosts.len() > 1) {
        ui.say(&format!(
            "\n{DIM}The first of each address answers for names that none of its virtual hosts has.{DIM:#}"
        ));
    }
    for at in &server.answering {
        for (name, first, second) in at.collisions() {
            ui.print(&format!(
                "{WARN}!{WARN:#} {STRONG}{name}{STRONG:#} on {}: {first} answers, and {second} never does",
                at.address
            ));
        }
    }
    if let Some(fault) = server.fault {
        ui.print(&format!(
            "{BAD}✗{BAD:#} {STRONG}{}{STRONG:#}: {}; what stands behind it was not read{}",
            fault.place,
            fault.message,
            fault.excerpt.as_ref().map(|excerpt| format!("\n{excerpt}")).unwrap_or_default()
        ));
    } else if ui.verbose {
        let places: std::collections::BTreeSet<_> =
            server.answering.iter().flat_map(|at| at.hosts.iter().map(|host| &host.place)).collect();
        ui.say(&format!("\n{} in {}", count(places.len(), "virtual host"), count(server.files, "file")));
    }
    if server.answering.is_empty() && server.fault.is_none() {
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
        Cell::new(host.place.to_string(), DIM),
        Cell::plain(if is_own { "yandro" } else { "yours" }),
    ]
}

fn is_own(found: &Found, host: &VirtualHost) -> bool {
    found.is_own(host.place.file.as_str().into())
}

fn server_json(server: &Server<'_>) -> serde_json::Value {
    let addresses: Vec<_> = server.answering.iter().map(|at| to_json(server.found, at)).collect();
    let fault = server
        .fault
        .map(|fault| json!({ "file": fault.place.file, "line": fault.place.line, "message": fault.message }));
    json!({ "server": server.found.id.word(), "addresses": addresses, "fault": fault })
}

fn to_json(found: &Found, at: &Answering<'_>) -> serde_json::Value {
    let hosts: Vec<_> = at
        .hosts
        .iter()
        .enumerate()
        .map(|(place, host)| {
            json!({
                "name": host.name, "aliases": host.aliases, "document-root": host.document_root, "instead": host.instead, "tls": host.tls,
                "file": host.place.file, "line": host.place.line, "default": place == at.default,
                "whose": if is_own(found, host) { "yandro" } else { "person" },
            })
        })
        .collect();
    let collisions: Vec<_> = at
        .collisions()
        .iter()
        .map(|(name, first, second)| json!({ "name": name, "answers": first.to_string(), "never": second.to_string() }))
        .collect();
    json!({ "address": at.address, "virtual-hosts": hosts, "collisions": collisions })
}
