//! A problem in a server's configuration as a cause: present now, or
//! after the next reload.

use camino::{Utf8Path, Utf8PathBuf};

use super::cause::{ConfigurationRefusal, UnexpectedFolder};
use super::circumstances::{AnsweringHost, Configured, SiteFileState};
use super::codes::Cause;
use super::finding::{Diagnosis, Evidence};
use super::remedy::Remedy;
use crate::config::Place;
use crate::server_path::{ServerPath, path_before};
use crate::site::{ServerId, Site};

/// The ports that something is about.
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
    /// Whether nothing in it hinders a site.
    pub fn is_well(&self, site: &Site, server: ServerId) -> bool {
        self.in_the_way(site, server).is_none()
    }

    /// The first problem in it that hinders a site.
    pub(super) fn in_the_way(&self, site: &Site, server: ServerId) -> Option<Diagnosis> {
        self.refused(server, Some(true))
            .or_else(|| self.not_read(site, server))
            .or_else(|| self.not_listened(site, server))
            .or_else(|| self.tls_off(site))
            .or_else(|| self.other_answers(site, server, Of::All))
            .or_else(|| self.other_folder(site))
    }

    /// The server would refuse it.
    pub(super) fn refused(&self, server: ServerId, runs: Option<bool>) -> Option<Diagnosis> {
        self.refuses.as_ref().map(|words| refused(words, server, runs))
    }

    /// The server doesn't read the site's file.
    pub(super) fn not_read(&self, site: &Site, server: ServerId) -> Option<Diagnosis> {
        let site = site.name.clone();
        let diagnosis = match self.site_file.clone() {
            SiteFileState::Read => return None,
            SiteFileState::Missing(file) => Diagnosis::new(Cause::SiteFileMissing { site, file }),
            SiteFileState::NotEnabled { file, link } => {
                Diagnosis::new(Cause::SiteNotEnabled { site, file }).seen(Evidence::NoLink(link))
            }
            SiteFileState::NotIncluded { file, main } => {
                Diagnosis::new(Cause::SitesNotIncluded { server, file }).seen(Evidence::LookedFrom(main))
            }
        };
        Some(diagnosis.fix(Remedy::Settle))
    }

    /// No line has it listen on a port of the site's.
    pub(super) fn not_listened(&self, site: &Site, server: ServerId) -> Option<Diagnosis> {
        let port = *self.not_listened.first()?;
        Some(Diagnosis::new(Cause::PortNotListened { port, server }).fix(Remedy::map(&site.name, [])))
    }

    /// The site's own virtual host for HTTPS speaks no TLS.
    pub(super) fn tls_off(&self, site: &Site) -> Option<Diagnosis> {
        let ports = if site.https.is_on() { site.https_ports(443) } else { Vec::new() };
        let off = self.answering.iter().find(|own| own.is_own && !own.tls && ports.contains(&own.port))?;
        Some(put_back_at(Cause::TlsOff { site: site.name.clone() }, &off.place, site))
    }

    /// The site's own virtual host serves another folder.
    pub(super) fn other_folder(&self, site: &Site) -> Option<Diagnosis> {
        let wanted = site.document_root()?;
        let hosts = self.answering.iter().filter(|host| host.is_own);
        let mut with_folder = hosts.filter_map(|host| Some((host, host.document_root.as_ref()?)));
        let (host, other) = with_folder.find(|(_, other)| **other != wanted)?;
        let by = UnexpectedFolder::Served { other: other.clone(), wanted };
        Some(put_back_at(Cause::AnsweredElsewhere { host: site.name.clone(), by }, &host.place, site))
    }

    /// Another virtual host than the site's answers.
    pub(super) fn other_answers(&self, site: &Site, server: ServerId, of: Of) -> Option<Diagnosis> {
        let AnsweringHost { name, port, place, has_name, .. } =
            self.answering.iter().find(|other| !other.is_own && of.has(other.port))?;
        let (host, port) = (name.clone(), *port);
        if !has_name {
            return Some(put_back_at(Cause::DefaultAnswers { host, port }, place, site));
        }
        let diagnosis = Diagnosis::new(Cause::OtherSiteAnswers { host, port }).seen(Evidence::At(place.clone()));
        Some(diagnosis.fix(Remedy::Edit(place.clone()).and(Remedy::reload(server))))
    }
}

/// A line of the site's own virtual host that settling it again would remove.
pub(super) fn put_back_at(cause: Cause, place: &Place, site: &Site) -> Diagnosis {
    Diagnosis::new(cause).seen(Evidence::At(place.clone())).fix(Remedy::PutBack(site.name.clone()))
}

/// Messages of servers that don't matter here.
const BESIDE: [&str; 5] = [
    "AH00557",
    "AH00558",
    "Action '",
    "The Apache error log may",
    // nginx's to an ordinary user.
    "makes sense only if the master process runs",
];

