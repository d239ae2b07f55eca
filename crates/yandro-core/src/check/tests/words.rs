//! Every cause, every piece of evidence and every remedy in words.

use super::*;
use crate::site::Scheme;
use crate::system::{Cache, ResolverPlace};

fn host() -> HostName {
    HostName::parse("tides.test").unwrap()
}

fn place() -> Place {
    Place { file: "/etc/nginx/a b.conf".into(), line: 7 }
}

fn holder() -> Box<PortHolder> {
    Box::new(PortHolder {
        port: 3001,
        words: "`node` (process 4711 of user ada)".into(),
        program: Some("node".into()),
        pid: Some(4711),
        is_anothers: false,
        is_manager: false,
        server: None,
        names: Vec::new(),
    })
}

/// At least one of each code, and each sentence of those that have several.
#[allow(clippy::too_many_lines, reason = "one line for each sentence")]
fn causes() -> Vec<Cause> {
    let (host, site) = (host(), host());
    let (found, wanted) = ("10.0.0.5".parse().unwrap(), DEFAULT_ADDRESS);
    let content = Content::folder("/srv/tides");
    let upstream = Content::Upstream(Upstream::parse("http://127.0.0.1:3000").unwrap());
    let other = || Unresolved::Other { host: host.clone(), found: vec![found, wanted], wanted };
    let none = || Unresolved::None { host: host.clone() };
    let server = ServerId::NGINX;
    let file = || camino::Utf8PathBuf::from("/etc/nginx/conf.d/tides.test.conf");
    let user = || "www-data".to_owned();
    let certificate = |fault| Cause::CertificateUnknown { host: host.clone(), fault };
    let upstream_fails = |fault| Cause::UpstreamFails { site: site.clone(), content: upstream.clone(), fault };
    vec![
        Cause::HostsMissing { file: "/etc/hosts".into(), host: host.clone() },
        Cause::RedirectBack { site: site.clone(), to: "http://tides.test/".into() },
        Cause::PageMixed { site: site.clone(), origin: "http://localhost:8080".into(), places: 3 },
        Cause::HostsUnread { file: "/etc/hosts".into(), fault: HostsFault::Missing },
        Cause::HostsUnread { file: "/etc/hosts".into(), fault: HostsFault::Dangling("/run/hosts".into()) },
        Cause::HostsUnread { file: "/etc/hosts".into(), fault: HostsFault::Unreadable },
        Cause::HostsUnread { file: "/etc/hosts".into(), fault: HostsFault::Utf16 },
        Cause::HostsElsewhere { host: host.clone(), found, wanted },
        Cause::HostsShadowed { file: "/etc/hosts".into(), host: host.clone(), found, is_first: true },
        Cause::HostsShadowed { file: "/etc/hosts".into(), host: host.clone(), found, is_first: false },
        Cause::ResolverStale { answer: other(), cache: Cache::Resolved },
        Cause::ResolverOrder { answer: none(), first: "dns".into() },
        Cause::ResolverOrder { answer: none(), first: "files".into() },
        Cause::ResolverDiffers { answer: other() },
        Cause::ResolverFails { answer: none() },
        Cause::ResponderDown { site: site.clone(), responder: "127.0.0.1:28113".parse().unwrap() },
        Cause::TenantsUnresolved { site: site.clone(), found: Vec::new(), place: ResolverPlace::Resolved },
        Cause::TenantsUnresolved { site: site.clone(), found: vec![found], place: ResolverPlace::ResolvConf },
        Cause::ResolverBypassed { host: host.clone(), browser: "Firefox (ada)".into() },
        Cause::ProxyInTheWay { host: host.clone(), browser: None },
        Cause::ProxyInTheWay { host: host.clone(), browser: Some("Chromium".into()) },
        Cause::AddressGone { address: found },
        Cause::ServerDown { server },
        Cause::ConfigurationBroken { server, refusal: ConfigurationRefusal::KeepsOld },
        Cause::LogFolderMissing { server, refusal: ConfigurationRefusal::CannotStart, folder: "/var/log/tides".into() },
        Cause::PortHeld { port: 443, holder: holder(), server },
        Cause::PortNotListened { port: 443, server },
        Cause::PortClosed { address: wanted, ports: vec![80, 443], server: Some(server) },
        Cause::PortClosed { address: wanted, ports: vec![443], server: Some(server) },
        Cause::PortClosed { address: wanted, ports: vec![3443], server: None },
        Cause::FamilyHalf { host: host.clone(), silent: "::1".parse().unwrap() },
        Cause::Unreachable { site: site.clone(), address: found },
        Cause::SiteFileMissing { site: site.clone(), file: file() },
        Cause::SiteNotEnabled { site: site.clone(), file: file() },
        Cause::SitesNotIncluded { server, file: file() },
        Cause::NotReloaded { server, file: Some(file()) },
        Cause::NotReloaded { server, file: None },
        Cause::OtherSiteAnswers { host: host.clone(), port: 443 },
        Cause::DefaultAnswers { host: host.clone(), port: 443 },
        Cause::ModuleOff { server, refusal: None },
        Cause::ModuleOff { server, refusal: Some(ConfigurationRefusal::CannotStart) },
        Cause::HttpFails { host: host.clone() },
        Cause::HttpsForced { host: host.clone(), suffix: "dev".into() },
        Cause::RedirectMissing { host: host.clone(), status: 200 },
        Cause::RedirectElsewhere { host: host.clone(), location: "https://localhost/".into() },
        Cause::RedirectLosesPath {},
        Cause::RedirectLoop { site: site.clone() },
        Cause::RedirectLeaves { site: site.clone() },
        Cause::PageLeaves { site: site.clone() },
        Cause::TlsFails { host: host.clone() },
        Cause::TlsVersion { host: host.clone() },
        Cause::TlsPlain { port: 443 },
        Cause::TlsOff { site: site.clone() },
        Cause::AuthorityMissing {},
        certificate(CertificateFault::OtherIssuer),
        certificate(CertificateFault::Refused),
        Cause::CertificateName { host: host.clone(), fault: CertificateFault::OfUnknownNames },
        Cause::CertificateName { host: host.clone(), fault: CertificateFault::OtherNames },
        Cause::CertificateExpired { host: host.clone(), fault: CertificateFault::OtherFile },
        Cause::CertificateExpired { host: host.clone(), fault: CertificateFault::Ended(NOW) },
        Cause::CertificateEarly { host: host.clone(), start: NOW },
        Cause::ClockWrong { now: datetime!(1970-01-02 0:00 UTC), since: NOW },
        Cause::CertificateEnds { host: host.clone(), end: NOW, days: 12 },
        Cause::CertificateConstraints { host: host.clone() },
        Cause::CertificateOld { host: host.clone() },
        upstream_fails(UpstreamFault::OtherFamily("::1".parse().unwrap())),
        upstream_fails(UpstreamFault::SpeaksTls),
        upstream_fails(UpstreamFault::Silent),
        upstream_fails(UpstreamFault::Endless),
        upstream_fails(UpstreamFault::Closes),
        upstream_fails(UpstreamFault::NotHttp),
        Cause::CertificateFile { file: "/data/fullchain.pem".into(), fault: FileFault::Missing },
        Cause::CertificateFile { file: "/data/key.pem".into(), fault: FileFault::Unreadable("denied".into()) },
        Cause::CertificateFile { file: "/data/key.pem".into(), fault: FileFault::Damaged },
        Cause::KeyMismatch { site: site.clone() },
        Cause::StoreUntrusting { store: "Chromium".into() },
        Cause::HttpsStatus { scheme: Scheme::Https, host: host.clone(), status: 403 },
        Cause::HttpsStatus { scheme: Scheme::Http, host: host.clone(), status: 404 },
        Cause::HttpsStatus { scheme: Scheme::Https, host: host.clone(), status: 502 },
        Cause::HttpsFails { host: host.clone(), request: RequestedPage::Page },
        Cause::HttpsFails { host: host.clone(), request: RequestedPage::Proof },
        Cause::IndexMissing { content: content.clone(), fault: IndexFault::NoneThere },
        Cause::IndexMissing { content: content.clone(), fault: IndexFault::OtherNames(vec!["tides.html".into()]) },
        Cause::IndexMissing { content: content.clone(), fault: IndexFault::Listed("index.html".into()) },
        Cause::Sandboxed {
            server,
            hidden: Box::new(
                crate::system::Sandbox::read("nginx.service", "PrivateTmp=yes").hides("/tmp/tides".into()).unwrap(),
            ),
        },
        Cause::ClientCertificate { site: site.clone() },
        Cause::AccessDenied { content: content.clone(), by: DeniedBy::Access },
        Cause::AccessDenied { content: content.clone(), by: DeniedBy::Status(410) },
        Cause::AccessDenied { content: content.clone(), by: DeniedBy::Status(444) },
        Cause::AccessDenied { content: content.clone(), by: DeniedBy::Links },
        Cause::ServerSilent { server, reason: SilenceReason::Stopped },
        Cause::ServerSilent { server, reason: SilenceReason::Full },
        Cause::ServerSilent { server, reason: SilenceReason::Unknown },
        Cause::OverrideFault { file: "/srv/tides/.htaccess".into(), refusal: OverrideRefusal::CanRunPrograms },
        Cause::OverrideFault {
            file: "/srv/tides/.htaccess".into(),
            refusal: OverrideRefusal::Faulty(ServerId::APACHE),
        },
        Cause::FolderMissing { host: host.clone(), content: content.clone() },
        Cause::FolderForbidden { to: Forbidden::Content(content.clone()) },
        Cause::FolderForbidden { to: Forbidden::Folder { user: user(), path: "/home/ada".into() } },
        Cause::FolderForbidden { to: Forbidden::Index { user: user(), path: "/srv/tides/index.html".into() } },
        Cause::Confined { server, content: content.clone() },
        Cause::AnsweredElsewhere { host: host.clone(), by: UnexpectedFolder::NotFrom(content.clone()) },
        Cause::AnsweredElsewhere {
            host: host.clone(),
            by: UnexpectedFolder::Served { other: "/srv/old".into(), wanted: "/srv/tides".into() },
        },
        Cause::ProofIntercepted { content: content.clone() },
        Cause::ProofNotWritten { content },
        Cause::PhpSource { site: site.clone(), reason: SourceReason::WithoutPhp },
        Cause::PhpSource { site: site.clone(), reason: SourceReason::ModuleOff },
        Cause::PhpSource { site: site.clone(), reason: SourceReason::LinesGone },
        Cause::PhpForbidden { socket: "/run/php/php.sock".into(), user: user() },
        Cause::PhpBusy { socket: "/run/php/php.sock".into(), most: Some(5) },
        Cause::PhpBusy { socket: "/run/php/php.sock".into(), most: Some(1) },
        Cause::PhpBusy { socket: "/run/php/php.sock".into(), most: None },
        Cause::PhpFault { message: "Call to undefined function tide()".into() },
        Cause::PhpDown { socket: "/run/php/gone.sock".into() },
        Cause::UpstreamDown { site: site.clone(), content: upstream.clone(), near: None },
        Cause::UpstreamDown { site: site.clone(), content: upstream.clone(), near: Some(holder()) },
        Cause::UpstreamRefusesHost { host: host.clone(), content: upstream.clone() },
        Cause::UpstreamDiffers { host, content: upstream },
    ]
}

