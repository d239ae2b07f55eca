//! The causes that symptoms become by their circumstances.

use super::*;

/// A program has the site's port, which may be a server that is known.
fn held(server: Option<ServerId>) -> Circumstances {
    Circumstances {
        holders: vec![PortHolder {
            port: 443,
            words: "`python3`".into(),
            program: Some("python3".into()),
            pid: Some(4711),
            is_anothers: true,
            is_manager: false,
            server,
            names: vec!["tides.test".into()],
        }],
        ..Circumstances::default()
    }
}

/// Circumstances of a site, and the cause that a symptom becomes by them.
#[test]
fn circumstances_make_causes_of_symptoms() {
    let closed =
        || NameObservation { connect: failure(FailureKind::Refused), tls: failure(FailureKind::Refused), ..well() };
    let told = |seen: NameObservation, around: &Circumstances| {
        let mut report = judge(&expected(), &[seen], &Beside::default());
        explain(&mut report, 80, 443, around);
        assert_eq!(report.findings.len(), 1, "{:?}", report.findings);
        report.findings.remove(0)
    };
    let none = Circumstances::default();
    assert_eq!(told(closed(), &none).code(), Code::PortClosed, "nothing known explains nothing");
    let down = Circumstances { runs: Some(false), ..none.clone() };
    assert_eq!(told(closed(), &down).code(), Code::ServerDown);
    let words =
        "AH00558: apache2: no name\nAH00526: Syntax error on line 3 of /etc/apache2/a b.conf:\nInvalid command 'Tide'";
    let broken = told(closed(), &Circumstances { refuses: Some(words.into()), ..down.clone() });
    assert_eq!(broken.code(), Code::ConfigurationBroken);
    assert_eq!(
        broken.text().remedy.as_deref(),
        Some("${EDITOR:-vi} +3 '/etc/apache2/a b.conf' && yandro servers start apache")
    );
    assert!(!broken.text().evidence.unwrap().contains("AH00558"));
    let words = "nginx: [emerg] open() \"/var/log/ferries/x.log\" failed (2: No such file or directory)";
    let folder = told(closed(), &Circumstances { refuses: Some(words.into()), ..down });
    assert_eq!(folder.code(), Code::LogFolderMissing);
    assert_eq!(folder.text().remedy.as_deref(), Some("mkdir -p /var/log/ferries && yandro servers start apache"));
    // The port of a stranger, and of another server that is known.
    let plain = || NameObservation { tls: failure(FailureKind::PlainHttp), ..well() };
    let stranger = told(plain(), &held(None));
    assert_eq!(stranger.code(), Code::PortHeld);
    assert_eq!(
        stranger.text().remedies().collect::<Vec<_>>(),
        [
            "sudo kill 4711 && yandro servers start apache",
            "yandro map saltmarsh.test --http-port 8080 --https-port 8443"
        ]
    );
    // A site with the usual other ports gets further ones as a proposal.
    let mut elsewhere = judge(&expected(), &[plain()], &Beside::default());
    let of_port = |port| PortHolder { port, ..held(None).holders.remove(0) };
    explain(&mut elsewhere, 8080, 8443, &Circumstances { holders: vec![of_port(8443), of_port(8444)], ..none.clone() });
    assert_eq!(
        elsewhere.findings[0].text().otherwise,
        ["yandro map saltmarsh.test --http-port 8081 --https-port 8445"]
    );
    // A held port that keeps the server from starting is one cause.
    let half = NameObservation { connect: failure(FailureKind::Refused), ..plain() };
    assert_eq!(told(half, &Circumstances { runs: Some(false), ..held(None) }).code(), Code::PortHeld);
    let other = told(plain(), &held(Some(ServerId::NGINX)));
    assert!(other.text().remedy.unwrap().starts_with("yandro servers stop nginx"));
    assert_eq!(other.text().evidence.as_deref(), Some("it is nginx; its virtual hosts there: tides.test"));
    assert_eq!(told(plain(), &held(Some(ServerId::APACHE))).code(), Code::TlsPlain, "it is its own");
    // Another site's certificate, and by the files this site's own virtual host: whatever their times are.
    let other = || NameObservation {
        tls: connection(Verdict::Name, CertificateFacts { names: vec!["tides.test".into()], ..leaf() }).map(
            |mut tls| {
                tls.seen.as_mut().unwrap().chain.is_on_disk = false;
                tls
            },
        ),
        http: answer(404, None),
        ..well()
    };
    let behind = Circumstances {
        configured: beside().configured.unwrap().seen,
        names_certificate: true,
        runs: Some(true),
        ..none.clone()
    };
    assert_eq!(told(other(), &behind).code(), Code::NotReloaded);
    // A line of the log goes with any finding, and forbids nothing.
    let line = LogLine { file: "/var/log/e.log".into(), number: 7, text: "tide too low".into() };
    let status = NameObservation { https: answer(500, None), ..well() };
    let seen = told(status, &Circumstances { log: vec![line], ..none.clone() });
    assert_eq!(
        (seen.code(), seen.text().evidence.as_deref()),
        (Code::HttpsStatus, Some("/var/log/e.log:7: tide too low"))
    );
    // A warning about the page doesn't concern the server.
    let page = NameObservation { page: Page { is_php_source: true, ..Page::default() }, ..well() };
    assert_eq!(told(page, &Circumstances { newer: Some("/x".into()), ..none }).code(), Code::PhpSource);
}

