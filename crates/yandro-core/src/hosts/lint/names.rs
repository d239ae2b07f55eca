//! Lints about a name, across lines.

use core::net::IpAddr;
use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::ops::Range;

use super::super::lookup::{Multi, Sorting};
use super::super::parse::{HostsEntry, HostsFile};
use super::super::takeover::{cut, is_local, is_local_name};
use super::{LintCode, LintContext, LintFinding, LintWeight};
use crate::name::HostName;
use crate::site::Site;
use crate::source::Splice;

/// How many names a sentence lists.
const LISTED: usize = 5;

/// One line of the file as shown in a list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HostsRow {
    /// The line.
    pub entry: HostsEntry,
    /// Its names, each with the line that answers in its stead, if one does.
    pub names: Vec<(String, Option<usize>)>,
}

/// All entries, with what shadows them.
pub fn rows(file: &HostsFile<'_>, sorting: Sorting<'_>) -> Vec<HostsRow> {
    let entries: Vec<HostsEntry> = file.entries().collect();
    let first = FirstAnswers::of(file, &entries, sorting);
    let mut at = 0..;
    let row = |entry: HostsEntry| {
        let names = file.names_of(&entry).zip(&mut at).map(|(name, at)| {
            let by = first.before(at, &entry).map(|(line, _)| line);
            (String::from_utf8_lossy(name).into_owned(), by)
        });
        let names = names.collect();
        HostsRow { entry, names }
    };
    entries.into_iter().map(row).collect()
}

/// The lines whose addresses getaddrinfo(3) gives first.
struct FirstAnswers<'s> {
    names: Vec<NameAnswers>,
    /// Which of them is meant at each place where the file has a name, in the order of the file.
    at: Vec<usize>,
    sorting: Sorting<'s>,
}

/// The lines that answer for one name.
struct NameAnswers {
    /// The first one.
    first: (IpAddr, usize),
    /// All of them, in the order in which they are given; empty where they have one address.
    several: Vec<(IpAddr, usize)>,
}

/// A name in small letters.
fn small(name: &[u8]) -> Cow<'_, [u8]> {
    if name.iter().any(u8::is_ascii_uppercase) { name.to_ascii_lowercase().into() } else { name.into() }
}

impl<'s> FirstAnswers<'s> {
    fn of(file: &HostsFile<'_>, entries: &[HostsEntry], sorting: Sorting<'s>) -> Self {
        let mut by_name: HashMap<Cow<'_, [u8]>, usize> = HashMap::with_capacity(entries.len());
        let mut own = Self { names: Vec::with_capacity(entries.len()), at: Vec::with_capacity(entries.len()), sorting };
        for entry in entries {
            for name in file.names_of(entry) {
                let number = *by_name.entry(small(name)).or_insert(own.names.len());
                own.at.push(number);
                match own.names.get_mut(number) {
                    None => own.names.push(NameAnswers { first: (entry.address, entry.line), several: Vec::new() }),
                    Some(NameAnswers { first, several }) if first.0 != entry.address || !several.is_empty() => {
                        if several.is_empty() {
                            several.push(*first);
                        }
                        several.push((entry.address, entry.line));
                    }
                    Some(_) => {}
                }
            }
        }
        for name in own.names.iter_mut().filter(|name| !name.several.is_empty()) {
            sorting.sort(&mut name.several);
            name.first = name.several[0];
        }
        own
    }

    /// The line that answers in the stead of an entry for a name of it, with its address; `at` is the number of the
    /// place where the file has the name. Addresses of both families may be given together, as those of one machine.
    fn before(&self, at: usize, entry: &HostsEntry) -> Option<(usize, IpAddr)> {
        let name = &self.names[self.at[at]];
        let (address, line) = name.first;
        // Both loopback addresses are this machine.
        let is_same_machine = address != entry.address && address.is_loopback() && entry.address.is_loopback();
        if line == entry.line || is_same_machine && address.is_ipv4() != entry.address.is_ipv4() {
            return None;
        }
        let is_alone = self.sorting.multi == Multi::Off || address.is_loopback() != entry.address.is_loopback();
        if is_alone || address.is_ipv4() == entry.address.is_ipv4() {
            return Some((line, address));
        }
        let of_family = name.several.iter().find(|(own, _)| own.is_ipv4() == entry.address.is_ipv4());
        of_family.filter(|(_, line)| *line != entry.line).map(|(address, line)| (*line, *address))
    }
}