fn evidence() -> Vec<Evidence> {
    let line = LogLine { file: "/var/log/e.log".into(), number: 7, text: "tide too low".into() };
    let shadowed = Place { line: 9, ..place() };
    vec![
        Evidence::Words("the system's words".into()),
        Evidence::At(place()),
        Evidence::Log(line),
        Evidence::Shadow(place(), shadowed),
        Evidence::Unexplained,
        Evidence::OnPort(443, "no route".into()),
        Evidence::OtherServers(place()),
        Evidence::Offline,
        Evidence::Addresses(Vec::new()),
        Evidence::Addresses(vec![DEFAULT_ADDRESS]),
        Evidence::Issuer("CN=Tides".into()),
        Evidence::Names(Vec::new()),
        Evidence::Names(vec!["depot.test".into(), "*.depot.test".into()]),
        Evidence::VirtualHostSilent,
        Evidence::ServerField("nginx/1.22".into()),
        Evidence::LeadsTo { from: None, to: "http://localhost/".into() },
        Evidence::LeadsTo { from: Some(REDIRECT_PROBE), to: "https://tides.test/".into() },
        Evidence::Way(vec!["/a".into(), "/b".into(), "/a".into()]),
        Evidence::OwnAddress("http://localhost:8080/".into()),
        Evidence::ProofForbidden,
        Evidence::ProofStatus(404),
        Evidence::ProofChanged,
        Evidence::Mode(0o700),
        Evidence::RefusedUnderName(403),
        Evidence::Holder(ServerId::NGINX, Vec::new()),
        Evidence::Holder(ServerId::NGINX, vec!["tides.test".into()]),
        Evidence::NoLink("/etc/apache2/sites-enabled/tides.test.conf".into()),
        Evidence::LookedFrom("/etc/apache2/apache2.conf".into()),
        Evidence::FirstRule(place()),
        Evidence::PlainFirst(place()),
        Evidence::Waiting(1),
        Evidence::Waiting(17),
        Evidence::ProofRule(place()),
    ]
}

