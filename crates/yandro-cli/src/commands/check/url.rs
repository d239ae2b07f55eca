//! `yandro check URL`: what answers a URL, whether it is a site or not.

use std::net::IpAddr;

use yandro_core::{
    Answer, CertificateFacts, Connection, Failure, FailureKind, HostName, ResolverAnswer, SiteList, Verdict, WebUrl,
};
use yandro_machine::{AddressLook, Limit, Progress, Scene, UrlLook, look_at_url};

use crate::args::CheckArgs;
use crate::commands::look;
use crate::commands::serve::taken;
use crate::context::{Context, now};
use crate::error::{CommandError, Status};
use crate::signals;
use crate::view::change::labelled;
use crate::view::{BAD, COMMAND, Data, GOOD, Outcome, STRONG, Ui, WARN, data};

/// Whether an argument of `yandro check` is a URL.
pub(super) fn is_url(argument: &str) -> bool {
    argument.contains("://")
}

pub(super) fn run<'c>(context: &'c Context, args: &CheckArgs) -> Result<Outcome<'c>, CommandError> {
    let has_more = args.fix || args.watch || args.report.is_some() || args.junit.is_some();
    if let Some(name) = args.names.iter().find(|name| !is_url(name)) {
        return Err(CommandError::usage("site names and URLs can't be checked in one command")
            .hint(format!("check the site by itself: yandro check {name}")));
    }
    if has_more {
        return Err(CommandError::usage("`--fix`, `--watch`, `--report` and `--junit` need sites, and a URL is given")
            .hint("leave them out, or name a site: yandro check NAME"));
    }
    let urls: Vec<WebUrl> =
        args.names.iter().map(|url| WebUrl::parse(url)).collect::<Result<_, _>>().map_err(CommandError::usage)?;
    let (_, list) = context.list()?;
    let present = context.look_for_servers();
    let progress = Progress::default();
    let scene = Scene {
        machine: &context.machine,
        present: &present,
        now: now(),
        listed: &look::listed(context),
        progress: &progress,
    };
    let runtime = signals::runtime()?;
    let mut all = Vec::new();
    for url in urls {
        let looking = async {
            // A page of the built-in server may be asked for.
            taken::wait(context).await;
            look_at_url(scene, url, Limit::seconds(args.timeout)).await
        };
        let look = runtime.block_on(signals::unless_interrupted(looking));
        let look = look.ok_or_else(|| CommandError::not_made("interrupted"))??;
        let own = own_site(context, &list, &look.url);
        let problems = problems(&look, own.as_ref());
        all.push((look, problems));
    }
    let is_well = all.iter().all(|(_, problems)| problems.is_empty());
    let data = CheckedUrls { urls: all.iter().map(|(look, problems)| url_data(look, problems)).collect() };
    let text = move |_: &CheckedUrls, ui: &mut Ui| {
        for (place, (look, problems)) in all.iter().enumerate() {
            if place > 0 {
                ui.say("");
            }
            show(look, problems, &list, ui);
        }
    };
    Ok(Outcome::new(data, text).with(if is_well { Status::Well } else { Status::Findings }))
}

/// The site that a URL's host belongs to, with its URL.
struct OwnSite {
    name: String,
    url: String,
}

/// A problem, with its fixes.
struct UrlProblem {
    message: String,
    fixes: Vec<String>,
}

fn problem(message: impl Into<String>, fixes: &[String]) -> UrlProblem {
    UrlProblem { message: message.into(), fixes: fixes.to_vec() }
}

fn own_site(context: &Context, list: &SiteList, url: &WebUrl) -> Option<OwnSite> {
    let name = HostName::parse(url.host_port.host()).ok()?;
    let site = list.answering(&name)?;
    Some(OwnSite { name: site.name.to_string(), url: context.url_of(site, &name) })
}

