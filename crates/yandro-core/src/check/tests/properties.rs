//! Properties of explanations for any combination of faults.

use proptest::prelude::*;
use proptest::sample::subsequence;

use super::*;

type Broken = fn(&mut NameObservation);
type Around = fn(&mut Circumstances);

/// Possible faults of a name.
const BROKEN: &[Broken] = &[
    |seen| seen.hosts.seen.lines.insert(0, ("10.0.0.5".parse().unwrap(), 2)),
    |seen| seen.connect = failure(FailureKind::Refused),
    |seen| seen.http = answer(200, None),
    |seen| seen.http = answer(404, None),
    |seen| seen.tls = failure(FailureKind::Refused),
    |seen| seen.tls = failure(FailureKind::PlainHttp),
    |seen| seen.tls = failure(FailureKind::TimedOut),
    |seen| seen.http = failure(FailureKind::TimedOut),
    |seen| seen.tls = failure(FailureKind::TlsVersion),
    |seen| seen.https = failure(FailureKind::TimedOut),
    |seen| seen.proof = Some(timed(Proof::PutOff(503))),
    |seen| seen.tls = failure(FailureKind::Other),
    |seen| seen.tls = connection(Verdict::UnknownIssuer, leaf()),
    |seen| seen.tls = connection(Verdict::Name, CertificateFacts { names: vec!["depot.test".into()], ..leaf() }),
    |seen| seen.https = answer(403, None),
    |seen| seen.https = answer(500, None),
    |seen| seen.https = failure(FailureKind::Other),
    |seen| seen.proof = Some(timed(Proof::Status(403))),
    |seen| seen.proof = Some(timed(Proof::OtherContent)),
    |seen| seen.proof = Some(timed(Proof::FolderMissing)),
    |seen| seen.proof = Some(timed(Proof::Guarded)),
    |seen| seen.proof = Some(timed(Proof::LeadsTo(HostName::parse("www.saltmarsh.test").unwrap()))),
    |seen| seen.silent.push("::1".parse().unwrap()),
    |seen| seen.page.is_php_source = true,
    |seen| seen.trail = Some(timed(Trail::Loops(vec!["/".into(), "/".into()]))),
];

/// Possible circumstances.
const AROUND: &[Around] = &[
    |around| around.runs = Some(false),
    |around| around.runs = Some(true),
    |around| around.refuses = Some("Syntax error on line 3 of /etc/a.conf:\nno".into()),
    |around| around.refuses = Some("open() \"/var/log/ferries/x.log\" failed (2: No such file or directory)".into()),
    |around| around.names_certificate = true,
    |around| around.newer = Some("/etc/a.conf".into()),
    |around| around.key_fits = Some(false),
    |around| around.has_index = Some(false),
    |around| around.override_file = Some("/srv/saltmarsh/.htaccess".into()),
    |around| around.rule = Some(Place { file: "/srv/saltmarsh/.htaccess".into(), line: 2 }),
    |around| around.php.address = Some((gone(), PhpState::Down)),
    |around| around.php.address = Some((gone(), PhpState::Forbidden { user: "www-data".into(), mode: 0o600 })),
    |around| (around.is_slow, around.php.address) = (true, Some((gone(), PhpState::Full))),
    |around| {
        around.silence = Some(Silence { reason: SilenceReason::Stopped, stopped: vec![7, 8], waiting: 3, log: None });
    },
    |around| around.rules.push(Rule { effect: RuleEffect::Answers(403), ..denies("/etc/c.conf") }),
    |around| around.rules.push(Rule { effect: RuleEffect::WantsCertificate, ..denies("/etc/c.conf") }),
    |around| {
        around.rules.push(Rule { effect: RuleEffect::Indexes(vec!["tides.html".into()]), ..denies("/etc/c.conf") });
    },
    |around| around.configured.plain_first = Some(Place { file: "/etc/b.conf".into(), line: 7 }),
    |around| around.configured.site_file = SiteFileState::Missing("/etc/a.conf".into()),
    |around| around.configured.not_listened.push(443),
    |around| around.configured.answering.iter_mut().for_each(|own| own.is_own = false),
    |around| around.configured.answering.iter_mut().for_each(|own| own.tls = false),
    |around| around.rules.push(denies("/etc/b.conf")),
    |around| {
        let sandbox = crate::system::Sandbox::read("nginx.service", "PrivateTmp=yes");
        around.sandboxed = sandbox.hides("/tmp/saltmarsh".into()).map(Box::new);
    },
    |around| around.configured.has_tls = Some(false),
    |around| {
        around.holders.push(PortHolder {
            port: 443,
            words: "`python3`".into(),
            program: Some("python3".into()),
            pid: Some(4711),
            is_anothers: false,
            is_manager: false,
            server: None,
            names: Vec::new(),
        });
    },
    |around| {
        around.unread_index = Some(Barrier {
            folder: "/srv/saltmarsh/index.html".into(),
            user: "www-data".into(),
            mode: 0o600,
            fix: "setfacl --modify user:www-data:r /srv/saltmarsh/index.html".into(),
        });
    },
    |around| {
        around.log.push(LogLine {
            file: "/var/log/e.log".into(),
            number: 7,
            text: "AH01630: denied, .htaccess".into(),
        });
    },
];