fn remedies() -> Vec<Remedy> {
    let mut all: Vec<Remedy> = [
        vec![],
        vec![MapOption::TakeOver],
        vec![MapOption::Address(DEFAULT_ADDRESS)],
        vec![MapOption::Ports(8080, 8443), MapOption::Server(ServerId::NGINX)],
        vec![MapOption::HttpsOnly],
        vec![MapOption::FixPermissions],
        vec![MapOption::Create],
        vec![MapOption::Listing],
        vec![MapOption::AllOverrides],
        vec![MapOption::OwnUpstreamHost],
        vec![MapOption::Php(None)],
        vec![MapOption::Php(Some("/run/php/a b.sock".into()))],
    ]
    .into_iter()
    .map(|options| Remedy::Map { site: host(), content: None, options })
    .collect();
    all.extend([
        Remedy::Map { site: host(), content: Some("/srv/my tides".into()), options: vec![MapOption::Create] },
        Remedy::Unmap(host()),
        Remedy::Settle,
        Remedy::PutBack(host()),
        Remedy::Control(ServerVerb::Stop, ServerId::NGINX),
        Remedy::Serve(None),
        Remedy::Serve(Some("10.0.0.5".parse().unwrap())),
        Remedy::CheckAndFix(host()),
        Remedy::Watch(host()),
        Remedy::CertificateVariables(host()),
        Remedy::Widen(host()),
        Remedy::Trust,
        Remedy::PortsAsRoot,
        Remedy::Both(Box::new(Remedy::Edit(place())), Box::new(Remedy::Control(ServerVerb::Reload, ServerId::APACHE))),
        Remedy::Shell("ping -c 3 10.0.0.5".into()),
    ]);
    all
}

