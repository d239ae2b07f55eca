//! The file of a site's virtual hosts: written, updated, and searched for hand edits.

use core::net::{IpAddr, Ipv6Addr};
use std::collections::HashSet;
use std::ops::Range;

use crate::server_path::ServerPath;

use super::tree::{Directive, ParseError, Section, Tree};
use super::want::{FileText, HandEdit, Syntax, Want, changed_by_hand, foreign, set_opening};
use crate::config::{SiteFiles, Variable};
use crate::name::HostName;
use crate::site::{DEFAULT_ADDRESS, ListId, Scheme, Site};
use crate::source::{self, Excerpt, Splice};

/// The parts of a server's syntax that concern virtual hosts.
pub trait Dialect: Syntax {
    /// Reads a file.
    ///
    /// # Errors
    /// When the server couldn't, either.
    fn parse(&self, bytes: &[u8]) -> Result<Tree, ParseError>;
    /// Name of the section of a virtual host.
    fn host(&self) -> &'static str;
    /// The directive that names it.
    fn name(&self) -> &'static str;
    /// The ports of a virtual host.
    fn ports(&self, host: &Section) -> Vec<u16>;
    /// The port of one that is wanted.
    fn wanted_port(&self, want: &Want) -> Option<u16>;
    /// The virtual hosts that a site should have, one for each port.
    fn hosts(&self, site: &Site, files: &SiteFiles) -> Vec<Want>;
    /// Whether a virtual host speaks TLS.
    fn is_secure(&self, host: &Section) -> bool;
    /// The answer on a port to unknown host names: over plain HTTP the former one,
    /// over HTTPS, with the files of a certificate, a refusal.
    fn others(&self, port: u16, files: &SiteFiles, scheme: Scheme) -> Want;
    /// The directives that name a certificate and its key.
    fn certificate_names(&self) -> [&'static str; 2];
    /// How a variable is written in an argument.
    fn variable(&self) -> Variable;
    /// Whether yandro writes such a directive, or section, into a site's file.
    fn writes(&self, directive: &Directive) -> bool;
    /// Whether a virtual host that is wanted speaks TLS.
    fn is_secure_want(&self, want: &Want) -> bool;
    /// Whether a directive of this name says where a virtual host answers.
    fn is_address(&self, name: &str) -> bool;
    /// Whether such a directive can be added to a person's virtual host without changing what it answers.
    fn may_add(&self, name: &str) -> bool;
    /// The edits by which a person's virtual host comes to be at a port: `wanted` are the addresses that yandro would
    /// write, `single` those of the person's own that are no wildcards. `is_own` tells whether it was there before.
    fn moved_to(
        &self,
        section: &Section,
        wanted: &[String],
        single: &[String],
        port: u16,
        is_own: bool,
    ) -> Vec<(Range<usize>, String)>;
    /// The assumed text of a main file that isn't on this machine: it includes all files of a folder.
    fn assumed_main(&self, sites: &ServerPath) -> String;
}

/// The file of a site that is to be written.
#[derive(Clone, Copy, Debug)]
pub(crate) struct SiteFile<'f> {
    /// Its present text, or that of the file of the site's former name; `None` for a new one.
    pub(crate) existing: Option<&'f [u8]>,
    /// The site as it was when yandro last wrote the file.
    pub(crate) before: Option<(&'f Site, &'f SiteFiles)>,
    /// The site as it is to be.
    pub(crate) now: (&'f Site, &'f SiteFiles),
    /// Whether a line that was edited by hand stays even where another value is wanted now.
    pub(crate) keeps_edits: bool,
}

impl SiteFile<'_> {
    /// The text: a new one, or the existing one with just what changed.
    ///
    /// # Errors
    /// [`ParseError`] when the existing text can't be read as a configuration.
    pub(crate) fn written(&self, dialect: &dyn Dialect) -> Result<Vec<u8>, ParseError> {
        written(dialect, self)
    }
}

