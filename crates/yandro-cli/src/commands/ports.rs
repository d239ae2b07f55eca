//! `yandro ports`.

use std::collections::{BTreeMap, BTreeSet};

use yandro_core::{HostName, ServerId, Site, SiteList, System, other_ports};
use yandro_machine::{Holder, circumstances, ports, process};

use super::reach;
use crate::as_root::as_root;
use crate::context::{Context, now};
use crate::error::{CommandError, Status};
use crate::view::{BAD, COMMAND, Cell, DIM, Data, GOOD, Outcome, STRONG, Table, Ui, WARN, data};

/// A port, who ought to have it, and who has.
struct Port {
    number: u16,
    wanted: BTreeSet<ServerId>,
    /// The sites that it is for.
    sites: Vec<HostName>,
    holders: Vec<(Holder, Option<ServerId>)>,
}

pub(crate) fn run(context: &Context) -> Result<Outcome<'_>, CommandError> {
    let list = context.enabled()?;
    if !context.machine.is_real() {
        return Err(CommandError::usage("within a sysroot nothing listens").hint("leave `--sysroot` out"));
    }
    let ports = ports_of(context, &list);
    let status = if ports.iter().any(is_wrong) { Status::Findings } else { Status::Well };
    let data = Ports { ports: ports.iter().map(to_data).collect() };
    let open = open_sites(context, &list);
    Ok(Outcome::new(data, move |_, ui| show(&ports, open.as_deref(), ui)).with(status))
}

/// Whether others have the port than those that are to have it. A process that this user can't see may be the
/// right server.
fn is_wrong(port: &Port) -> bool {
    let is_other = |(holder, id): &(Holder, Option<ServerId>)| {
        holder.pid.is_some() && !id.is_some_and(|id| port.wanted.contains(&id))
    };
    !port.wanted.is_empty() && !port.holders.is_empty() && port.holders.iter().all(is_other)
}

fn show(ports: &[Port], open: Option<&str>, ui: &mut Ui) {
    let mut table = Table::new(&["PORT", "ADDRESS", "REACHED FROM", "PROGRAM", "PROCESS", "USER", "SINCE", "OWNER"])
        .least(&["SINCE", "OWNER", "PROCESS", "USER", "REACHED FROM"]);
    for port in ports {
        if port.holders.is_empty() {
            let mut row = vec![Cell::new(port.number.to_string(), STRONG), Cell::new("free", DIM)];
            row.extend((0..5).map(|_| Cell::plain("")));
            row.push(Cell::new(wanted(port), DIM));
            table.row(row);
        }
        for (holder, id) in &port.holders {
            let whose = match id {
                Some(id) if port.wanted.is_empty() || port.wanted.contains(id) => Cell::new(id.to_string(), GOOD),
                Some(id) => Cell::new(format!("{id}, not {}", wanted(port)), BAD),
                None if holder.pid.is_none() => Cell::new("not visible to you", DIM),
                None if port.wanted.is_empty() => Cell::new("another program", DIM),
                None => Cell::new(format!("not {}", wanted(port)), BAD),
            };
            table.row(vec![
                Cell::new(port.number.to_string(), STRONG),
                Cell::plain(holder.address.to_string()),
                if is_open(holder) { Cell::new("the network", WARN) } else { Cell::plain("this computer") },
                Cell::plain(holder.program.as_deref().unwrap_or("?")),
                Cell::plain(holder.pid.map_or_else(|| "?".into(), |pid| pid.to_string())),
                Cell::plain(&holder.user),
                Cell::new(holder.pid.and_then(since).unwrap_or_default(), DIM),
                whose,
            ]);
        }
    }
    ui.table(&table);
    for port in ports.iter().filter(|port| is_wrong(port)) {
        let (holder, id) = &port.holders[0];
        let Some(server) = port.wanted.first() else { continue };
        let fix = circumstances::port_holder(holder, *id).remedy(*server);
        let is_taken = |number: u16| ports.iter().any(|own| own.number == number) || !ports::holders(number).is_empty();
        let or = port.sites.first().map(|site| other_ports(site, is_taken).to_string()).unwrap_or_default();
        ui.print(&format!(
            "\n{BAD}✗{BAD:#} port {} is held by {holder}, and {} is to have it\n    {DIM}fix:{DIM:#} {COMMAND}{fix}{COMMAND:#}\n     {DIM}or:{DIM:#} {COMMAND}{or}{COMMAND:#}",
            port.number,
            wanted(port),
        ));
    }
    if let Some(open) = open {
        ui.note(open);
    }
    if ports.iter().any(|port| port.holders.iter().any(|(holder, _)| holder.pid.is_none())) {
        ui.note(&format!(
            "only {} sees the processes of other users: {}",
            System::HERE.administrator(),
            as_root(&["ports"])
        ));
    }
}

