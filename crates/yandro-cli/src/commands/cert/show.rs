//! `yandro cert show`.

use camino::Utf8Path;
use yandro_core::{CertificateDer, CertificateFacts, HostName, HostPort, Objection, date, objections};
use yandro_machine::{certificates, files};

use super::HeldCertificate;
use crate::context::{Context, now};
use crate::error::{CommandError, Status};
use crate::signals;
use crate::view::change::labelled;
use crate::view::{BAD, COMMAND, Data, GOOD, Outcome, STRONG, Ui, WARN, data};

/// A certificate to show, and where it is from.
struct Shown {
    title: String,
    chain: Vec<CertificateDer<'static>>,
    /// Further lines of it.
    paths: Vec<(&'static str, String)>,
    key: Option<Vec<u8>>,
    site: Option<String>,
}

pub(super) fn show<'c>(
    context: &'c Context,
    what: &'c str,
    is_paths: bool,
    key: Option<&'c Utf8Path>,
) -> Result<Outcome<'c>, CommandError> {
    let mut shown = find(context, what)?;
    if let Some(path) = key {
        let path = context.given(path);
        let text = files::read_given(&path, 1 << 20)?;
        shown.key = Some(text.ok_or_else(|| CommandError::usage(format!("no such file: `{path}`")))?);
    }
    if is_paths {
        let Some(name) = &shown.site else {
            return Err(
                CommandError::usage("`--paths` goes with a site's name").hint("see which there are: yandro sites")
            );
        };
        let lines = [&[("host name", name.clone())], &shown.paths[..]].concat();
        let data = PathsData {
            site: name.clone(),
            certificate: shown.path("certificate"),
            key: shown.path("key"),
            root: shown.path("root"),
        };
        return Ok(Outcome::new(data, move |_, ui| ui.say(&labelled(&lines))));
    }
    let facts = CertificateFacts::read(&shown.chain[0]).map_err(CommandError::not_made)?;
    let mut found = objections(&shown.chain, now()).map_err(CommandError::not_made)?;
    match shown.key.as_ref().map(|key| certificates::is_key_of(&shown.chain, key)) {
        Some(Some(false)) => found.push(Objection {
            code: "other-key",
            is_refused: true,
            words: "the key is not the one that it is for: no server starts with the two".into(),
        }),
        Some(None) => {
            return Err(CommandError::usage("the key can't be read: it has to be in PEM, without a passphrase"));
        }
        Some(Some(true)) | None => {}
    }
    let is_refused = found.iter().any(|objection| objection.is_refused);
    let status = if is_refused { Status::Findings } else { Status::Well };
    let data = to_data(&shown, &facts, &found);
    Ok(Outcome::new(data, move |_, ui| print(&shown, &facts, &found, ui)).with(status))
}

/// The certificate that a server sends at `HOST`, or `HOST:PORT`.
fn served(address: &str) -> Result<Shown, CommandError> {
    let (host, port) = HostPort::split(address);
    let no_port = |port: &str| CommandError::usage(format!("`{port}` is not a port"));
    let port = port.map_or(Ok(443), |port| port.parse().map_err(|_| no_port(port)))?;
    let name = HostName::parse(host)?;
    let runtime = signals::runtime()?;
    let served = runtime.block_on(signals::unless_interrupted(certificates::served(&name, port)));
    let hint = format!("see what answers there: yandro check https://{name}:{port}/");
    let chain = served
        .ok_or_else(|| CommandError::not_made("interrupted"))?
        .map_err(|error| CommandError::not_made(error).hint(hint))?;
    let title = format!("{name}:{port}, as it is served");
    Ok(Shown { title, chain, paths: Vec::new(), key: None, site: None })
}

/// The subject: a site, a file, or a server.
fn find(context: &Context, what: &str) -> Result<Shown, CommandError> {
    if let Some(rest) = what.strip_prefix("https://") {
        return served(rest.split('/').next().unwrap_or_default());
    }
    let path = context.given(Utf8Path::new(what));
    if what.contains('/') || path.is_file() {
        let chain = certificates::of_file(&path).map_err(CommandError::usage)?;
        return Ok(Shown { title: path.to_string(), chain, paths: Vec::new(), key: None, site: None });
    }
    let (_, list) = context.list()?;
    let (host, port) = HostPort::split(what);
    if let Ok(name) = HostName::parse(host)
        && (port.is_some() || list.owner(&name).is_none())
    {
        return served(what);
    }
    let held = HeldCertificate::find(context, what)?;
    Ok(Shown {
        title: held.site.name.to_unicode(),
        chain: certificates::of_file(&held.chain).map_err(CommandError::not_made)?,
        key: files::read_if_there(&held.key)?,
        paths: vec![
            ("certificate", held.chain.to_string()),
            ("key", held.key.to_string()),
            ("root", held.root.to_string()),
        ],
        site: Some(held.site.name.to_string()),
    })
}

