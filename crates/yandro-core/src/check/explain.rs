//! From symptoms to causes: what a server, its files and its log say about a finding.

use super::circumstances::{Circumstances, SiteFileState};
use super::finding::{Code, Finding, Severity};
use super::judge::SiteReport;
use crate::config::Place;
use crate::site::{Content, ServerId};

/// What each symptom may be a symptom of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Symptom {
    /// Nothing listens.
    Closed,
    /// Something else answers, or with something else.
    Wrong,
    /// An answer of the site's own server with an error.
    Status,
}

/// Puts causes in the place of symptoms, as far as the circumstances tell them. One cause for
/// several symptoms is told once.
pub fn explain(report: &mut SiteReport, http_port: u16, https_port: u16, around: &Circumstances) {
    let explanation = Explanation { report, ports: [http_port, https_port], around };
    let mut explained: Vec<Finding> = Vec::new();
    for symptom in &report.findings {
        let finding = explanation.of(symptom);
        let is_cause = finding.code != symptom.code;
        let is_known = |other: &Finding| other.code == finding.code && (is_cause || other.cause == finding.cause);
        if !explained.iter().any(is_known) {
            explained.push(finding);
        }
    }
    // What a graver cause brings with it is no finding of its own.
    let has = |wanted: Code| explained.iter().any(|own| own.code == wanted);
    let has_error = explained.iter().any(|own| own.severity == Severity::Error);
    let is_gone = has(Code::AddressGone);
    explained.retain(|own| match own.code {
        Code::FamilyHalf => !has_error,
        Code::TlsFails | Code::PortClosed | Code::Unreachable => !is_gone,
        _ => true,
    });
    report.findings = explained;
}

struct Explanation<'e> {
    report: &'e SiteReport,
    ports: [u16; 2],
    around: &'e Circumstances,
}

/// What Apache httpd says beside the matter.
const BESIDE: [&str; 4] = ["AH00557", "AH00558", "Action '", "The Apache error log may"];

/// Code, cause, evidence, remedy.
type Cause = (Code, String, Option<String>, Option<String>);