#[test]
fn the_ports_of_the_built_in_server_may_be_held_or_opened_for_it() {
    let told = |holder, is_manager| {
        let (expected, mut around) = (Expected { server: ServerId::BuiltIn, ..expected() }, held(holder));
        around.holders[0].is_manager = is_manager;
        let plain = NameObservation { tls: failure(FailureKind::PlainHttp), ..well() };
        let mut report = judge(&expected, &[plain], &Beside::default());
        explain(&mut report, 80, 443, &around);
        report.findings.remove(0)
    };
    assert_eq!(told(None, true).code(), Code::TlsPlain);
    let fixes = |found: Finding| found.text().remedies().map(str::to_owned).collect::<Vec<_>>();
    assert_eq!(fixes(told(None, false)), ["sudo kill 4711 && yandro servers start built-in"]);
    assert_eq!(
        fixes(told(Some(ServerId::NGINX), false)),
        ["yandro servers stop nginx && yandro servers start built-in", "yandro map saltmarsh.test --server nginx"]
    );
}

/// A project's own rules may prevent the proof, and nothing else.
#[test]
fn an_unproven_answer_is_not_a_finding() {
    let with = |proof: Proof| NameObservation { proof: Some(timed(proof)), ..well() };
    let www = || HostName::parse("www.saltmarsh.test").unwrap();
    let of_both = |first: Proof, second: Proof| {
        judge(&expected(), &[with(first), NameObservation { name: www(), ..with(second) }], &beside())
    };
    let led = of_both(Proof::LeadsTo(www()), Proof::Given);
    assert!(led.findings.is_empty() && led.is_proven());
    let nowhere = of_both(Proof::LeadsTo(www()), Proof::Guarded);
    assert!(nowhere.findings.is_empty() && nowhere.is_well() && !nowhere.names[0].is_proven);
    assert_eq!(nowhere.names[1].outcome(CheckStep::Proof), StepOutcome::NotNeeded);
    // Two names that lead to each other lead nowhere, whatever else leads to one of them.
    let leads = |from: &str, to: &str| NameObservation {
        name: HostName::parse(from).unwrap(),
        trail: Some(timed(Trail::LeadsTo(HostName::parse(to).unwrap(), "/".into(), 1))),
        ..well()
    };
    let (bare, first) = ("saltmarsh.test", leads("saltmarsh.test", "www.saltmarsh.test"));
    let circle = judge(&expected(), &[first.clone(), leads("www.saltmarsh.test", bare)], &beside());
    assert_eq!(codes(&circle), ["redirect-loop"]);
    assert_eq!(
        circle.findings[0].text().evidence.as_deref(),
        Some("saltmarsh.test -> www.saltmarsh.test -> saltmarsh.test")
    );
    let one_way = judge(&expected(), &[first, NameObservation { name: www(), ..well() }], &beside());
    assert!(
        one_way.findings.is_empty() && one_way.names[0].detail(CheckStep::Application) == "stays, after 1 redirect"
    );
    // The address for search engines doesn't matter on this machine.
    let mut published = well();
    published.page.own_addresses.push(OwnAddress::Canonical("https://www.saltmarsh-ferries.com/".into()));
    assert!(judge(&expected(), &[published], &beside()).findings.is_empty());
    // A rule in the project takes the request: by the files the site's own virtual host answers from its folder.
    let rule = Some(Place { file: "/srv/saltmarsh/.htaccess".into(), line: 2 });
    let around = Circumstances { rule, configured: beside().configured.unwrap().seen, ..Circumstances::default() };
    let told = |around: &Circumstances| {
        let mut report = judge(&expected(), &[with(Proof::OtherContent)], &beside());
        assert_eq!(report.names[0].outcome(CheckStep::Proof), StepOutcome::Failed);
        explain(&mut report, 80, 443, around);
        report
    };
    let report = told(&around);
    assert_eq!(codes(&report), ["proof-intercepted"]);
    assert_eq!(report.names[0].outcome(CheckStep::Proof), StepOutcome::Warned);
    assert!(report.is_well() && !report.is_proven());
    let mut elsewhere = around.clone();
    elsewhere.configured.answering[1].document_root = Some("/srv/other".into());
    let report = told(&elsewhere);
    assert_eq!(codes(&report), ["answered-elsewhere"]);
    assert!(report.findings[0].text().cause.contains("serves /srv/other") && !report.is_well());
    assert_eq!(codes(&told(&Circumstances { rule: None, ..around.clone() })), ["answered-elsewhere"]);
    // A circle is shown with the rule that may make it.
    let mut report = circle;
    explain(&mut report, 80, 443, &Circumstances { override_file: Some("/srv/saltmarsh/.htaccess".into()), ..around });
    assert_eq!(report.findings[0].text().remedy.as_deref(), Some("${EDITOR:-vi} +2 /srv/saltmarsh/.htaccess"));
    assert!(report.findings[0].text().evidence.as_ref().unwrap().ends_with(".htaccess:2: the first rule"));
}

