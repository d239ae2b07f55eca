#![allow(clippy::unnecessary_wraps, reason = "values in the shape of the fields that they stand for")]

mod causes;
mod properties;
mod words;

use std::time::Duration;

use time::macros::datetime;

use super::*;
use crate::config::Place;
use crate::name::HostName;
use crate::pki::{CertificateFacts, Constraints};
use crate::servers::{Rule, RuleEffect};
use crate::site::{Content, DEFAULT_ADDRESS, FastCgi, ServerId, Site, Upstream};

const NOW: time::OffsetDateTime = datetime!(2026-11-23 08:00 UTC);

fn timed<T>(seen: T) -> Timed<T> {
    Timed { took: Duration::from_millis(1), seen }
}

fn gone() -> FastCgi {
    FastCgi::Socket("/run/php/gone.sock".into())
}

fn denies(file: &str) -> Rule {
    Rule { effect: RuleEffect::Denies, place: Place { file: file.into(), line: 3 } }
}

fn failure<T>(kind: FailureKind) -> Option<Timed<Result<T, Failure>>> {
    Some(timed(Err(Failure { kind, words: "the system's words".into() })))
}

fn answer(status: u16, location: Option<&str>) -> Option<Timed<Result<Answer, Failure>>> {
    Some(timed(Ok(Answer { status, location: location.map(str::to_owned), server: None, is_for_later: false })))
}

fn leaf() -> CertificateFacts {
    CertificateFacts {
        subject: "O=Yandro local certificate".into(),
        issuer: "CN=Yandro issuing certificate".into(),
        names: vec!["saltmarsh.test".into(), "www.saltmarsh.test".into()],
        addresses: Vec::new(),
        not_before: datetime!(2026-11-01 0:00 UTC),
        not_after: datetime!(2027-12-01 0:00 UTC),
        subject_key: Vec::new(),
        authority_key: Vec::new(),
        constraints: Constraints { suffixes: Vec::new(), networks: Vec::new() },
        key: None,
        public_key: Vec::new(),
    }
}

fn connection(verdict: Verdict, leaf: CertificateFacts) -> Option<Timed<Result<Connection, Failure>>> {
    let chain = Chain { leaf: Some(leaf), is_on_disk: true, verdict };
    Some(timed(Ok(Connection { version: "TLS 1.3".into(), chain })))
}

fn expected() -> Expected {
    Expected {
        site: Site {
            aliases: vec![HostName::parse("www.saltmarsh.test").unwrap()],
            server: Some(ServerId::APACHE),
            ..Site::new(HostName::parse("saltmarsh.test").unwrap(), Content::folder("/srv/saltmarsh"))
        },
        server: ServerId::APACHE,
        is_here: true,
        http_port: 80,
        https_port: 443,
        is_startable: false,
        hosts_file: "/etc/hosts".into(),
        hosts_fault: None,
        tenants: None,
        resolver: ResolverSetup::default(),
        now: NOW,
        settings: Vec::new(),
        authority_since: Some(datetime!(2026-11-01 0:00 UTC)),
        listed: std::sync::Arc::default(),
    }
}

/// Everything as it should be.
fn well() -> NameObservation {
    NameObservation {
        name: HostName::parse("saltmarsh.test").unwrap(),
        hosts: timed(HostsAnswer { lines: vec![(DEFAULT_ADDRESS, 3)], foreign: false }),
        resolver: timed(ResolverAnswer::Addresses(vec![DEFAULT_ADDRESS])),
        connect: Some(timed(Ok(()))),
        http: answer(307, Some("https://saltmarsh.test/tide?check=1")),
        tls: connection(Verdict::Trusted, leaf()),
        https: answer(200, None),
        offers: Some(timed(Offers { tls12: true, tls13: true, protocol: Some("h2".into()) })),
        other_names: Some(timed(OtherName::Certificate(vec!["others.test".into()]))),
        trail: None,
        page: Page::default(),
        silent: Vec::new(),
        asked: None,
        further: Vec::new(),
        proof: Some(timed(Proof::Given)),
    }
}