/// The text of a site's file, as [`SiteFile::written`] has it.
///
/// # Errors
/// [`ParseError`] when `existing` can't be read as a configuration.
pub fn site_file(
    dialect: &dyn Dialect,
    existing: Option<&[u8]>,
    before: Option<(&Site, &SiteFiles)>,
    now: (&Site, &SiteFiles),
) -> Result<Vec<u8>, ParseError> {
    SiteFile { existing, before, now, keeps_edits: false }.written(dialect)
}

fn written(dialect: &dyn Dialect, file: &SiteFile<'_>) -> Result<Vec<u8>, ParseError> {
    let SiteFile { existing, before, now, keeps_edits } = *file;
    let (wanted, name) = (dialect.hosts(now.0, now.1), &now.0.name);
    let fresh = rendered(dialect, &wanted, name, now.1.list.as_ref()).into_bytes();
    let Some(existing) = existing.filter(|existing| *existing != fresh) else { return Ok(fresh) };
    let written = |(site, files)| dialect.hosts(site, &as_written(existing, site, files));
    let earlier = before.map(written).unwrap_or_default();
    let former = before.map_or(name, |(before, _)| &before.name);
    let tree = dialect.parse(existing)?;
    let eol = source::line_end(existing);
    let port = |want: &Want| dialect.wanted_port(want);
    let file = FileText { syntax: dialect, source: existing, eol, keeps_edits };
    let mut splices = Vec::new();
    splices.extend(now.1.list.as_ref().and_then(|list| name_owner(existing, (former, name), list, eol)));
    let mut missing = String::new();
    for want in &wanted {
        let Want::Section(_, arguments, inner) = want else { continue };
        let old = earlier.iter().find_map(|old| match old {
            Want::Section(_, arguments, inner) if port(old) == port(want) => Some((arguments, inner.as_slice())),
            _ => None,
        });
        match find_host(dialect, &tree, port(want), former) {
            Some(section) => {
                splices.extend(set_opening(dialect, section, old.map(|(arguments, _)| arguments), arguments));
                let old = old.map(|(_, inner)| inner).unwrap_or_default();
                splices.extend(file.update(section, old, inner));
            }
            None => missing += &(eol.to_owned() + &want.render(dialect, "", eol)),
        }
    }
    // A virtual host that is no longer wanted is removed whole, unless the user has added to it.
    for old in &earlier {
        let Want::Section(_, _, inner) = old else { continue };
        let is_wanted = wanted.iter().any(|want| port(want) == port(old));
        if !is_wanted && let Some(section) = find_host(dialect, &tree, port(old), former) {
            splices.push(removal(existing, section, inner)?);
        }
    }
    if !missing.is_empty() {
        if !existing.is_empty() && !existing.ends_with(b"\n") {
            missing.insert_str(0, eol);
        }
        splices.push(Splice::insert(existing.len(), missing));
    }
    Ok(source::apply(existing, &splices))
}

/// The server as it was when yandro last wrote the file, as far as that shows in it: the single addresses of the site
/// that it names. Virtual hosts of the user at such an address come and go.
fn as_written(existing: &[u8], site: &Site, files: &SiteFiles) -> SiteFiles {
    let text = String::from_utf8_lossy(existing);
    let words: HashSet<&str> = text.split(|c: char| c.is_whitespace() || "<>;\"'".contains(c)).collect();
    let v6 = (site.address == DEFAULT_ADDRESS).then_some(IpAddr::V6(Ipv6Addr::LOCALHOST));
    let ports: Vec<String> =
        site.http_ports(80).into_iter().chain(site.https_ports(443)).map(|port| port.to_string()).collect();
    let of = |address: IpAddr| {
        let host = if address.is_ipv6() { format!("[{address}]") } else { address.to_string() };
        ports.iter().map(String::as_str).chain(["*"]).map(|port| format!("{host}:{port}")).collect::<Vec<_>>()
    };
    let own = std::iter::once(site.address).chain(v6).flat_map(of);
    let mut files = files.clone();
    files.server.specific = own.filter(|address| words.contains(address.as_str())).collect();
    files
}