/// How the files are wrong, and what has to be foretold.
type Foretold = (&'static str, fn(&mut Configured));

/// Problems in the files count before the server has read them, as a warning, since the site still works.
#[test]
fn problems_in_unread_files_are_warnings() {
    let cases: &[Foretold] = &[
        ("site-file-missing", |own| own.site_file = SiteFileState::Missing("/etc/a.conf".into())),
        ("sites-not-included", |own| {
            own.site_file = SiteFileState::NotIncluded { file: "/etc/a.conf".into(), main: "/etc/m.conf".into() };
        }),
        ("port-not-listened", |own| own.not_listened.push(443)),
        ("default-answers", |own| (own.answering[1].is_own, own.answering[1].has_name) = (false, false)),
        ("other-site-answers", |own| own.answering[3].is_own = false),
        ("tls-off", |own| own.answering[1].tls = false),
        ("answered-elsewhere", |own| own.answering[1].document_root = Some("/srv/other".into())),
        ("configuration-broken", |own| own.refuses = Some("Syntax error on line 3 of /etc/a.conf:\nno".into())),
    ];
    for (code, change) in cases {
        let mut around = beside();
        let mut configured = around.configured.take().unwrap().seen;
        change(&mut configured);
        around.configured = Some(timed(configured.clone()));
        let mut report = judge(&expected(), &[well()], &around);
        assert_eq!(codes(&report), [*code]);
        assert!(report.is_well() && report.findings[0].severity() == Severity::Warning);
        assert_eq!(report.names[0].outcome(CheckStep::VirtualHost), StepOutcome::Warned);
        // Once it has come it is an error, and told once.
        let gone = match *code {
            "answered-elsewhere" => NameObservation { proof: Some(timed(Proof::OtherContent)), ..well() },
            _ => NameObservation { tls: failure(FailureKind::Other), ..well() },
        };
        report = judge(&expected(), &[gone], &around);
        let refuses = configured.refuses.clone();
        let now = Circumstances { configured, refuses, runs: Some(true), ..Circumstances::default() };
        explain(&mut report, 80, 443, &now);
        assert_eq!(codes(&report), [*code]);
        assert_eq!(report.findings[0].severity(), Severity::Error);
    }
}

#[test]
fn security_modules_get_the_command_that_lets_the_server_through() {
    let told = |line: &str| {
        let seen = NameObservation { proof: Some(timed(Proof::Status(403))), https: answer(403, None), ..well() };
        let mut report = judge(&expected(), &[seen], &Beside::default());
        explain(&mut report, 80, 443, &Circumstances { confined: Some(line.into()), ..Circumstances::default() });
        assert_eq!(codes(&report), ["confined"]);
        report.findings.remove(0).text().remedy.unwrap()
    };
    let avc = "avc:  denied  { search } for comm=\"httpd\" name=\"ada\" tcontext=u:object_r:user_home_dir_t:s0";
    assert_eq!(told(avc), "sudo setsebool -P httpd_enable_homedirs on");
    let file = avc.replace("user_home_dir_t", "user_home_t");
    assert_eq!(told(&file), "sudo chcon -R -t httpd_sys_content_t /srv/saltmarsh");
    let armor = "apparmor=\"DENIED\" profile=\"/usr/sbin/nginx\" name=\"/srv/saltmarsh/\"";
    assert!(told(armor).contains("/etc/apparmor.d/local/usr.sbin.nginx"));
    assert_eq!(told(&armor.replace("/usr/sbin/", "")), "sudo aa-logprof");
}

/// Every finding's remedy is one command: no alternatives, no comments, no gaps to be filled in.
#[test]
fn remedies_can_be_pasted() {
    let around = Circumstances {
        php: PhpFacts {
            address: Some((gone(), PhpState::Down)),
            answering: vec![FastCgi::Socket("/run/php/php8.2-fpm.sock".into())],
            ..PhpFacts::default()
        },
        confined: Some("audit: apparmor=\"DENIED\" profile=\"/usr/sbin/nginx\" name=\"/srv/saltmarsh/\"".into()),
        ..Circumstances::default()
    };
    let statuses = [403, 404, 500, 502, 503].map(|status| NameObservation { https: answer(status, None), ..well() });
    let proofs = [Proof::UpstreamRefuses(403), Proof::UpstreamDown("refused".into()), Proof::OtherContent];
    let proofs = proofs.map(|proof| NameObservation { proof: Some(timed(proof)), ..well() });
    for seen in statuses.into_iter().chain(proofs) {
        let mut report = judge(&expected(), &[seen], &beside());
        explain(&mut report, 80, 443, &around);
        for finding in &report.findings {
            let remedy = finding.text().remedy.unwrap_or_else(|| panic!("{} has none", finding.code().word()));
            let first = remedy.split(' ').next().unwrap();
            assert!(["yandro", "sudo", "echo", "curl", "grep", "ls"].contains(&first), "{remedy}");
            assert!(!remedy.contains('#') && !remedy.contains(';'), "{remedy}");
        }
    }
}

/// A status is a separate fact: digits in a site's name are not taken for one.
#[test]
fn a_name_with_digits_gets_the_same_verdict() {
    let of = |name: &str| {
        let mut expected = expected();
        expected.site.name = HostName::parse(name).unwrap();
        expected.site.aliases.clear();
        let name = expected.site.name.clone();
        let seen = NameObservation {
            http: answer(307, Some(&format!("https://{name}{REDIRECT_PROBE}"))),
            tls: connection(Verdict::Trusted, CertificateFacts { names: vec![name.to_string()], ..leaf() }),
            https: answer(500, None),
            name,
            ..well()
        };
        let mut report = judge(&expected, &[seen], &Beside::default());
        let around = Circumstances {
            has_index: Some(false),
            rules: vec![denies("/etc/a.conf")],
            override_file: Some("/srv/saltmarsh/.htaccess".into()),
            log: vec![LogLine {
                file: "/var/log/e.log".into(),
                number: 7,
                text: "/srv/saltmarsh/.htaccess: Invalid command 'Tide'".into(),
            }],
            php: PhpFacts { address: Some((gone(), PhpState::Down)), ..PhpFacts::default() },
            ..Circumstances::default()
        };
        explain(&mut report, 80, 443, &around);
        codes(&report)
    };
    let plain = of("tides.test");
    assert!(plain.contains(&"override-fault".to_owned()), "{plain:?}");
    for name in ["err404.test", "err403.test", "err502.test", "on-the-ports-500.test"] {
        assert_eq!(of(name), plain, "{name}");
    }
}