/// The problems of the URL, each cause once.
fn problems(look: &UrlLook, own: Option<&OwnSite>) -> Vec<UrlProblem> {
    let (host, port) = (look.url.host_port.host(), look.url.host_port.port());
    if let (true, Some(own)) = (look.addresses.is_empty(), own) {
        let message = format!("`{host}` has no address, although it is a site");
        return vec![problem(message, &[format!("to write its hosts lines again: yandro map {}", own.name)])];
    }
    if look.addresses.is_empty() {
        let why = match &look.resolver {
            ResolverAnswer::Failed(words) => format!("the resolver says: {words}"),
            _ => "the hosts file has no line for it".to_owned(),
        };
        let fixes = if is_mappable(&look.url) {
            vec![
                format!("to map it to a folder: yandro map {host} FOLDER"),
                format!("to point it to another machine: yandro hosts point {host} ADDRESS"),
            ]
        } else {
            vec!["to see what the hosts file lacks: yandro hosts lint".to_owned()]
        };
        return vec![problem(format!("`{host}` has no address: {why}"), &fixes)];
    }
    let closed: Vec<&AddressLook> = look.addresses.iter().filter(|at| at.connect.is_err()).collect();
    let mut found = Vec::new();
    if closed.len() == look.addresses.len() {
        let failure = closed.iter().find_map(|at| at.connect.as_ref().err());
        let what = failure.map_or_else(String::new, |failure| connect_words(failure, port));
        let addresses: Vec<String> = closed.iter().map(|at| at.address.to_string()).collect();
        let elsewhere = own.filter(|own| WebUrl::parse(&own.url).is_ok_and(|url| url.host_port.port() != port));
        let mut fixes: Vec<String> =
            elsewhere.map(|own| format!("the site's own URL is {0}: yandro check {0}", own.url)).into_iter().collect();
        fixes.push("to see what listens on which port: yandro ports".into());
        fixes.push("to see which servers run: yandro servers".into());
        found.push(problem(format!("{}: {what}", addresses.join(" and ")), &fixes));
    }
    for at in &look.addresses {
        found.extend(at_address(look, at, own));
    }
    let mut answers: Vec<String> = look.addresses.iter().filter_map(|at| summary(at.answer.as_ref()?)).collect();
    answers.dedup();
    if answers.len() > 1 {
        found.push(problem(
            format!(
                "the addresses answer differently ({}): which answer a client gets depends on the client",
                answers.join("; ")
            ),
            &["to see which virtual host has which address: yandro vhosts".into()],
        ));
    }
    let mut told: Vec<String> = Vec::new();
    found.retain(|own| {
        !told.contains(&own.message) && {
            told.push(own.message.clone());
            true
        }
    });
    found
}

fn summary(answer: &Result<Answer, Failure>) -> Option<String> {
    let answer = answer.as_ref().ok()?;
    Some(format!("{} {}", answer.status, answer.location.as_deref().unwrap_or_default()).trim_end().to_owned())
}

/// Whether a site can have the URL's host as its name: not an address, and not `localhost`.
fn is_mappable(url: &WebUrl) -> bool {
    HostName::parse(url.host_port.host()).is_ok()
}

/// The problems at one address that accepts connections. Where the default virtual host answers, that explains its
/// certificate and its status.
fn at_address(look: &UrlLook, at: &AddressLook, own: Option<&OwnSite>) -> Vec<UrlProblem> {
    let (url, host) = (&look.url, look.url.host_port.host());
    let mut found = Vec::new();
    if let Some(facts) = at.host.as_ref().filter(|facts| !facts.is_named && is_mappable(url)) {
        let port = url.host_port.port();
        let message =
            format!("no virtual host on port {port} has the name `{host}`: the default one answers, {}", facts.place);
        let fix = match own {
            Some(own) => format!("the site's own URL is {}: yandro open {host}", own.url),
            None => format!("to map the name: yandro map {host} FOLDER"),
        };
        return vec![problem(message, &[fix])];
    }
    match &at.tls {
        Some(Err(failure)) if failure.kind == FailureKind::PlainHttp => found.push(problem(
            format!("port {} speaks plain HTTP, not TLS", url.host_port.port()),
            &[format!("to see what it answers over HTTP: yandro check http://{}{}", url.host_port, url.path)],
        )),
        Some(Err(failure)) => found.push(problem(
            format!("the TLS handshake failed: {}", failure.words),
            &["to test the server's configuration: yandro servers test NAME".into()],
        )),
        Some(Ok(connection)) => found.extend(of_certificate(url, connection)),
        None => {}
    }
    match &at.answer {
        Some(Err(failure)) => found.push(problem(
            format!("no HTTP answer: {}", failure.words),
            &[format!("to see what listens on port {}: yandro ports", url.host_port.port())],
        )),
        Some(Ok(answer)) if answer.status >= 400 => {
            let root = at.host.as_ref().and_then(|facts| facts.serves.as_deref());
            let from = root.map_or_else(String::new, |root| format!(", from {root}"));
            found.push(problem(
                format!("the answer to {} is status {}{from}", url.path, answer.status),
                &["to see the virtual host that answers: yandro vhosts".into()],
            ));
        }
        _ => {}
    }
    found
}