pub(super) fn lint(
    file: &HostsFile<'_>,
    entries: &[HostsEntry],
    context: &LintContext<'_>,
    found: &mut Vec<LintFinding>,
) {
    twice(file, entries, context, found);
    localhost(file, entries, found);
    sites(file, entries, context, found);
}

fn twice(file: &HostsFile<'_>, entries: &[HostsEntry], context: &LintContext<'_>, found: &mut Vec<LintFinding>) {
    // A line of ours says what the site list says: of two that say the same, the other goes.
    let (ours, theirs): (Vec<&HostsEntry>, Vec<&HostsEntry>) = entries.iter().partition(|entry| entry.ours);
    let mut said: HashMap<(Vec<u8>, IpAddr), usize> = HashMap::new();
    for entry in ours.into_iter().chain(theirs) {
        let mut again = Vec::new();
        for name in file.names_of(entry) {
            match said.entry((name.to_ascii_lowercase(), entry.address)) {
                std::collections::hash_map::Entry::Occupied(earlier) => {
                    again.push((name.to_ascii_lowercase(), *earlier.get()));
                }
                std::collections::hash_map::Entry::Vacant(free) => _ = free.insert(entry.line),
            }
        }
        let [(name, line), ..] = &again[..] else { continue };
        if entry.ours {
            continue;
        }
        let more = if again.len() > 1 { format!(" and {} more", again.len() - 1) } else { String::new() };
        let name_shown = String::from_utf8_lossy(name);
        let cause = format!("`{name_shown}`{more} points to {} already, by line {line}", entry.address);
        let finding = LintFinding::warning(LintCode::Duplicate, entry.line, cause);
        found.push(if is_local(file, entry) {
            finding.remedy("harmless; yandro doesn't touch lines of `localhost`")
        } else if *line == entry.line {
            // `cut` takes a name away everywhere in a line.
            finding.remedy("take the second of them out")
        } else {
            finding.fix(without(file, &entry.full, &again.into_iter().map(|(name, _)| name).collect()))
        });
    }
    let first = FirstAnswers::of(file, entries, context.sorting);
    let mut at = 0..;
    for entry in entries {
        for (name, at) in file.names_of(entry).zip(&mut at) {
            let Some((line, address)) = first.before(at, entry) else { continue };
            if address == entry.address {
                continue;
            }
            let shown = String::from_utf8_lossy(name);
            let how = match context.sorting.multi {
                Multi::On => "comes second, and counts only where the first doesn't answer",
                Multi::Off => "is never given (`multi` is off in /etc/host.conf)",
            };
            let cause = format!("`{shown}` points to {address} by line {line}: {} {how}", entry.address);
            let remedy = match owner(context, name) {
                _ if is_local_name(name) => format!("edit line {} or {line} by hand", entry.line),
                Some(site) => format!("yandro map {site} --take-over"),
                None => format!("yandro hosts point {shown} ADDRESS, with the right one"),
            };
            found.push(LintFinding::warning(LintCode::Shadowed, entry.line, cause).remedy(remedy));
        }
    }
}

fn owner(context: &LintContext<'_>, name: &[u8]) -> Option<String> {
    let name = HostName::parse(std::str::from_utf8(name).ok()?).ok()?;
    context.sites.owner(&name).map(|site| site.name.to_string())
}

/// The line without these names; no line, if it has no others.
fn without(file: &HostsFile<'_>, full: &Range<usize>, names: &std::collections::BTreeSet<Vec<u8>>) -> Splice {
    match cut(&file.bytes()[full.clone()], names) {
        Some(rest) => Splice::replace(full.clone(), rest),
        None => Splice::remove(full.clone()),
    }
}