/// Why a server refuses its configuration, by its own words.
pub(super) fn refused(words: &str, server: ServerId, runs: Option<bool>) -> Diagnosis {
    let is_telling = |line: &&str| !line.is_empty() && BESIDE.iter().all(|beside| !line.contains(beside));
    let lines: Vec<&str> = words.lines().map(str::trim).filter(is_telling).take(4).collect();
    let (refusal, again) = (ConfigurationRefusal::of(runs), Remedy::reload_or_start(server, runs));
    if let Some(folder) = missing_log_folder(words) {
        let first = lines.first().copied().unwrap_or_default();
        let create = Remedy::MakeFolder(folder.clone());
        let diagnosis = Diagnosis::new(Cause::LogFolderMissing { server, refusal, folder });
        return diagnosis.seen(Evidence::Words(first.to_owned())).fix(create.and(again));
    }
    let evidence = Evidence::Words(lines.join("\n"));
    if lines.iter().any(|line| line.contains("Invalid command 'SSL")) {
        let diagnosis = Diagnosis::new(Cause::ModuleOff { server, refusal: Some(refusal) });
        return diagnosis.seen(evidence).fix(Remedy::Settle);
    }
    let fix = match place_in(&lines.join("\n")) {
        Some(place) => Remedy::Edit(place).and(again),
        None => again,
    };
    Diagnosis::new(Cause::ConfigurationBroken { server, refusal }).seen(evidence).fix(fix)
}

/// The place that a server's words name: `line 3 of FILE` as Apache httpd says it, `in FILE:3` as nginx
/// does.
fn place_in(words: &str) -> Option<Place> {
    let apache = || {
        let (line, rest) = words.split_once(" line ")?.1.split_once(" of ")?;
        let file = path_before(rest, &[':', '\n']);
        Some(Place { file: file.trim().to_owned(), line: line.trim().parse().ok()? })
    };
    let nginx = || {
        let words = words.rsplit_once(" in ")?.1;
        let file = path_before(words, &[':']);
        let line = words[file.len()..].strip_prefix(':')?.split(|c: char| !c.is_ascii_digit()).next()?;
        Some(Place { file: file.trim().to_owned(), line: line.parse().ok()? })
    };
    apache().or_else(nginx)
}

/// The folder of a log that a server's words say isn't there.
fn missing_log_folder(words: &str) -> Option<Utf8PathBuf> {
    let line = words.lines().find(is_about_log)?;
    // A path between quotes may have blanks.
    let is_path = |word: &&str| ServerPath::new(word).is_absolute() && !word.ends_with(':');
    let path = line.split(['"', '\'']).find(is_path).or_else(|| line.split(['"', ' ', '\'']).find(is_path))?;
    let path = path.trim_end_matches(['.', ':', ',']);
    // Apache httpd names the folder where it tells of one, else both name the file.
    let folder =
        if line.contains("directory '") { path.trim_end_matches('/') } else { Utf8Path::new(path).parent()?.as_str() };
    Some(folder.into())
}

fn is_about_log(line: &&str) -> bool {
    ["No such file or directory", "cannot find the path specified"].iter().any(|own| line.contains(own))
        && ["log file", "error log", "access log", "open()", "CreateFile()"].iter().any(|own| line.contains(own))
        && line.contains("log")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_and_folders_are_read_on_every_system() {
        for (words, file, line) in [
            (
                "AH00526: Syntax error on line 5 of /etc/apache2/ports.conf:\nInvalid command 'Lisen'",
                "/etc/apache2/ports.conf",
                5,
            ),
            ("AH00526: Syntax error on line 7 of C:/web tools/httpd.conf:\nInvalid", "C:/web tools/httpd.conf", 7),
            (
                "nginx: [emerg] unknown directive \"x\" in /etc/nginx/nginx.conf:3\nnginx: test failed",
                "/etc/nginx/nginx.conf",
                3,
            ),
            ("nginx: [emerg] unexpected \"}\" in C:/nginx/conf/nginx.conf:12", "C:/nginx/conf/nginx.conf", 12),
        ] {
            let place = place_in(words).unwrap();
            assert_eq!((place.file.as_str(), place.line), (file, line), "{words}");
        }
        for (words, folder) in [
            ("nginx: [emerg] open() \"/srv/a b/logs/x.log\" failed (2: No such file or directory)", "/srv/a b/logs"),
            (
                "nginx: [emerg] CreateFile() \"C:/nginx/gone/x.log\" failed (3: The system cannot find the path specified)",
                "C:/nginx/gone",
            ),
        ] {
            assert_eq!(missing_log_folder(words), Some(folder.into()), "{words}");
        }
    }
}