/// The problem of the certificate. One of another authority may be trusted all the same, for instance on the
/// internet.
fn of_certificate(url: &WebUrl, connection: &Connection) -> Option<UrlProblem> {
    let host = url.host_port.host();
    let leaf = connection.chain.leaf.as_ref();
    let is_own = leaf.is_some_and(|leaf| leaf.issuer == leaf.subject);
    let message = match &connection.chain.verdict {
        Verdict::Name => format!("the certificate isn't for `{host}`: {}", covered(leaf)),
        Verdict::Time => "the certificate has expired, or isn't valid yet".to_owned(),
        Verdict::Constraints => format!("yandro's authority can't issue for `{host}`"),
        Verdict::Other(words) => format!("the certificate isn't valid: {words}"),
        Verdict::UnknownIssuer | Verdict::NoAuthority if is_own => {
            "the certificate is self-signed: no client trusts it".to_owned()
        }
        Verdict::Trusted | Verdict::UnknownIssuer | Verdict::NoAuthority => return None,
    };
    let mut fixes = vec![format!("to see the certificate: yandro cert show https://{}", url.host_port)];
    if is_mappable(url) {
        fixes.push(format!("to serve the name with a trusted certificate: yandro map {host} FOLDER"));
    }
    Some(problem(message, &fixes))
}

fn covered(leaf: Option<&CertificateFacts>) -> String {
    match leaf.map(|leaf| &leaf.names[..]) {
        None | Some([]) => "it names no host".to_owned(),
        Some(names) => format!("it is for {}", names.join(", ")),
    }
}

fn connect_words(failure: &Failure, port: u16) -> String {
    match failure.kind {
        FailureKind::Refused => format!("nothing listens on port {port}"),
        FailureKind::TimedOut => format!("no connection to port {port} ({}): a firewall may drop it", failure.words),
        _ => format!("no connection to port {port}: {}", failure.words),
    }
}

fn show(look: &UrlLook, problems: &[UrlProblem], list: &SiteList, ui: &mut Ui) {
    let name = HostName::parse(look.url.host_port.host()).ok();
    let owner = name.as_ref().and_then(|name| list.answering(name));
    let what = match owner {
        Some(site) => format!("site {}, {}", site.name.to_unicode(), site.content),
        None => "not a site of yours".to_owned(),
    };
    ui.say(&format!("{STRONG}{}{STRONG:#}  {what}", look.url));
    let lines = lines(look);
    let shown: Vec<(&str, String)> = lines.iter().map(|(label, text)| (label.as_str(), text.clone())).collect();
    ui.say(&labelled(&shown));
    for own in problems {
        let fixes: String = own.fixes.iter().map(|fix| format!("\n    {COMMAND}fix:{COMMAND:#} {fix}")).collect();
        ui.print(&format!("{BAD}✗{BAD:#} {}{fixes}", own.message));
    }
    if problems.is_empty() {
        ui.say(&format!("{GOOD}✓ It answers.{GOOD:#}"));
    }
    if let Some(site) = owner {
        ui.say(&format!("To prove that it is served from there: {COMMAND}yandro check {}{COMMAND:#}", site.name));
    }
}

fn lines(look: &UrlLook) -> Vec<(String, String)> {
    let mut lines = Vec::new();
    if look.url.host_port.address().is_none() {
        let hosts: Vec<String> =
            look.hosts.lines.iter().map(|(address, line)| format!("{address} (line {line})")).collect();
        let hosts = if hosts.is_empty() { "no line".to_owned() } else { hosts.join(", ") };
        lines.push(("hosts file".to_owned(), hosts));
        let resolver = match &look.resolver {
            ResolverAnswer::Addresses(all) => all.iter().map(IpAddr::to_string).collect::<Vec<_>>().join(", "),
            ResolverAnswer::Failed(words) => format!("{WARN}{words}{WARN:#}"),
            ResolverAnswer::NotAsked => "not asked within a sysroot".to_owned(),
        };
        lines.push(("resolver".to_owned(), resolver));
    }
    // Addresses with the same answer stand together.
    let mut blocks: Vec<(Vec<String>, Vec<String>)> = Vec::new();
    for at in &look.addresses {
        let (address, texts) = (at.address.to_string(), address_lines(at, look.url.host_port.port()));
        match blocks.iter_mut().find(|(_, other)| *other == texts) {
            Some((addresses, _)) => addresses.push(address),
            None => blocks.push((vec![address], texts)),
        }
    }
    for (addresses, texts) in blocks {
        let label = |turn| if turn == 0 { addresses.join(", ") } else { String::new() };
        lines.extend(texts.into_iter().enumerate().map(|(turn, text)| (label(turn), text)));
    }
    lines
}

