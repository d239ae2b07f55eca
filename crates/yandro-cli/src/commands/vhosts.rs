//! `yandro vhosts`.

use camino::Utf8Path;
use serde_json::json;
use yandro_core::httpd::Layout;
use yandro_core::httpd::run::{Answering, VirtualHost, by_address};
use yandro_machine::apache;

use crate::context::Context;
use crate::error::{CommandError, NO_SERVER, Status};
use crate::view::{BAD, COMMAND, Cell, DIM, STRONG, Table, Ui, WARN, count};

pub(crate) fn run(context: &Context, ui: &mut Ui) -> Result<Status, CommandError> {
    let found = apache::find(&context.machine)
        .ok_or_else(|| CommandError::not_made("no Apache httpd was found").hint(NO_SERVER))?;
    let configuration = apache::configuration(&context.machine, &found)?;
    let hosts = configuration.virtual_hosts();
    let answering = by_address(&hosts);
    let own = |host: &VirtualHost| is_own(context, &found.layout, host);
    let status = if configuration.fault.is_some() { Status::Findings } else { Status::Well };
    if ui.json {
        let addresses: Vec<_> = answering.iter().map(|own_at| to_json(own_at, &own)).collect();
        let fault = configuration
            .fault
            .as_ref()
            .map(|fault| json!({ "file": fault.place.file, "line": fault.place.line, "message": fault.message }));
        ui.json(&json!({ "version": 1, "addresses": addresses, "fault": fault }));
        return Ok(status);
    }
    let mut table = Table::new(&["ADDRESS", "NAME", "SERVES", "TLS", "WHERE", "WHOSE"]);
    for at in &answering {
        for (place, host) in at.hosts.iter().enumerate() {
            table.row(row(at, place, host, own(host)));
            for alias in &host.aliases {
                table.row(vec![Cell::plain(""), Cell::new(format!("  {alias}"), DIM)]);
            }
        }
    }
    if !hosts.is_empty() {
        ui.table(&table);
    }
    let defaults = answering.iter().filter(|at| at.hosts.len() > 1).count();
    if defaults > 0 {
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
    if let Some(fault) = &configuration.fault {
        ui.print(&format!(
            "{BAD}✗{BAD:#} {STRONG}{}{STRONG:#}: {}; what stands behind it was not read{}",
            fault.place,
            fault.message,
            fault.excerpt.as_ref().map(|excerpt| format!("\n{excerpt}")).unwrap_or_default()
        ));
    } else if ui.verbose {
        ui.say(&format!("\n{} in {}", count(hosts.len(), "virtual host"), count(configuration.files.len(), "file")));
    }
    if hosts.is_empty() && configuration.fault.is_none() {
        ui.say(&format!("No virtual host yet. Map a site: {COMMAND}yandro map NAME FOLDER{COMMAND:#}"));
    }
    Ok(status)
}

fn row(at: &Answering<'_>, place: usize, host: &VirtualHost, is_own: bool) -> Vec<Cell> {
    let name = match &host.name {
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

fn is_own(context: &Context, layout: &Layout, host: &VirtualHost) -> bool {
    layout.is_own(&context.machine.path(Utf8Path::new(&host.place.file).as_str()))
}

fn to_json(at: &Answering<'_>, is_own: &impl Fn(&VirtualHost) -> bool) -> serde_json::Value {
    let hosts: Vec<_> = at
        .hosts
        .iter()
        .enumerate()
        .map(|(place, host)| {
            json!({
                "name": host.name, "aliases": host.aliases, "document-root": host.document_root, "instead": host.instead, "tls": host.tls,
                "file": host.place.file, "line": host.place.line, "default": place == 0,
                "whose": if is_own(host) { "yandro" } else { "person" },
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
