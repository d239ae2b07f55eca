//! `yandro hosts export` and `yandro hosts import`.

use std::collections::HashMap;
use std::net::IpAddr;

use camino::Utf8Path;
use time::OffsetDateTime;
use yandro_core::{
    HostName, HostsFile, Pointed, Site, as_hosts, as_zone, common_zone, names_for_others, set_hosts_lines,
};
use yandro_core::{NameError, SiteList};
use yandro_machine::files;

use super::super::apply::{apply, done};
use super::super::real_names;
use super::{planned, read, refuse_site, refused};
use crate::args::{ExportArgs, ExportFormat};
use crate::context::{Context, now};
use crate::error::{CommandError, Status};
use crate::view::{Data, Outcome, STRONG, Ui, count, data};

pub(crate) fn export<'c>(context: &'c Context, args: &'c ExportArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let (_, list) = context.list()?;
    let names = to_export(context, args, &list)?;
    if names.is_empty() {
        return Err(CommandError::usage("nothing to export: no site is mapped yet")
            .hint("map one: yandro map NAME FOLDER; or export all lines: --all"));
    }
    let text = match args.format {
        ExportFormat::Hosts => as_hosts(&names),
        ExportFormat::Zone => zone(&names, args, ui)?,
    };
    if names.iter().any(|(_, address)| address.is_loopback()) {
        ui.note("loopback addresses mean another machine to whoever reads this there: give yours with `--address IP`");
    }
    Ok(Outcome::new(TextData { text }, |data, ui| ui.print(data.text.trim_end())))
}

data! {
    /// Data of `yandro hosts export`.
    struct TextData {
        /// The lines of a hosts file, or a zone.
        text: String,
    }

    /// Data of `yandro hosts import`.
    struct Imported {
        /// How many names the file has.
        names: usize,
        changed: bool,
    }
}

impl Data for TextData {}
impl Data for Imported {}

fn zone(names: &[Pointed], args: &ExportArgs, ui: &mut Ui) -> Result<String, CommandError> {
    let origin = match &args.zone {
        Some(zone) => HostName::parse(zone)?,
        None => common_zone(names).ok_or_else(|| {
            CommandError::usage("the names have no suffix in common, and a zone has just one")
                .hint("export one zone at a time: --zone NAME")
        })?,
    };
    let (text, outside) = as_zone(names, &origin, serial(now()));
    if outside.len() == names.len() {
        return Err(CommandError::usage(format!("no name is at or below `{origin}`")));
    }
    if !outside.is_empty() {
        let listed: Vec<&str> = outside.iter().map(|name| name.as_str()).collect();
        ui.note(&format!("not below `{origin}`, and left out: {}", listed.join(", ")));
    }
    Ok(text)
}

/// The date and the quarter of an hour, in the form that RFC 1912 section 2.2 advises.
fn serial(now: OffsetDateTime) -> u32 {
    let date =
        u32::try_from(now.year()).unwrap_or(0) * 10_000 + u32::from(u8::from(now.month())) * 100 + u32::from(now.day());
    date * 100 + u32::from(now.hour()) * 4 + u32::from(now.minute()) / 15
}

pub(crate) fn import<'c>(
    context: &'c Context,
    file: &'c Utf8Path,
    replace: bool,
    hide_real: bool,
    ui: &mut Ui,
) -> Result<Outcome<'c>, CommandError> {
    let path = context.current.join(file);
    let bytes =
        files::read_given(&path, 64 << 20)?.ok_or_else(|| CommandError::usage(format!("no such file: `{file}`")))?;
    let (names, skipped) = to_import(file, &bytes)?;
    let mut asked = false;
    let plan = || {
        let (_, list) = context.list()?;
        planned(context, (), |text| {
            let known = known_lines(text);
            let lines = |name: &HostName| known.get(name.as_str()).map(Vec::as_slice).unwrap_or_default();
            let is_new = |(name, address): &&Pointed| {
                list.owner(name).is_none() && lines(name).iter().all(|(_, other)| other != address)
            };
            real_names::ask(context, hide_real, names.iter().filter(is_new).map(|(name, _)| name), &mut asked)?;
            let mut wanted = Vec::new();
            for (name, address) in &names {
                let site = list.owner(name);
                if site.is_some_and(|site| site.address == *address) {
                    continue;
                }
                refuse_site(&list, name, |site| {
                    format!("move the site: yandro map {} --address {address}", site.name)
                })?;
                if !replace {
                    refuse_other(context, lines(name), name, *address)?;
                }
                wanted.push((name, *address));
            }
            set_hosts_lines(text, wanted).map(Some).map_err(|error| refused(context, &error))
        })
    };
    let done = done!(apply(context, ui, plan, |()| Ok(())));
    let data = Imported { names: names.len(), changed: !done.set.is_empty() };
    Ok(Outcome::new(data, move |data, ui| {
        let unchanged = if data.changed { "" } else { ": the hosts file says so already" };
        ui.say(&format!("{STRONG}{}{STRONG:#} of {file}{unchanged}", count(data.names, "name")));
        if let Some(first) = skipped.first() {
            ui.note(&format!(
                "{} left out, since resolvers or yandro ignore them; the first is {first}",
                count(skipped.len(), "text")
            ));
        }
    }))
}