#[test]
#[allow(clippy::too_many_lines, reason = "one line for each sentence")]
fn every_finding_reads_as_written_here() {
    let causes = causes();
    for code in Code::ALL {
        assert!(causes.iter().any(|cause| cause.code() == *code), "{} has no sample", code.word());
    }
    let lines = |texts: Vec<String>| texts.join("\n");
    let of_causes = causes.iter().map(|cause| format!("{}: {cause}", cause.code().word())).collect();
    insta::assert_snapshot!(lines(of_causes), @"
    hosts-missing: no line of /etc/hosts names `tides.test`
    redirect-back: the application of `tides.test` redirects to http://tides.test/, and the server back to HTTPS: tell the application that it is behind HTTPS (X-Forwarded-Proto says so)
    page-mixed: the page of `tides.test` loads from or sends to http://localhost:8080 in 3 places: browsers block that, or it leads away
    hosts-unread: /etc/hosts is missing
    hosts-unread: /etc/hosts is a link to /run/hosts, which doesn't exist
    hosts-unread: /etc/hosts can only be read by root: programs of other users ignore it
    hosts-unread: /etc/hosts is encoded as UTF-16, of which resolvers read no line
    hosts-elsewhere: the hosts file points `tides.test` to 10.0.0.5, and the site is at 127.0.0.1
    hosts-shadowed: the line of /etc/hosts for `tides.test` is shadowed by another one, which points it to 10.0.0.5
    hosts-shadowed: /etc/hosts points `tides.test` to 10.0.0.5 as well: programs go there if the first address fails them
    resolver-stale: the system resolves `tides.test` to 10.0.0.5, 127.0.0.1, though the hosts file says 127.0.0.1: systemd-resolved holds an old answer
    resolver-order: the system finds no address for `tides.test`, though the hosts file has one: the system asks `dns` before the hosts file
    resolver-order: the system finds no address for `tides.test`, though the hosts file has one: the system doesn't read the hosts file
    resolver-differs: the system resolves `tides.test` to 10.0.0.5, 127.0.0.1, though the hosts file says 127.0.0.1
    resolver-fails: the system finds no address for `tides.test`, though the hosts file has one
    responder-down: nothing answers at 127.0.0.1:28113, where yandro resolves the names below `tides.test`
    tenants-unresolved: the system doesn't resolve names below `tides.test`: systemd-resolved should ask yandro's responder for them
    tenants-unresolved: the system points names below `tides.test` to 10.0.0.5: /etc/resolv.conf should ask yandro's responder for them
    resolver-bypassed: Firefox (ada) asks a server on the internet for `tides.test`, past the hosts file
    proxy-in-the-way: programs that go by the environment ask a proxy for `tides.test`, which doesn't know it
    proxy-in-the-way: Chromium asks a proxy for `tides.test`, which doesn't know it
    address-gone: no interface of this machine has the address 10.0.0.5 any more, which the site is at
    server-down: nginx doesn't run
    configuration-broken: nginx refuses its configuration and goes on with what it read before
    log-folder-missing: nginx refuses its configuration and can't start: the folder for logs /var/log/tides isn't there
    port-held: port 443 is held by `node` (process 4711 of user ada), and not by nginx
    port-not-listened: no line of nginx's configuration has it listen on port 443
    port-closed: nothing listens on ports 80 and 443 of 127.0.0.1: nginx isn't running
    port-closed: nothing listens on port 443 of 127.0.0.1: nginx listens on another address, or not at all
    port-closed: nothing listens on port 3443 of 127.0.0.1: the server there isn't running
    family-half: `tides.test` has addresses of both families, and nothing answers on ::1: some clients try it first
    unreachable: the address 10.0.0.5 of `tides.test` can't be reached
    site-file-missing: the virtual host file of `tides.test` is gone: /etc/nginx/conf.d/tides.test.conf
    site-not-enabled: the virtual host file of `tides.test` is not enabled: /etc/nginx/conf.d/tides.test.conf
    sites-not-included: nginx doesn't read /etc/nginx/conf.d/tides.test.conf: no line includes its folder
    not-reloaded: nginx was not reloaded since /etc/nginx/conf.d/tides.test.conf was changed
    not-reloaded: nginx was not reloaded since its files were changed
    other-site-answers: another virtual host on port 443 has the name `tides.test` as well, and answers first
    default-answers: no virtual host on port 443 has the name `tides.test`, and the default one answers
    module-off: nginx hasn't its module for TLS switched on
    module-off: nginx hasn't its module for TLS switched on, and can't start
    http-fails: `http://tides.test/` gives no proper answer
    https-forced: browsers request names below `.dev` only over HTTPS, and `tides.test` has none
    redirect-missing: `http://tides.test/` answers 200 and doesn't lead to HTTPS: another virtual host answers, or its redirect is gone
    redirect-elsewhere: `http://tides.test/` leads to `https://localhost/`, which is not this site over HTTPS
    redirect-loses-path: HTTP leads to HTTPS, and not to the path and query that were asked for
    redirect-loop: the redirects of `tides.test` lead in a circle
    redirect-leaves: a redirect of `tides.test` leaves the site
    page-leaves: the page of `tides.test` says that its address is another one
    tls-fails: the TLS handshake for `tides.test` fails: the server has no certificate for this name, or TLS is off
    tls-version: the server speaks no version of TLS with `tides.test` that browsers take
    tls-plain: plain HTTP is spoken on port 443, where TLS is expected
    tls-off: the virtual host of `tides.test` for HTTPS has TLS off
    authority-missing: this machine has no local authority
    certificate-unknown: the certificate served for `tides.test` was not issued by the local authority
    certificate-unknown: the certificate served for `tides.test` is refused
    certificate-name: the virtual host of `tides.test` doesn't answer over HTTPS: the default one does
    certificate-name: the certificate does not name `tides.test`
    certificate-expired: the virtual host of `tides.test` names another certificate than the site's
    certificate-expired: the certificate of `tides.test` ended on 2026-11-23
    certificate-early: the certificate of `tides.test` is valid from 2026-11-23 on, which is to come
    clock-wrong: by this machine's clock it is 1970-01-02, and its own authority was made on 2026-11-23
    certificate-ends: the certificate of `tides.test` ends on 2026-11-23, in 12 days
    certificate-constraints: the local authority can't issue for `tides.test`, and clients refuse its certificate
    certificate-old: the server sends another certificate for `tides.test` than the one on disk: it was not reloaded since
    upstream-fails: the upstream of `tides.test`, http://127.0.0.1:3000, listens at ::1 only
    upstream-fails: the upstream of `tides.test`, http://127.0.0.1:3000, speaks TLS on that port
    upstream-fails: the upstream of `tides.test`, http://127.0.0.1:3000, accepts connections and sends no answer
    upstream-fails: the upstream of `tides.test`, http://127.0.0.1:3000, begins an answer that doesn't end
    upstream-fails: the upstream of `tides.test`, http://127.0.0.1:3000, closes connections without an answer
    upstream-fails: the upstream of `tides.test`, http://127.0.0.1:3000, answers with something that is not HTTP
    certificate-file: /data/fullchain.pem is missing: without it the server can't start, or doesn't serve the site
    certificate-file: /data/key.pem can't be read (denied): without it the server can't start, or doesn't serve the site
    certificate-file: /data/key.pem is damaged: without it the server can't start, or doesn't serve the site
    key-mismatch: the key of `tides.test` on disk is not the one that its certificate is for
    store-untrusting: Chromium doesn't trust the authority, and others of this machine do
    https-status: `https://tides.test/` answers 403: the server can't read the folder, or it has neither an index page nor a listing
    https-status: `http://tides.test/` answers 404: the document root has no index page
    https-status: `https://tides.test/` answers 502: a fault within the server or the application
    https-fails: `https://tides.test/` gives no proper answer
    https-fails: the request for the proof of `tides.test` failed
    index-missing: /srv/tides has no index page, and folders are not listed
    index-missing: the server looks for tides.html as index page, and /srv/tides has another one
    index-missing: the server lists /srv/tides, though it has index.html
    sandboxed: nginx.service keeps nginx from /tmp/tides: its sandbox has PrivateTmp=yes
    client-certificate: the server asks for client certificates at `tides.test`: nothing is proven
    access-denied: a line of the configuration forbids /srv/tides
    access-denied: a line of the configuration answers requests for /srv/tides with 410
    access-denied: a line of the configuration closes the connection of requests for /srv/tides
    access-denied: a line of the configuration keeps the server from the symbolic link that the index page of /srv/tides is
    server-silent: nginx's processes are stopped by a signal: connections wait
    server-silent: all workers of nginx are busy: connections wait
    server-silent: nginx takes connections and doesn't answer: it is busy, or hangs
    override-fault: the override file /srv/tides/.htaccess has a line that is refused for a site without PHP, since such lines can run programs: allow it if you trust the project
    override-fault: the override file /srv/tides/.htaccess has a line that Apache httpd can't take
    folder-missing: the folder of `tides.test` is gone: /srv/tides; map it again from where it is now
    folder-forbidden: the server may not read /srv/tides, or a rule there forbids it
    folder-forbidden: the server's user `www-data` may not enter /home/ada
    folder-forbidden: the server's user `www-data` may not read /srv/tides/index.html
    confined: the system's guard keeps nginx from /srv/tides
    answered-elsewhere: `tides.test` is answered, but not from /srv/tides
    answered-elsewhere: the virtual host of `tides.test` serves /srv/old, and not /srv/tides
    proof-intercepted: a rule of the project's own answers requests for files of /srv/tides: nothing is proven
    proof-not-written: the proof file could not be written below /srv/tides
    php-source: `tides.test` sends PHP files as text, with their source
    php-source: `tides.test` sends PHP files as text, with their source: the server's modules that pass them on are off
    php-source: `tides.test` sends PHP files as text, with their source: the lines that pass them on are gone from its virtual host
    php-forbidden: the server's user `www-data` may not use the socket of PHP, /run/php/php.sock
    php-busy: all 5 processes of PHP at /run/php/php.sock are at work: requests wait
    php-busy: the only process of PHP at /run/php/php.sock is at work: requests wait
    php-busy: PHP at /run/php/php.sock takes requests and doesn't answer
    php-fault: PHP ends with a fault: Call to undefined function tide()
    php-down: PHP is passed on to /run/php/gone.sock, and nothing answers there
    upstream-down: the upstream of `tides.test` doesn't answer at http://127.0.0.1:3000: start it
    upstream-down: the upstream of `tides.test` doesn't answer at http://127.0.0.1:3000, and `node` (process 4711 of user ada) listens on port 3001
    upstream-refuses-host: the upstream at http://127.0.0.1:3000 refuses requests under the name `tides.test`
    upstream-differs: what `tides.test` answers is not what http://127.0.0.1:3000 answers
    ");
    insta::assert_snapshot!(lines(evidence().iter().map(ToString::to_string).collect()), @"
    the system's words
    /etc/nginx/a b.conf:7
    /var/log/e.log:7: tide too low
    /etc/nginx/a b.conf:7 counts, /etc/nginx/a b.conf:9 doesn't
    neither a cache that runs nor /etc/nsswitch.conf explains it
    port 443: no route
    /etc/nginx/a b.conf:7: that line names servers for all names, and systemd-resolved asks one of them instead. Name them for a network connection, or take the line out
    no network is up, and systemd-resolved asks no server then. Browsers and curl still find names below `localhost`
    it only has loopback
    it has 127.0.0.1
    issued by CN=Tides
    it names none
    it names depot.test, *.depot.test
    its file is not enabled, was not loaded by the server, or has no `SSLEngine on`
    answered by `nginx/1.22`
    it leads to http://localhost/
    /tide?check=1 leads to https://tides.test/
    /a -> /b -> /a
    it says http://localhost:8080/
    the proof file was answered with 403
    a file put there a moment ago was answered with 404
    a file put there a moment ago came back with other content
    its mode is 0700
    403 under that name, and none under its own address
    it is nginx; its virtual hosts there: none
    it is nginx; its virtual hosts there: tides.test
    the link /etc/apache2/sites-enabled/tides.test.conf is missing
    looked for from /etc/apache2/apache2.conf on
    /etc/nginx/a b.conf:7: the first rule
    /etc/nginx/a b.conf:7: the first virtual host there has TLS off, which counts for all
    1 connection waits
    17 connections wait
    /etc/nginx/a b.conf:7: the first such rule; requests below /.well-known/ are to pass
    ");
    insta::assert_snapshot!(lines(remedies().iter().map(ToString::to_string).collect()), @"
    yandro map tides.test
    yandro map tides.test --take-over
    yandro map tides.test --address 127.0.0.1
    yandro map tides.test --http-port 8080 --https-port 8443 --server nginx
    yandro map tides.test --https only
    yandro map tides.test --fix-permissions
    yandro map tides.test --create
    yandro map tides.test --listing on
    yandro map tides.test --overrides all
    yandro map tides.test --upstream-host own
    yandro map tides.test --php
    yandro map tides.test --php='/run/php/a b.sock'
    yandro map tides.test '/srv/my tides' --create
    yandro unmap tides.test
    yandro settle
    yandro settle --put-back tides.test
    yandro servers stop nginx
    yandro servers start built-in
    yandro serve --listen 10.0.0.5
    yandro check tides.test --fix
    yandro check tides.test --watch
    yandro cert env tides.test
    yandro authority widen tides.test
    yandro authority trust
    sudo $(command -v yandro) ports
    ${EDITOR:-vi} +7 '/etc/nginx/a b.conf' && yandro servers reload apache
    ping -c 3 10.0.0.5
    ");
}

#[test]
fn a_foretold_cause_says_when_it_counts_unless_the_server_refuses_it_all() {
    let of = |cause| Diagnosis { foretold_for: Some(ServerId::NGINX), ..Diagnosis::new(cause) };
    let off = of(Cause::TlsOff { site: host() });
    assert!(off.sentence().ends_with("has TLS off; that counts once nginx is reloaded"));
    assert_eq!(off.severity(), Severity::Warning);
    let broken = of(Cause::ConfigurationBroken { server: ServerId::NGINX, refusal: ConfigurationRefusal::KeepsOld });
    assert!(broken.sentence().ends_with("goes on with what it read before"));
}

#[test]
fn a_site_that_was_rolled_back_is_fixed_by_mapping_it_whole() {
    let whole = Content::folder("/srv/my tides");
    let of = |remedy: Remedy| remedy.for_unlisted(&host(), &whole).to_string();
    let mapped = "yandro map tides.test '/srv/my tides'";
    assert_eq!(of(Remedy::map(&host(), [])), mapped);
    assert_eq!(of(Remedy::map(&host(), [MapOption::Listing])), format!("{mapped} --listing on"));
    for remedy in [Remedy::PutBack(host()), Remedy::Settle, Remedy::CheckAndFix(host())] {
        assert_eq!(of(remedy), mapped);
    }
    let edited = Remedy::Edit(Place { file: "/x".into(), line: 2 }).and(Remedy::Settle);
    assert_eq!(of(edited), format!("${{EDITOR:-vi}} +2 /x && {mapped}"));
    let other = Remedy::PutBack(HostName::parse("depot.test").unwrap());
    assert_eq!(of(other.clone()), other.to_string(), "another site is listed");
    assert_eq!(of(Remedy::map_to(&host(), "http://127.0.0.1:3001", [])), "yandro map tides.test http://127.0.0.1:3001");
}