fn localhost(file: &HostsFile<'_>, entries: &[HostsEntry], found: &mut Vec<LintFinding>) {
    let of: Vec<&HostsEntry> = entries
        .iter()
        .filter(|entry| file.names_of(entry).any(|name| name.eq_ignore_ascii_case(b"localhost")))
        .collect();
    for entry in of.iter().filter(|entry| !entry.address.is_loopback()) {
        let cause = format!("`localhost` points to {}, which is another machine to most programs", entry.address);
        let finding = LintFinding::error(LintCode::LocalhostElsewhere, entry.line, cause);
        let is_alone = file.names_of(entry).all(is_local_name);
        found.push(if is_alone {
            let text = &file.bytes()[entry.full.clone()];
            let start = text.iter().take_while(|byte| super::super::parse::is_blank(**byte)).count();
            let length = text[start..].iter().take_while(|byte| !super::super::parse::is_blank(**byte)).count();
            let right = if entry.address.is_ipv4() { "127.0.0.1" } else { "::1" };
            finding.fix(Splice::replace(entry.full.start + start..entry.full.start + start + length, right))
        } else {
            finding.remedy("edit the line by hand: it has other names, too")
        });
    }
    // A byte order mark hides the first line, which is mostly this one.
    let is_hidden = file.bytes().starts_with(b"\xef\xbb\xbf");
    if !is_hidden && !of.iter().any(|entry| entry.address.is_ipv4()) {
        let cause =
            "no line points `localhost` to 127.0.0.1: programs that ask for it may find nothing, or ask the network";
        let line = format!("127.0.0.1\tlocalhost{}", crate::source::line_end(file.bytes()));
        let finding = LintFinding::new(LintCode::LocalhostMissing, LintWeight::Error, None, cause);
        found.push(finding.fix(Splice::insert(0, line)));
    }
}

fn sites(file: &HostsFile<'_>, entries: &[HostsEntry], context: &LintContext<'_>, found: &mut Vec<LintFinding>) {
    let text = |name: &[u8]| String::from_utf8_lossy(name).to_ascii_lowercase();
    let of_sites: HashSet<String> = context.sites.sites.iter().flat_map(Site::names).map(ToString::to_string).collect();
    let there: HashSet<String> = entries.iter().flat_map(|entry| file.names_of(entry)).map(text).collect();
    let mut strangers: Vec<(usize, String)> = Vec::new();
    let mut seen: HashSet<String> = HashSet::new();
    for entry in entries {
        // Names in a text that was meant as a comment don't count.
        let names = file.names_of(entry).take_while(|name| !name.starts_with(b";"));
        for name in names.filter(|name| !is_local_name(name)).map(text) {
            if of_sites.contains(&name) {
                continue;
            }
            let of = file.list_of(entry);
            if entry.ours && of.is_none_or(|list| list == context.list) {
                let cause = format!("yandro's line for `{name}`, which no site has any more");
                // A block without a list may belong to another user.
                let remedy = if of.is_some() { "yandro settle" } else { "take the line out, if it is yours" };
                found.push(LintFinding::warning(LintCode::SiteGone, entry.line, cause).remedy(remedy));
            } else if entry.ours {
                // It follows another user's site list.
            } else if entry.address.is_loopback() && entry.address != IpAddr::from([127, 0, 1, 1]) {
                // 127.0.1.1 is where Debian keeps the machine's own name.
                let is_name = HostName::parse(&name).is_ok_and(|parsed| parsed.as_str() == name);
                if is_name && seen.insert(name.clone()) {
                    strangers.push((entry.line, name));
                }
            }
        }
    }
    found.extend(not_sites(&strangers));
    for site in &context.sites.sites {
        let missing: Vec<String> = site.names().map(ToString::to_string).filter(|name| !there.contains(name)).collect();
        if !missing.is_empty() {
            let of = if missing.contains(&site.name.to_string()) {
                String::new()
            } else {
                format!(", of the site `{}`", site.name)
            };
            let cause = format!("no line names `{}`{of}", missing.join("` and `"));
            found.push(LintFinding::new(LintCode::SiteMissing, LintWeight::Error, None, cause).remedy("yandro settle"));
        }
        if context.folders_gone.contains(&site.name) {
            let cause = format!("the folder of the site `{}` is gone: {}", site.name, site.content);
            let remedy = format!("restore it, or remove the site: yandro unmap {}", site.name);
            found.push(LintFinding::new(LintCode::FolderGone, LintWeight::Warning, None, cause).remedy(remedy));
        }
    }
}

/// One finding for all names that point to this machine and are not sites.
fn not_sites(names: &[(usize, String)]) -> Option<LintFinding> {
    let (line, _) = names.first()?;
    let listed: Vec<&str> = names.iter().take(LISTED).map(|(_, name)| name.as_str()).collect();
    let more = names.len().saturating_sub(LISTED);
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let what = if names.len() == 1 {
        "points to this machine and is not a site"
    } else {
        "point to this machine and are not sites"
    };
    let cause = format!("{}{more} {what}", listed.join(", "));
    let finding = LintFinding::new(LintCode::NoSite, LintWeight::Note, Some(*line), cause);
    Some(finding.remedy("map them: yandro map NAME FOLDER; or take them out: yandro hosts drop NAME"))
}