/// The site's own virtual host answers, and the one trust store trusts the authority.
fn beside() -> Beside {
    let answering = |name: &str, port| AnsweringHost {
        name: HostName::parse(name).unwrap(),
        port,
        place: Place { file: "/etc/apache2/sites-enabled/saltmarsh.test.conf".into(), line: 3 },
        has_name: true,
        is_own: true,
        tls: port == 443,
        document_root: Some("/srv/saltmarsh".into()),
    };
    let names = ["saltmarsh.test", "www.saltmarsh.test"];
    let answering = names.iter().flat_map(|name| [answering(name, 80), answering(name, 443)]).collect();
    let store = StoreStanding { title: "this system".into(), path: "/etc".into(), trusts: true };
    Beside {
        holders: Some(timed(Vec::new())),
        configured: Some(timed(Configured { answering, has_tls: Some(true), ..Configured::default() })),
        stores: Some(timed(vec![store])),
        files: FileFaults::default(),
        limits: None,
    }
}

fn codes(report: &SiteReport) -> Vec<String> {
    report.findings.iter().map(|finding| finding.code().word()).collect()
}

#[test]
fn each_address_of_a_name_is_proven() {
    let v6: std::net::IpAddr = std::net::Ipv6Addr::LOCALHOST.into();
    let at = |address, seen: NameObservation| NameObservation { asked: Some(address), ..seen };
    let other = NameObservation { proof: Some(timed(Proof::OtherContent)), ..well() };
    let look = |first: NameObservation, second: NameObservation| {
        let seen = NameObservation { further: vec![at(DEFAULT_ADDRESS, second)], ..at(v6, first) };
        judge(&expected(), &[seen], &beside())
    };
    assert!(look(well(), well()).is_proven() && look(well(), well()).findings.is_empty());
    for (first, second, address) in [(well(), other.clone(), DEFAULT_ADDRESS), (other.clone(), well(), v6)] {
        let report = look(first, second);
        assert_eq!(
            (codes(&report), report.is_proven(), report.is_well()),
            (vec!["answered-elsewhere".into()], false, false)
        );
        assert_eq!(report.findings[0].only_at, Some(address));
        assert!(report.findings[0].text().evidence.unwrap().ends_with(&format!("only at {address}")));
    }
    let both = look(other.clone(), other);
    assert_eq!((both.findings.len(), both.findings[0].only_at), (1, None));
}

#[test]
fn a_site_that_is_well_has_no_finding() {
    let report = judge(
        &expected(),
        &[well(), NameObservation { name: HostName::parse("www.saltmarsh.test").unwrap(), ..well() }],
        &beside(),
    );
    assert!(report.is_well() && report.findings.is_empty());
    let details: Vec<&str> = report.names[0].steps.iter().map(|step| step.detail.as_str()).collect();
    assert_eq!(
        details,
        [
            ".test is reserved (RFC 6761)",
            "127.0.0.1",
            "127.0.0.1",
            "this machine's own",
            "ports 80, 443",
            "saltmarsh.test.conf:3",
            "307",
            "307 to the same over HTTPS",
            "TLS 1.3",
            "TLS 1.2 and 1.3, HTTP/2",
            "rejected (certificate of others.test)",
            "trusted",
            "covered",
            "372 days",
            "the same",
            "1 of 1",
            "200",
            "stays",
            "proven"
        ]
    );
}