/// The ports of the sites; 80 and 443 in any case.
fn ports_of(context: &Context, list: &SiteList) -> Vec<Port> {
    let mut numbers: BTreeMap<u16, (BTreeSet<ServerId>, Vec<HostName>)> =
        [(80, Default::default()), (443, Default::default())].into();
    for site in &list.sites {
        let server = context.server_of_site(site);
        for (http, https) in context.present().all_ports_of(site, server) {
            let mut wanted = |port: u16| {
                let (servers, sites) = numbers.entry(port).or_default();
                servers.insert(server);
                sites.push(site.name.clone());
            };
            if site.own_tls().is_none() {
                wanted(http);
            }
            if site.https.is_on() {
                wanted(https);
            }
        }
    }
    let holders = |number: u16| {
        ports::holders(number).into_iter().map(|holder| {
            let id = context.present().of_holder(&context.machine, &holder);
            (holder, id)
        })
    };
    let port = |(number, (wanted, sites))| Port { number, wanted, sites, holders: holders(number).collect() };
    numbers.into_iter().map(port).collect()
}

/// Whether other computers reach it.
fn is_open(holder: &Holder) -> bool {
    !holder.address.to_canonical().is_loopback()
}

/// The sites at a loopback address that answer other computers all the same, in a sentence.
fn open_sites(context: &Context, list: &SiteList) -> Option<String> {
    let is_open = |site: &&Site| site.address.is_loopback() && reach::is_open(context, site) == Some(true);
    let names: Vec<&str> = list.sites.iter().filter(is_open).map(|site| site.name.as_str()).collect();
    let first = names.first()?;
    Some(format!(
        "other computers of your network can open {}; to answer this computer only: yandro map {first} --only-here on",
        names.join(", ")
    ))
}

fn wanted(port: &Port) -> String {
    let names: Vec<String> = port.wanted.iter().map(ToString::to_string).collect();
    names.join(" or ")
}

/// How long a process has been there, in words.
fn since(pid: u32) -> Option<String> {
    let began = process::began(pid.try_into().ok()?)?;
    let seconds = std::time::SystemTime::from(now()).duration_since(began).ok()?.as_secs();
    Some(match seconds {
        0..120 => format!("{seconds} s"),
        120..7200 => format!("{} min", seconds / 60),
        7200..172_800 => format!("{} h", seconds / 3600),
        _ => format!("{} days", seconds / 86_400),
    })
}

data! {
    /// Data of `yandro ports`.
    struct Ports {
        ports: Vec<PortData>,
    }

    /// A port of the sites.
    struct PortData {
        port: u16,
        /// The servers that are to have it.
        wanted_by: Vec<String>,
        holders: Vec<HolderData>,
    }

    /// A process that listens on it.
    struct HolderData {
        address: std::net::IpAddr,
        /// Whether other computers reach it.
        network: bool,
        program: Option<String>,
        pid: Option<u32>,
        user: String,
        /// How long it has been there, in words.
        since: Option<String>,
        /// The server that it is, if it is one that is known.
        server: Option<String>,
    }
}

impl Data for Ports {}

fn to_data(port: &Port) -> PortData {
    let of = |(holder, id): &(Holder, Option<ServerId>)| HolderData {
        address: holder.address,
        network: is_open(holder),
        program: holder.program.clone(),
        pid: holder.pid,
        user: holder.user.clone(),
        since: holder.pid.and_then(since),
        server: id.map(|id| id.word().to_owned()),
    };
    let wanted_by = port.wanted.iter().map(|id| id.word().to_owned()).collect();
    PortData { port: port.number, wanted_by, holders: port.holders.iter().map(of).collect() }
}