/// The lines of a hosts file for each name: number and address.
fn known_lines(text: &[u8]) -> HashMap<String, Vec<(usize, IpAddr)>> {
    let file = HostsFile::parse(text);
    let mut known: HashMap<String, Vec<(usize, IpAddr)>> = HashMap::new();
    for entry in file.entries() {
        for name in file.names_of(&entry) {
            let name = String::from_utf8_lossy(name).to_ascii_lowercase();
            known.entry(name).or_default().push((entry.line, entry.address));
        }
    }
    known
}

/// The names that are exported, each with its address.
fn to_export(context: &Context, args: &ExportArgs, list: &SiteList) -> Result<Vec<Pointed>, CommandError> {
    let mut names: Vec<Pointed> = if args.all {
        names_for_others(&read(context)?)
    } else {
        let of = |site: &Site| site.names().map(|name| (name.clone(), site.address)).collect::<Vec<_>>();
        list.clone().enabled().sites.iter().flat_map(of).collect()
    };
    if let Some(other) = args.address {
        let loopback = names.iter_mut().filter(|(_, address)| address.is_loopback());
        loopback.for_each(|(_, address)| *address = other);
    }
    Ok(names)
}

/// The names of a file, and the texts that are left out, each with its line and the reason.
fn to_import(file: &Utf8Path, bytes: &[u8]) -> Result<(Vec<Pointed>, Vec<String>), CommandError> {
    let mut skipped = Vec::new();
    for (number, line) in (1..).zip(bytes.split(|byte| *byte == b'\n')) {
        let text = String::from_utf8_lossy(line);
        let text = text.split('#').next().unwrap_or_default().trim();
        if text.starts_with('$') || text.contains(" SOA ") || text.contains("\tSOA\t") {
            let what = "this is a zone of DNS, and only hosts files can be imported";
            return Err(CommandError::usage(format!("{file}:{number}: {what}")));
        }
        let why = why_not_imported(line, text);
        skipped.extend(why.into_iter().map(|why| format!("{file}:{number}: {why}")));
    }
    let names = names_for_others(bytes);
    if names.is_empty() {
        let error = CommandError::usage(format!("{file} points no name anywhere"));
        return Err(skipped.into_iter().take(1).fold(error, CommandError::hint));
    }
    Ok((names, skipped))
}

/// The reasons why parts of a line can't be imported. `text` is the line without its comment.
fn why_not_imported(line: &[u8], text: &str) -> Vec<String> {
    if text.is_empty() {
        return Vec::new();
    }
    let parsed = HostsFile::parse(line);
    let Some(entry) = parsed.entries().next() else {
        return vec![format!("`{text}` is not a line of a hosts file: an address, then names")];
    };
    parsed.names_of(&entry).filter_map(why_no_name).collect()
}

fn why_no_name(name: &[u8]) -> Option<String> {
    match HostName::parse(&String::from_utf8_lossy(name)) {
        Ok(_) | Err(NameError::Localhost) => None,
        Err(error) => Some(error.to_string()),
    }
}

/// Stops at a line that says something else.
fn refuse_other(
    context: &Context,
    lines: &[(usize, IpAddr)],
    name: &HostName,
    address: IpAddr,
) -> Result<(), CommandError> {
    let is_other = |other: &IpAddr| *other != address && other.is_ipv4() == address.is_ipv4();
    let Some((line, other)) = lines.iter().find(|(_, other)| is_other(other)) else { return Ok(()) };
    let message = format!(
        "{}:{line}: `{name}` points to {other} already, not to {address}; nothing was changed",
        context.machine.places.hosts
    );
    Err(CommandError { status: Status::NotMade, ..CommandError::usage(message) }
        .hint("change such lines, too: --replace"))
}