fn validity(facts: &CertificateFacts) -> String {
    let days = facts.days_left(now());
    match (facts.not_before > now(), days < 0) {
        (true, _) => format!("not before {}", date(facts.not_before)),
        (false, true) => format!("ended on {}, {} days ago", date(facts.not_after), -days),
        (false, false) => format!("until {}, {days} days", date(facts.not_after)),
    }
}

fn print(shown: &Shown, facts: &CertificateFacts, found: &[Objection], ui: &mut Ui) {
    ui.say(&format!("{STRONG}{}{STRONG:#}", shown.title));
    let addresses = facts.addresses.iter().map(ToString::to_string);
    let covered: Vec<String> = facts.names.iter().cloned().chain(addresses).collect();
    let covers = if covered.is_empty() { "nothing".to_owned() } else { covered.join(", ") };
    let behind: Vec<String> =
        shown.chain[1..].iter().filter_map(|own| Some(CertificateFacts::read(own).ok()?.subject)).collect();
    let is_sent = behind.first() == Some(&facts.issuer);
    let issuer = if is_sent { format!("{} (sent with it)", facts.issuer) } else { facts.issuer.clone() };
    let behind = behind.into_iter().skip(usize::from(is_sent));
    let mut lines = vec![("covers", covers), ("valid", validity(facts)), ("issued by", issuer)];
    lines.extend(behind.map(|subject| ("behind it", subject)));
    ui.say(&labelled(&[&lines[..], &shown.paths[..]].concat()));
    for objection in found {
        let sign = if objection.is_refused { format!("{BAD}✗{BAD:#}") } else { format!("{WARN}!{WARN:#}") };
        ui.print(&format!("{sign} {}", objection.words));
    }
    if !found.iter().any(|objection| objection.is_refused) {
        ui.say(&format!("{GOOD}Valid for every client that trusts the authority.{GOOD:#}"));
    }
    if let Some(site) = &shown.site {
        let command = format!("{COMMAND}yandro cert env {site}{COMMAND:#}");
        ui.say(&format!("\nFor a dev server that speaks TLS itself: {command}"));
    }
}

impl Shown {
    fn path(&self, label: &str) -> Option<String> {
        self.paths.iter().find(|(own, _)| *own == label).map(|(_, path)| path.clone())
    }
}

data! {
    /// Data of `yandro cert show --paths`.
    struct PathsData {
        site: String,
        certificate: Option<String>,
        key: Option<String>,
        root: Option<String>,
    }

    /// Data of `yandro cert show`.
    struct CertificateData {
        /// The subject: a site, a file or a server.
        what: String,
        site: Option<String>,
        /// The files, of a site.
        certificate: Option<String>,
        key: Option<String>,
        root: Option<String>,
        names: Vec<String>,
        addresses: Vec<std::net::IpAddr>,
        subject: String,
        issuer: String,
        not_before: String,
        not_after: String,
        days_left: i64,
        /// Objections of browsers and other clients.
        objections: Vec<ObjectionData>,
    }

    /// An objection of clients.
    struct ObjectionData {
        code: &'static str,
        /// Whether they refuse it for that.
        refused: bool,
        words: String,
    }
}

impl Data for PathsData {}
impl Data for CertificateData {}

fn to_data(shown: &Shown, facts: &CertificateFacts, found: &[Objection]) -> CertificateData {
    let objection =
        |own: &Objection| ObjectionData { code: own.code, refused: own.is_refused, words: own.words.clone() };
    CertificateData {
        what: shown.title.clone(),
        site: shown.site.clone(),
        certificate: shown.path("certificate"),
        key: shown.path("key"),
        root: shown.path("root"),
        names: facts.names.clone(),
        addresses: facts.addresses.clone(),
        subject: facts.subject.clone(),
        issuer: facts.issuer.clone(),
        not_before: date(facts.not_before),
        not_after: date(facts.not_after),
        days_left: facts.days_left(now()),
        objections: found.iter().map(objection).collect(),
    }
}
