//! What a server's configuration says of a site, as a cause: of what is wrong now, or of what will
//! be once the server takes it up.

use super::circumstances::{AnsweringHost, Configured, SiteFileState};
use super::fault::Fault;
use super::finding::Code;
use super::remedy;
use crate::config::Place;
use crate::shell::word;
use crate::site::{ServerId, Site};

/// Which ports something is about.
#[derive(Clone, Copy, Debug)]
pub(super) enum Of {
    /// All of them.
    All,
    /// The one for HTTP or the one for HTTPS.
    Either([u16; 2]),
    /// The one for HTTPS.
    Tls(u16),
}

impl Of {
    fn has(self, port: u16) -> bool {
        match self {
            Self::All => true,
            Self::Either(ports) => ports.contains(&port),
            Self::Tls(own) => own == port,
        }
    }
}

impl Configured {
    /// Whether nothing in it stands in a site's way.
    pub fn is_well(&self, site: &Site, server: ServerId) -> bool {
        self.in_the_way(site, server).is_none()
    }

    /// The first thing in it that stands in a site's way.
    pub(super) fn in_the_way(&self, site: &Site, server: ServerId) -> Option<Fault> {
        self.refused(server, Some(true))
            .or_else(|| self.not_read(site, server))
            .or_else(|| self.not_listened(site, server))
            .or_else(|| self.tls_off(site))
            .or_else(|| self.other_answers(site, server, Of::All))
            .or_else(|| self.other_folder(site))
    }

    /// The server would refuse it.
    pub(super) fn refused(&self, server: ServerId, runs: Option<bool>) -> Option<Fault> {
        self.refuses.as_ref().map(|words| refused(words, server, runs))
    }

    /// The server doesn't read the site's file.
    pub(super) fn not_read(&self, site: &Site, server: ServerId) -> Option<Fault> {
        let name = &site.name;
        let settle = "yandro settle";
        match &self.site_file {
            SiteFileState::Read => None,
            SiteFileState::Missing(file) => {
                let words = format!("the virtual host file of `{name}` is gone: {file}");
                Some(Fault::new(Code::SiteFileMissing, words).mend(settle))
            }
            SiteFileState::NotEnabled { file, link } => {
                let words = format!("the virtual host file of `{name}` is not enabled: {file}");
                Some(Fault::new(Code::SiteNotEnabled, words).seen(format!("there is no link {link}")).mend(settle))
            }
            SiteFileState::NotIncluded { file, main } => {
                let words = format!("{server} doesn't read {file}: no line includes its folder");
                let seen = format!("looked for from {main} on");
                Some(Fault::new(Code::SitesNotIncluded, words).seen(seen).mend(settle))
            }
        }
    }

    /// No line has it listen on a port of the site's.
    pub(super) fn not_listened(&self, site: &Site, server: ServerId) -> Option<Fault> {
        let port = self.not_listened.first()?;
        let words = format!("no line of {server}'s configuration has it listen on port {port}");
        Some(Fault::new(Code::PortNotListened, words).mend(format!("yandro map {}", site.name)))
    }

    /// The site's own virtual host for HTTPS speaks no TLS.
    pub(super) fn tls_off(&self, site: &Site) -> Option<Fault> {
        let ports = if site.https.is_on() { site.https_ports(443) } else { Vec::new() };
        let off = self.answering.iter().find(|own| own.is_own && !own.tls && ports.contains(&own.port))?;
        let words = format!("the virtual host of `{}` for HTTPS has TLS off", site.name);
        Some(Fault::new(Code::TlsOff, words).seen(off.place.to_string()).mend(remedy::put_back(&site.name)))
    }

    /// The site's own virtual host serves another folder.
    pub(super) fn other_folder(&self, site: &Site) -> Option<Fault> {
        let own = site.document_root()?;
        let hosts = self.answering.iter().filter(|host| host.is_own);
        let mut with_folder = hosts.filter_map(|host| Some((host, host.document_root.as_ref()?)));
        let (host, other) = with_folder.find(|(_, other)| **other != own)?;
        let words = format!("the virtual host of `{}` serves {other}, and not {own}", site.name);
        Some(Fault::new(Code::AnsweredElsewhere, words).seen(host.place.to_string()).mend(remedy::put_back(&site.name)))
    }