/// A virtual host without what yandro wrote into it.
fn removal(existing: &[u8], section: &Section, written: &[Want]) -> Result<Splice, ParseError> {
    let whole = section.open.span.start..section.close.end;
    if let Some(own) = foreign(section, written) {
        let message = "this line was added by hand, and would be lost with its virtual host: move it, then try again";
        return Err(ParseError { message: message.into(), excerpt: Excerpt::new(existing, &own) });
    }
    // The blank line above goes with it.
    let blank = if existing[..whole.start].ends_with(b"\r\n\r\n") {
        2
    } else {
        usize::from(existing[..whole.start].ends_with(b"\n\n"))
    };
    Ok(Splice::remove(whole.start - blank..whole.end))
}

/// Separates the site's name from its list in the first line of its file.
const OWNER: &str = ": a site of ";
/// The end of that line.
const STAYS: &str = "; lines that you add here stay";

/// The comment with which a site's file begins.
pub(crate) fn head(name: &HostName, list: Option<&ListId>) -> String {
    match list {
        Some(list) => format!("# {name}{OWNER}{}{STAYS}", list.mark()),
        None => format!("# {name}: kept by `yandro map`{STAYS}"),
    }
}

/// The site list that a site's file belongs to, as its comments before the first virtual host say;
/// `None` for files of earlier builds, and where the user took that line out.
pub fn list_of(file: &[u8]) -> Option<ListId> {
    let text = String::from_utf8_lossy(file);
    let mut comments = text.lines().take_while(|line| line.starts_with(['#', ';']) || line.trim().is_empty());
    comments.find_map(|line| ListId::read(line.split_once(OWNER)?.1.trim_end().strip_suffix(STAYS)?))
}

/// The edit that names the owner of a file without one: it replaces the first line of an earlier build,
/// or adds a line at the start.
fn name_owner(existing: &[u8], (former, name): (&HostName, &HostName), list: &ListId, eol: &str) -> Option<Splice> {
    let now = head(name, Some(list));
    if list_of(existing).is_some() {
        let own = head(former, Some(list));
        let is_renamed = former != name && existing.starts_with(own.as_bytes());
        return is_renamed.then(|| Splice::replace(0..own.len(), now));
    }
    let former = head(former, None);
    if existing.starts_with(former.as_bytes()) {
        return Some(Splice::replace(0..former.len(), now));
    }
    let at = if existing.starts_with(b"\xef\xbb\xbf") { 3 } else { 0 };
    Some(Splice::insert(at, now + eol))
}

/// A new file.
fn rendered(dialect: &dyn Dialect, wanted: &[Want], name: &HostName, list: Option<&ListId>) -> String {
    let mut text = head(name, list) + "\n";
    for (at, host) in wanted.iter().enumerate() {
        if at > 0 {
            text.push('\n');
        }
        host.render_into(&mut text, dialect, "", "\n");
    }
    text
}

/// Directives of a site's file that the user has changed or removed; none in a file that can't be read.
pub(crate) fn hand_edits(dialect: &dyn Dialect, existing: &[u8], site: &Site, files: &SiteFiles) -> Vec<HandEdit> {
    let (wanted, name) = (dialect.hosts(site, files), &site.name);
    if existing == rendered(dialect, &wanted, name, files.list.as_ref()).as_bytes() {
        return Vec::new();
    }
    let Ok(tree) = dialect.parse(existing) else { return Vec::new() };
    let mut found = Vec::new();
    for want in &wanted {
        if let Want::Section(_, _, inner) = want
            && let Some(section) = find_host(dialect, &tree, dialect.wanted_port(want), name)
        {
            found.extend(changed_by_hand(dialect, existing, section, inner));
        }
    }
    found
}

/// The virtual host on a port, by name if there are several.
fn find_host<'t>(dialect: &dyn Dialect, tree: &'t Tree, port: Option<u16>, name: &HostName) -> Option<&'t Section> {
    let port = port?;
    let hosts = tree.all(dialect.host()).into_iter();
    let on_port: Vec<&Section> = hosts.filter(|host| dialect.ports(host).contains(&port)).collect();
    let named = |host: &&&Section| {
        host.directives(dialect.name()).any(|own| own.values().any(|own| own.eq_ignore_ascii_case(name.as_str())))
    };
    match on_port[..] {
        [only] => Some(only),
        _ => on_port.iter().find(named).copied(),
    }
}