proptest! {
    #![proptest_config(crate::tests::cases(2_000))]

    /// A cause takes a symptom's place and leaves none without: what is not well never becomes well by being
    /// explained, nothing is reported twice, each has a command, and explaining it again changes nothing.
    #[test]
    fn an_explanation_loses_nothing_and_says_nothing_twice(
        broken in subsequence(BROKEN, 0..4),
        of_alias in subsequence(BROKEN, 0..2),
        around in subsequence(AROUND, 0..4),
    ) {
        let mut seen = well();
        for change in broken {
            change(&mut seen);
        }
        let mut alias = NameObservation { name: HostName::parse("www.saltmarsh.test").unwrap(), ..well() };
        for change in of_alias {
            change(&mut alias);
        }
        let mut beside = beside();
        let mut circumstances =
            Circumstances { configured: beside.configured.as_ref().unwrap().seen.clone(), ..Circumstances::default() };
        for change in around {
            change(&mut circumstances);
        }
        beside.configured = Some(timed(circumstances.configured.clone()));

        let mut report = judge(&expected(), &[seen, alias], &beside);
        let had_error = report.findings.iter().any(|finding| finding.severity() == Severity::Error);
        prop_assert_eq!(had_error, !report.is_well(), "an error is a step that failed");
        let had_any = !report.findings.is_empty();
        explain(&mut report, 80, 443, &circumstances);
        prop_assert_eq!(had_any, !report.findings.is_empty());
        // A finding with a lower severity has its own code for that.
        if had_error && report.findings.iter().all(|finding| finding.severity() == Severity::Warning) {
            let lower = [Code::ProofIntercepted, Code::ClientCertificate];
            prop_assert!(report.findings.iter().any(|finding| lower.contains(&finding.code())));
        }
        if report.is_well() {
            prop_assert!(report.findings.iter().all(|finding| finding.severity() == Severity::Warning));
        }
        prop_assert!(!report.is_proven() || report.is_well());
        for (at, finding) in report.findings.iter().enumerate() {
            let is_told_before = report.findings[..at]
                .iter()
                .any(|other| (other.code(), &other.text().cause) == (finding.code(), &finding.text().cause));
            prop_assert!(!is_told_before, "{:?}", report.findings);
            prop_assert!(finding.text().remedy.is_some(), "{}", finding.code().word());
            prop_assert!(!finding.text().cause.ends_with('.') && !finding.text().cause.contains('\n'));
        }
        let once = report.findings.clone();
        explain(&mut report, 80, 443, &circumstances);
        let codes = |findings: &[Finding]| findings.iter().map(Finding::code).collect::<Vec<_>>();
        prop_assert_eq!(codes(&once), codes(&report.findings));
    }
}