    /// Another virtual host than the site's answers.
    pub(super) fn other_answers(&self, site: &Site, server: ServerId, of: Of) -> Option<Fault> {
        let AnsweringHost { name, port, place, has_name, .. } =
            self.answering.iter().find(|other| !other.is_own && of.has(other.port))?;
        if *has_name {
            let words = format!("another virtual host on port {port} has the name `{name}` as well, and answers first");
            let mend = format!("{} && {}", remedy::edit(place), remedy::reload(server));
            return Some(Fault::new(Code::OtherSiteAnswers, words).seen(place.to_string()).mend(mend));
        }
        let words = format!("no virtual host on port {port} has the name `{name}`, and the default one answers");
        let mend = remedy::put_back(&site.name);
        Some(Fault::new(Code::DefaultAnswers, words).seen(place.to_string()).mend(mend))
    }
}

/// What Apache httpd says beside the matter.
const BESIDE: [&str; 4] = ["AH00557", "AH00558", "Action '", "The Apache error log may"];

/// Why a server refuses its configuration, by its own words.
pub(super) fn refused(words: &str, server: ServerId, runs: Option<bool>) -> Fault {
    let is_telling = |line: &&str| !line.is_empty() && BESIDE.iter().all(|beside| !line.contains(beside));
    let lines: Vec<&str> = words.lines().map(str::trim).filter(is_telling).take(4).collect();
    let first = lines.first().copied().unwrap_or_default();
    let running = if runs == Some(true) { "goes on with what it read before" } else { "can't start" };
    if let Some(folder) = missing_log_folder(words) {
        let cause =
            format!("{server} refuses its configuration and {running}: the folder for logs {folder} isn't there");
        let mend = format!("mkdir -p {} && {}", word(&folder), remedy::bring_up(server, runs));
        return Fault::new(Code::LogFolderMissing, cause).seen(first).mend(mend);
    }
    if lines.iter().any(|line| line.contains("Invalid command 'SSL")) {
        let cause = format!("{server} hasn't its module for TLS switched on, and {running}");
        return Fault::new(Code::ModuleOff, cause).seen(lines.join("\n")).mend("yandro settle");
    }
    let cause = format!("{server} refuses its configuration and {running}");
    let bring_up = remedy::bring_up(server, runs);
    let mend = match place_in(&lines.join("\n")) {
        Some(place) => format!("{} && {bring_up}", remedy::edit(&place)),
        None => bring_up,
    };
    Fault::new(Code::ConfigurationBroken, cause).seen(lines.join("\n")).mend(mend)
}

/// The place that a server's words name: `line 3 of FILE` as Apache httpd says it, `in FILE:3` as nginx
/// does.
fn place_in(words: &str) -> Option<Place> {
    let apache = || {
        let (line, rest) = words.split_once(" line ")?.1.split_once(" of ")?;
        let file = rest.split([':', '\n']).next()?;
        Some(Place { file: file.trim().to_owned(), line: line.trim().parse().ok()? })
    };
    let nginx = || {
        let (file, rest) = words.rsplit_once(" in ")?.1.split_once(':')?;
        let line = rest.split(|c: char| !c.is_ascii_digit()).next()?;
        Some(Place { file: file.trim().to_owned(), line: line.parse().ok()? })
    };
    apache().or_else(nginx)
}

/// The folder of a log that a server's words say isn't there.
fn missing_log_folder(words: &str) -> Option<String> {
    let is_log = |line: &&str| {
        line.contains("No such file or directory")
            && ["log file", "error log", "access log", "open()"].iter().any(|own| line.contains(own))
            && line.contains("log")
    };
    let line = words.lines().find(is_log)?;
    let path = line.split(['"', ' ', '\'']).find(|word| word.starts_with('/') && !word.ends_with(':'))?;
    let path = path.trim_end_matches(['.', ':', ',']);
    // Apache httpd names the folder where it tells of one, else both name the file.
    let folder = if line.contains("directory '") {
        path.trim_end_matches('/')
    } else {
        camino::Utf8Path::new(path).parent()?.as_str()
    };
    Some(folder.to_owned())
}