impl Explanation<'_> {
    fn of(&self, finding: &Finding) -> Finding {
        let symptom = match finding.code {
            Code::PortClosed => Symptom::Closed,
            Code::TlsFails
            | Code::TlsPlain
            | Code::CertificateUnknown
            | Code::CertificateName
            | Code::CertificateOld
            | Code::CertificateExpired
            | Code::RedirectMissing
            | Code::RedirectElsewhere
            | Code::AnsweredElsewhere
            | Code::UpstreamDiffers
            | Code::HttpFails
            | Code::HttpsFails => Symptom::Wrong,
            Code::HttpsStatus | Code::FolderForbidden | Code::UpstreamDown => Symptom::Status,
            _ => return finding.clone(),
        };
        let cause = match symptom {
            Symptom::Closed => self.closed(),
            Symptom::Wrong => self.wrong(finding.code).or_else(|| self.status(finding)),
            Symptom::Status => self.wrong_before(finding).or_else(|| self.status(finding)),
        };
        let mut finding = finding.clone();
        if let Some((code, cause, evidence, remedy)) = cause {
            (finding.code, finding.severity, finding.cause) = (code, code.severity(), cause);
            // On which ports it was seen stays with it.
            let ports = finding.evidence.as_ref().and_then(|seen| Some(seen[seen.find("on the ports ")?..].to_owned()));
            finding.evidence = match (evidence, ports) {
                (Some(seen), Some(ports)) => Some(format!("{seen}; {ports}")),
                (seen, ports) => seen.or(ports),
            };
            finding.remedy = remedy;
        }
        // What the server wrote about it belongs to whatever is told.
        if symptom != Symptom::Closed
            && let Some(line) = self.around.log.last()
            && !finding.evidence.as_ref().is_some_and(|seen| seen.contains(&line.text))
        {
            let line = line.to_string();
            finding.evidence = Some(finding.evidence.map_or(line.clone(), |seen| format!("{seen}\n{line}")));
        }
        finding
    }

    fn server(&self) -> ServerId {
        self.report.server
    }

    fn reload(&self) -> String {
        format!("yandro servers reload {}", self.server().word())
    }

    fn refused(&self) -> Option<Cause> {
        let words = self.around.refuses.as_ref()?;
        let is_telling = |line: &&str| !line.is_empty() && BESIDE.iter().all(|beside| !line.contains(beside));
        let lines: Vec<&str> = words.lines().map(str::trim).filter(is_telling).take(4).collect();
        let first = lines.first().copied().unwrap_or_default();
        let server = self.server();
        let running = if self.around.runs == Some(true) { "goes on with what it read before" } else { "can't start" };
        if let Some(folder) = missing_log_folder(words) {
            let cause =
                format!("{server} refuses its configuration and {running}: the folder for logs {folder} isn't there");
            let mend = format!("mkdir -p {folder} && {}", self.bring_up());
            return Some((Code::LogFolderMissing, cause, Some(first.to_owned()), Some(mend)));
        }
        if lines.iter().any(|line| line.contains("Invalid command 'SSL")) {
            let cause = format!("{server} hasn't its module for TLS switched on, and {running}");
            let mend = format!("yandro map {}", self.report.site.name);
            return Some((Code::ModuleOff, cause, Some(lines.join("\n")), Some(mend)));
        }
        let cause = format!("{server} refuses its configuration and {running}");
        let edit = place_in(&lines.join("\n"))
            .map_or_else(|| "mend that line, then:".to_owned(), |place| edit(&place) + " &&");
        let mend = format!("{edit} {}", self.bring_up());
        Some((Code::ConfigurationBroken, cause, Some(lines.join("\n")), Some(mend)))
    }

    fn bring_up(&self) -> String {
        let verb = if self.around.runs == Some(false) { "start" } else { "reload" };
        format!("yandro servers {verb} {}", self.server().word())
    }

    fn closed(&self) -> Option<Cause> {
        let server = self.server();
        if !server.is_configured() {
            return None;
        }
        let refused = self.key_mismatch().or_else(|| self.refused());
        if refused.is_some() {
            return refused;
        }
        if self.around.runs == Some(false) {
            let cause = format!("{server} doesn't run");
            return Some((Code::ServerDown, cause, None, Some(self.bring_up())));
        }
        self.not_read().or_else(|| self.not_listened()).or_else(|| self.not_reloaded())
    }

    /// The server doesn't read the site's file.
    fn not_read(&self) -> Option<Cause> {
        let (site, settle) = (&self.report.site.name, Some("yandro settle".to_owned()));
        match &self.around.site_file {
            SiteFileState::Read => None,
            SiteFileState::Missing(file) => {
                let cause = format!("the virtual host file of `{site}` is gone: {file}");
                Some((Code::SiteFileMissing, cause, None, settle))
            }
            SiteFileState::NotEnabled { file, link } => {
                let cause = format!("the virtual host file of `{site}` is not enabled: {file}");
                Some((Code::SiteNotEnabled, cause, Some(format!("there is no link {link}")), settle))
            }
            SiteFileState::NotIncluded { file, main } => {
                let cause = format!("{} doesn't read {file}: no line includes its folder", self.server());
                Some((Code::SitesNotIncluded, cause, Some(format!("looked for from {main} on")), settle))
            }
        }
    }

    fn key_mismatch(&self) -> Option<Cause> {
        if self.around.key_fits != Some(false) {
            return None;
        }
        let site = &self.report.site.name;
        let cause = format!("the key of `{site}` on disk is not the one that its certificate is for");
        Some((Code::KeyMismatch, cause, None, Some(format!("yandro check {site} --mend"))))
    }

    fn not_listened(&self) -> Option<Cause> {
        let port = self.around.not_listened.first()?;
        let server = self.server();
        let cause = format!("{server} runs, and no line of its configuration has it listen on port {port}");
        let mend = format!("yandro map {}", self.report.site.name);
        Some((Code::PortNotListened, cause, None, Some(mend)))
    }

    fn not_reloaded(&self) -> Option<Cause> {
        let file = self.around.newer.as_ref()?;
        let cause = format!("{} was not reloaded since {file} was changed", self.server());
        Some((Code::NotReloaded, cause, None, Some(self.reload())))
    }

    /// Another program has the port.
    fn held(&self) -> Option<Cause> {
        let server = self.server();
        let has_own =
            |port: u16| self.around.holders.iter().any(|holder| holder.port == port && holder.server == Some(server));
        let other = self.around.holders.iter().find(|holder| holder.server != Some(server) && !has_own(holder.port))?;
        let (port, words) = (other.port, &other.words);
        let cause = format!("port {port} is held by {words}, and not by {server}");
        let seen = other.server.map(|id| format!("it is {id}; its virtual hosts: yandro vhosts"));
        let mend = match other.server {
            Some(id) => format!(
                "yandro servers stop {}; or map the site on that one: yandro map {} --server {}",
                id.word(),
                self.report.site.name,
                id.word()
            ),
            None => format!(
                "stop it, then: yandro servers start {}; or choose other ports: --http-port, --https-port",
                server.word()
            ),
        };
        Some((Code::PortHeld, cause, seen, Some(mend)))
    }

    /// Why it is another virtual host, or none, that answers.
    fn wrong(&self, code: Code) -> Option<Cause> {
        if !self.server().is_configured() {
            return None;
        }
        let held = self.held();
        if held.is_some() {
            return held;
        }
        if self.around.runs == Some(false) {
            return self.closed();
        }
        let refused = self.key_mismatch().or_else(|| self.refused());
        if refused.is_some() {
            return refused;
        }
        if let Some(cause) = self.not_read() {
            return Some(cause);
        }
        let (site, settle) = (&self.report.site.name, Some("yandro settle".to_owned()));
        let is_tls = matches!(code, Code::TlsFails | Code::TlsPlain | Code::CertificateName | Code::CertificateUnknown);
        if is_tls && self.around.has_tls == Some(false) {
            let cause = format!("{} hasn't its module for TLS switched on", self.server());
            return Some((Code::ModuleOff, cause, None, Some(format!("yandro map {site}"))));
        }
        if let Some(cause) = self.not_listened() {
            return Some(cause);
        }
        if let Some(place) = self.around.tls_off.as_ref().filter(|_| is_tls) {
            let cause = format!("the virtual host of `{site}` for HTTPS has TLS off");
            return Some((Code::TlsOff, cause, Some(place.to_string()), settle));
        }
        let of_ports = |port: u16| if is_tls { port == self.ports[1] } else { self.ports.contains(&port) };
        if let Some(other) = self.around.others.iter().find(|other| of_ports(other.port)) {
            let (place, port) = (&other.place, other.port);
            if other.has_name {
                let cause =
                    format!("another virtual host on port {port} has the name `{site}` as well, and answers first");
                let mend = format!("{} && {}", edit(place), self.reload());
                return Some((Code::OtherSiteAnswers, cause, Some(place.to_string()), Some(mend)));
            }
            let cause = format!("no virtual host on port {port} has the name `{site}`, and the default one answers");
            return Some((Code::DefaultAnswers, cause, Some(place.to_string()), settle));
        }
        // An application behind the server answers as it likes: that is no matter of reloading.
        if code == Code::UpstreamDiffers { None } else { self.not_reloaded() }
    }

    /// A status that is another server's, or of an old configuration.
    fn wrong_before(&self, finding: &Finding) -> Option<Cause> {
        if finding.code != Code::HttpsStatus || self.around.log.is_empty() && self.around.has_index.is_none() {
            return None;
        }
        self.held()
    }

    /// Why the site's own server answers with an error.
    fn status(&self, finding: &Finding) -> Option<Cause> {
        let site = &self.report.site;
        let is_folder = matches!(site.content, Content::Folder { .. });
        let log = |words: &[&str]| {
            let fits = |text: &str| words.iter().any(|word| text.contains(word));
            self.around.log.iter().rev().find(|line| fits(&line.text)).map(ToString::to_string)
        };
        let is_forbidden = finding.cause.contains("403") || finding.code == Code::FolderForbidden;
        let has_status = |status: &str| {
            finding.cause.contains(status) || finding.evidence.as_ref().is_some_and(|seen| seen.contains(status))
        };
        if let Some(seen) = self.around.confined.as_ref().filter(|_| is_forbidden) {
            let cause = format!("the system's guard keeps {} from {}", self.server(), site.content);
            return Some((Code::Confined, cause, Some(seen.clone()), None));
        }
        if is_forbidden && let Some(place) = &self.around.denied {
            let cause = format!("a line of the configuration forbids {}", site.content);
            let mend = format!("{} && {}", edit(place), self.reload());
            return Some((Code::AccessDenied, cause, Some(place.to_string()), Some(mend)));
        }
        if let (true, Some(file)) = (has_status("500"), &self.around.override_file)
            && let Some(seen) = log(&[".htaccess", "override", "not allowed here", "Invalid command"])
        {
            let cause = format!("the override file {file} has a line that {} can't take", self.server());
            return Some((
                Code::OverrideFault,
                cause,
                Some(seen),
                Some(edit(&Place { file: file.to_string(), line: 1 })),
            ));
        }
        if let (true, Some(socket)) = (has_status("502") || has_status("503"), &self.around.php_down) {
            let cause = format!("PHP is passed on to {socket}, and nothing answers there");
            let seen = log(&["fastcgi", "fcgi", "FCGI", "connect()"]);
            return Some((
                Code::PhpDown,
                cause,
                seen,
                Some("start php-fpm; or name the one that runs: --php=SOCKET".into()),
            ));
        }
        let is_bare = finding.code == Code::HttpsStatus && is_folder;
        if is_bare && self.around.has_index == Some(false) && (has_status("403") || has_status("404")) {
            let cause = format!("{} has no index page, and folders are not listed", site.content);
            let mend = format!("put an `index.html` there, or have it listed: yandro map {} --listing on", site.name);
            return Some((Code::IndexMissing, cause, None, Some(mend)));
        }
        None
    }
}

/// The command that opens a file at a line, in the editor that the person has chosen.
fn edit(place: &Place) -> String {
    let is_plain = place.file.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"/._-+".contains(&byte));
    let file = if is_plain { place.file.clone() } else { format!("'{}'", place.file.replace('\'', r"'\''")) };
    format!("${{EDITOR:-vi}} +{} {file}", place.line)
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