fn address_lines(at: &AddressLook, port: u16) -> Vec<String> {
    let mut texts = vec![match (&at.connect, &at.holder) {
        (Err(failure), _) => format!("{WARN}{}{WARN:#}", connect_words(failure, port)),
        (Ok(()), Some(holder)) => {
            let server = at.server.map_or_else(String::new, |id| format!("{id}: "));
            format!("port {port} is open, {server}{holder}")
        }
        (Ok(()), None) => format!("port {port} is open"),
    }];
    match &at.tls {
        Some(Ok(connection)) => texts.push(tls_line(connection)),
        Some(Err(failure)) => texts.push(format!("{WARN}no TLS: {}{WARN:#}", failure.words)),
        None => {}
    }
    if let Some(Ok(answer)) = &at.answer {
        let to = answer.location.as_ref().map_or_else(String::new, |to| format!(", redirects to {to}"));
        let server = answer.server.as_ref().map_or_else(String::new, |server| format!(", Server: {server}"));
        texts.push(format!("status {}{to}{server}", answer.status));
    }
    if let Some(facts) = &at.host {
        let how = if facts.is_named { "virtual host" } else { "default virtual host" };
        let serves = facts.serves.as_ref().map_or_else(String::new, |serves| format!(", {serves}"));
        texts.push(format!("{how} {}{serves}", facts.place));
    }
    texts
}

fn tls_line(connection: &Connection) -> String {
    let leaf = connection.chain.leaf.as_ref();
    let trust = match connection.chain.verdict {
        Verdict::Trusted => "issued by yandro's authority".to_owned(),
        _ => leaf.map_or_else(String::new, |leaf| format!("issued by {}", leaf.issuer)),
    };
    format!("{}, certificate {}, {trust}", connection.version, covered(leaf).trim_start_matches("it is "))
}

data! {
    /// Data of `yandro check URL`.
    struct CheckedUrls {
        urls: Vec<UrlData>,
    }

    /// A URL.
    struct UrlData {
        url: String,
        addresses: Vec<UrlAddressData>,
        problems: Vec<UrlProblemData>,
    }

    /// One of its addresses, and its answer.
    struct UrlAddressData {
        address: IpAddr,
        /// Whether something accepts connections.
        open: bool,
        /// The web server, if its process is known.
        server: Option<String>,
        /// The file and line of the virtual host that answers.
        virtual_host: Option<String>,
        /// The folder that it serves, or what it does instead.
        serves: Option<String>,
        status: Option<u16>,
        location: Option<String>,
        /// The certificate's issuer.
        issuer: Option<String>,
    }

    /// A problem of the URL.
    struct UrlProblemData {
        message: String,
        fix: Vec<String>,
    }
}

impl Data for CheckedUrls {}

fn url_data(look: &UrlLook, problems: &[UrlProblem]) -> UrlData {
    let address = |at: &AddressLook| {
        let answer = at.answer.as_ref().and_then(|answer| answer.as_ref().ok());
        let leaf = at.tls.as_ref().and_then(|tls| tls.as_ref().ok()?.chain.leaf.as_ref());
        UrlAddressData {
            address: at.address,
            open: at.connect.is_ok(),
            server: at.server.map(|id| id.word().to_owned()),
            virtual_host: at.host.as_ref().map(|facts| facts.place.to_string()),
            serves: at.host.as_ref().and_then(|facts| facts.serves.clone()),
            status: answer.map(|answer| answer.status),
            location: answer.and_then(|answer| answer.location.clone()),
            issuer: leaf.map(|leaf| leaf.issuer.clone()),
        }
    };
    let problem = |own: &UrlProblem| UrlProblemData { message: own.message.clone(), fix: own.fixes.clone() };
    UrlData {
        url: look.url.to_string(),
        addresses: look.addresses.iter().map(address).collect(),
        problems: problems.iter().map(problem).collect(),
    }
}