/// How one thing is broken, and what has to be found.
type Case = (&'static str, fn(&mut NameObservation));

#[test]
fn each_fault_has_its_own_code_only() {
    let cases: &[Case] = &[
        ("hosts-missing", |seen| seen.hosts.seen.lines.clear()),
        ("hosts-elsewhere", |seen| seen.hosts.seen.lines[0].0 = "10.0.0.5".parse().unwrap()),
        ("resolver-differs", |seen| seen.resolver.seen = ResolverAnswer::Addresses(vec!["10.0.0.5".parse().unwrap()])),
        ("resolver-fails", |seen| seen.resolver.seen = ResolverAnswer::Failed("no such name".into())),
        ("port-closed", |seen| {
            (seen.connect, seen.tls) = (failure(FailureKind::Refused), failure(FailureKind::Refused));
        }),
        ("port-closed", |seen| seen.tls = failure(FailureKind::Refused)),
        ("server-silent", |seen| seen.tls = failure(FailureKind::TimedOut)),
        ("tls-plain", |seen| seen.tls = failure(FailureKind::PlainHttp)),
        ("tls-fails", |seen| seen.tls = failure(FailureKind::Other)),
        ("tls-version", |seen| seen.tls = failure(FailureKind::TlsVersion)),
        ("http-fails", |seen| seen.http = failure(FailureKind::Other)),
        ("redirect-missing", |seen| seen.http = answer(200, None)),
        ("redirect-loses-path", |seen| seen.http = answer(301, Some("https://saltmarsh.test/"))),
        ("hosts-shadowed", |seen| seen.hosts.seen.lines.insert(0, ("10.0.0.5".parse().unwrap(), 2))),
        ("redirect-loop", |seen| seen.trail = Some(timed(Trail::Loops(vec!["/a".into(), "/b".into()])))),
        ("redirect-leaves", |seen| seen.trail = Some(timed(Trail::Leaves("http://localhost/".into())))),
        ("page-leaves", |seen| seen.page.own_addresses.push(OwnAddress::Base("http://localhost:8080/".into()))),
        ("page-leaves", |seen| seen.page.own_addresses.push(OwnAddress::Canonical("https://old.test/".into()))),
        ("page-leaves", |seen| seen.page.own_addresses.push(OwnAddress::Base("https://ferries.example.com".into()))),
        ("php-source", |seen| seen.page.is_php_source = true),
        ("family-half", |seen| seen.silent.push("::1".parse().unwrap())),
        ("redirect-elsewhere", |seen| seen.http = answer(301, Some("https://localhost/"))),
        ("redirect-elsewhere", |seen| seen.http = answer(302, Some("http://saltmarsh.test/"))),
        ("certificate-unknown", |seen| seen.tls = connection(Verdict::UnknownIssuer, leaf())),
        ("certificate-constraints", |seen| seen.tls = connection(Verdict::Constraints, leaf())),
        ("authority-missing", |seen| seen.tls = connection(Verdict::NoAuthority, leaf())),
        ("certificate-name", |seen| {
            seen.tls = connection(Verdict::Name, CertificateFacts { names: vec!["depot.test".into()], ..leaf() });
        }),
        ("certificate-expired", |seen| {
            seen.tls =
                connection(Verdict::Time, CertificateFacts { not_after: datetime!(2026-11-22 0:00 UTC), ..leaf() });
        }),
        ("certificate-early", |seen| {
            seen.tls =
                connection(Verdict::Time, CertificateFacts { not_before: datetime!(2026-11-24 0:00 UTC), ..leaf() });
        }),
        ("certificate-ends", |seen| {
            let ends = CertificateFacts {
                not_before: datetime!(2026-01-01 0:00 UTC),
                not_after: datetime!(2026-12-20 0:00 UTC),
                ..leaf()
            };
            seen.tls = connection(Verdict::Trusted, ends);
        }),
        ("certificate-old", |seen| {
            if let Some(Timed { seen: Ok(connection), .. }) = &mut seen.tls {
                connection.chain.is_on_disk = false;
            }
        }),
        ("https-fails", |seen| seen.https = failure(FailureKind::Other)),
        ("https-status", |seen| seen.https = answer(500, None)),
        ("https-status", |seen| seen.https = answer(404, None)),
        ("folder-missing", |seen| (seen.https, seen.proof) = (answer(404, None), Some(timed(Proof::FolderMissing)))),
        ("folder-forbidden", |seen| (seen.https, seen.proof) = (answer(403, None), Some(timed(Proof::Status(403))))),
        ("answered-elsewhere", |seen| seen.proof = Some(timed(Proof::Status(404)))),
        ("answered-elsewhere", |seen| seen.proof = Some(timed(Proof::OtherContent))),
        ("proof-not-written", |seen| seen.proof = Some(timed(Proof::NotWritten("read-only file system".into())))),
    ];
    for (code, break_it) in cases {
        let mut seen = well();
        break_it(&mut seen);
        let report = judge(&expected(), &[seen], &Beside::default());
        assert_eq!(codes(&report), [*code]);
        let finding = &report.findings[0];
        assert!(!finding.text().cause.is_empty() && !finding.text().cause.ends_with('.'), "{}", finding.text().cause);
        // An error stops the site; a warning doesn't.
        assert_eq!(report.is_well(), finding.severity() == Severity::Warning, "{code}");
    }
}

#[test]
fn a_failed_step_stops_those_that_depend_on_it_and_says_which() {
    let mut seen = well();
    seen.tls = failure(FailureKind::Other);
    let report = judge(&expected(), &[seen], &Beside::default());
    let name = &report.names[0];
    for step in [
        CheckStep::Hosts,
        CheckStep::Resolver,
        CheckStep::Address,
        CheckStep::Connect,
        CheckStep::Http,
        CheckStep::Redirect,
    ] {
        assert_eq!(name.outcome(step), StepOutcome::Passed, "{step:?}");
    }
    for step in [
        CheckStep::Offers,
        CheckStep::Chain,
        CheckStep::Name,
        CheckStep::Validity,
        CheckStep::Disk,
        CheckStep::Https,
        CheckStep::Proof,
    ] {
        assert_eq!(name.outcome(step), StepOutcome::Stopped(CheckStep::Tls), "{step:?}");
    }
}

#[test]
fn one_cause_is_one_finding_for_all_names() {
    let down = |name: &str| NameObservation {
        name: HostName::parse(name).unwrap(),
        connect: failure(FailureKind::Refused),
        tls: failure(FailureKind::Refused),
        ..well()
    };
    let report = judge(&expected(), &[down("saltmarsh.test"), down("www.saltmarsh.test")], &Beside::default());
    assert_eq!(codes(&report), ["port-closed"]);
    assert_eq!(
        report.findings[0].text().cause,
        "nothing listens on ports 80 and 443 of 127.0.0.1: Apache httpd isn't running"
    );
}

#[test]
fn an_upstream_that_is_down_is_the_cause_and_its_502_the_symptom() {
    let mut expected = expected();
    expected.site.content = Content::Upstream(Upstream::parse("http://127.0.0.1:3000").unwrap());
    let mut seen = well();
    seen.https = answer(502, None);
    seen.proof = Some(timed(Proof::UpstreamDown("connection refused".into())));
    assert_eq!(codes(&judge(&expected, &[seen], &Beside::default())), ["upstream-down"]);
    let mut seen = well();
    seen.https = answer(404, None);
    assert!(
        judge(&expected, &[seen], &Beside::default()).findings.is_empty(),
        "an application may answer 404 on its first page"
    );
    let mut seen = well();
    seen.proof = Some(timed(Proof::OtherContent));
    assert_eq!(codes(&judge(&expected, &[seen], &Beside::default())), ["upstream-differs"]);
}

/// The page of all codes is made from their table: `YANDRO_WRITE_DOCS=1 cargo test -p yandro-core findings`.
#[test]
#[allow(clippy::disallowed_methods, reason = "the page is a file")]
fn the_page_of_findings_is_the_table_of_codes() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/findings.md");
    let page = findings_page();
    if std::env::var_os("YANDRO_WRITE_DOCS").is_some() {
        std::fs::write(path, &page).unwrap();
    }
    assert_eq!(std::fs::read_to_string(path).unwrap(), page);
    let mut words: Vec<String> = Code::ALL.iter().map(|code| code.word()).collect();
    words.sort();
    words.dedup();
    assert_eq!(words.len(), Code::ALL.len());
}
