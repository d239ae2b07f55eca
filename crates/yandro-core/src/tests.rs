//! Every error in words. Each list is checked by the compiler: a variant without a line in it does not build. (Findings have
//! such a test in `check::tests::words`.)

use proptest::prelude::ProptestConfig;

use crate::config::{ConfigFault, ParseError, PathError, Place};
use crate::hosts::{Conflict, EditError, OwnBlockError};
use crate::name::{HostName, NameError};
use crate::pack::PackError;
use crate::pki::{NetworkError, NotVetted, PkiError};
use crate::plan::{PlanError, UndoError};
use crate::site::{InvalidValue, ListId, ServerId, ServerName, SiteList, Upstream};
use crate::source::Excerpt;

/// One value of each variant, in words; fails to compile while a variant is missing.
macro_rules! in_words {
    ($type:ident { $($pattern:pat => $value:expr),* $(,)? }) => {{
        let all: Vec<$type> = vec![$($value),*];
        for error in &all {
            match error { $($pattern => {})* }
        }
        all.iter().map(|error| format!("{error}\n")).collect::<String>()
    }};
}

/// How many cases of a property are tried: as many as it needs, or a part of them where `PROPTEST_CASES` is below its
/// usual 256, for machines that are emulated.
pub(crate) fn cases(usual: u32) -> ProptestConfig {
    let wanted = ProptestConfig::default().cases.min(256);
    ProptestConfig::with_cases((usual * wanted / 256).max(1))
}

fn name(text: &str) -> HostName {
    HostName::parse(text).unwrap()
}

fn text() -> String {
    "ferry".to_owned()
}

fn excerpt() -> Excerpt {
    Excerpt::new(b"listen 80\n", &(7..9))
}

fn place() -> Place {
    Place { file: "/etc/nginx/nginx.conf".into(), line: 7 }
}

fn parse_error() -> ParseError {
    ParseError { message: "`listen` has no end".into(), excerpt: excerpt() }
}

fn path_error() -> PathError {
    PathError::new("/srv/fer\nry", "it has a line end in it")
}

fn list() -> ListId {
    ListId::new("bob", "/home/bob/sites.toml".into())
}

#[test]
fn every_error_of_names_and_values_reads_as_written_here() {
    let suggested = || Some("tides.test".to_owned());
    let names = in_words!(NameError {
        NameError::Empty => NameError::Empty,
        NameError::Url { .. } => NameError::Url { text: "https://tides.test/".into(), name: suggested() },
        NameError::Port { .. } => NameError::Port { text: "tides.test:80".into(), name: suggested() },
        NameError::Address { .. } => NameError::Address { text: "10.0.0.5".into() },
        NameError::Wildcard { .. } => NameError::Wildcard { text: "*.test".into() },
        NameError::Character { .. } => NameError::Character {
            text: "salt_marsh.test".into(),
            character: "an underscore".into(),
            name: Some("salt-marsh.test".into()),
        },
        NameError::Label { .. } => NameError::Label { text: "-a.test".into(), fault: "`-a` begins with a hyphen".into() },
        NameError::Long { .. } => NameError::Long { text: text(), length: 260 },
        NameError::Numeric { .. } => NameError::Numeric { text: "tides.7".into() },
        NameError::Localhost => NameError::Localhost,
    });
    let values = in_words!(InvalidValue {
        InvalidValue::Name(_) => NameError::Empty.into(),
        InvalidValue::Upstream(_) => Upstream::parse("ferry").unwrap_err().into(),
        InvalidValue::Server(_) => ServerName::parse("a b").unwrap_err().into(),
        InvalidValue::FastCgi(_) => InvalidValue::FastCgi(text()),
        InvalidValue::Port(_) => InvalidValue::Port(text()),
        InvalidValue::PortZero => InvalidValue::PortZero,
        InvalidValue::PortTwice(_) => InvalidValue::PortTwice(8080),
        InvalidValue::FileName(_) => InvalidValue::FileName("a/b".into()),
        InvalidValue::SitePath(_) => InvalidValue::SitePath("/a?b".into()),
        InvalidValue::AbsolutePath(_) => InvalidValue::AbsolutePath(text()),
        InvalidValue::PathBelow(_) => InvalidValue::PathBelow("../x".into()),
        InvalidValue::Address(_) => InvalidValue::Address(text()),
        InvalidValue::Days(_) => InvalidValue::Days(text()),
        InvalidValue::TooManyDays => InvalidValue::TooManyDays,
        InvalidValue::Variable(_) => InvalidValue::Variable(text()),
        InvalidValue::ReservedVariable(_) => InvalidValue::ReservedVariable(text()),
        InvalidValue::VariableValue(_) => InvalidValue::VariableValue(text()),
        InvalidValue::PhpVersion(_) => InvalidValue::PhpVersion("eight".into()),
        InvalidValue::Word { .. } => InvalidValue::Word { word: text(), known: vec!["on", "off"] },
    });
    let networks = in_words!(NetworkError {
        NetworkError::NotOne(_) => NetworkError::NotOne(text()),
        NetworkError::TooWide(_) => NetworkError::TooWide("0.0.0.0/0".into()),
        NetworkError::Begins { .. } => NetworkError::Begins {
            text: "10.0.0.1/8".into(),
            network: "10.0.0.0/8".parse().unwrap(),
        },
    });
    insta::assert_snapshot!([names, values, networks].concat(), @"
    a host name is missing: give one such as `saltmarsh.test`
    `https://tides.test/` is the address of a page, not a host name: give only the name
    `tides.test:80` names a port, and a host name has none: give only the name
    `10.0.0.5` is an IP address, not a host name: give a name such as `saltmarsh.test`
    `*.test` is a wildcard, and a hosts file can't hold one; to have a site answer all names below it: yandro map NAME --tenants
    `salt_marsh.test` is not a host name: it can't contain an underscore, only letters, digits, hyphens and dots
    `-a.test` is not a host name: `-a` begins with a hyphen
    `ferry` is not a host name: it has 260 bytes, and 253 is the most that a name may have
    `tides.7` ends in a number, and browsers take such a name for an IP address: give it a suffix such as `.test`
    `localhost` is this machine's own name and stays as it is: map a name below it, such as `saltmarsh.localhost`
    a host name is missing: give one such as `saltmarsh.test`
    `ferry` is not an upstream: give `http://HOST:PORT`, such as `http://127.0.0.1:3000`, without a path
    `a b` can't be a server's name
    `ferry` is no FastCGI server: give a socket's absolute path, or `HOST:PORT` such as `127.0.0.1:9000`
    `ferry` is not a port
    a port is a number from 1 to 65535
    port 8080 is given twice
    `a/b` is not a file name: give one such as `index.php`
    `/a?b` is not a path of the site: give one such as `/index.php`
    `ferry` is not an absolute path: begin it with `/` or `~/`
    `../x` is not a path below the folder: give one such as `public`
    `ferry` is no IP address: give one such as `127.0.0.1` or `::1`
    `ferry` is not a number of days
    a certificate lasts from one day to 825: Apple's systems take no longer one
    `ferry` is not a variable: write it as `NAME=VALUE`, or a secret as `NAME@FILE`
    the variable `ferry` is set by the server, or changes how programs run
    the value of `ferry` has a `$`, a backslash or a control character, which servers don't take as it is
    `eight` is not a version of PHP: give one such as `8.2`
    unknown variant `ferry`, expected one of `on`, `off`
    `ferry` is not a network
    `0.0.0.0/0` is wider than any private network (RFC 1918, RFC 4193)
    `10.0.0.1/8` is not a network: it begins at 10.0.0.0/8
    ");
    let list = SiteList::parse("[[site]]\nname = \"saltmarsh.test\"\nferry = 1\n", None).unwrap_err();
    insta::assert_snapshot!(list, @"
    unknown field `ferry`, expected one of `name`, `aliases`, `folder`, `document-root`, `upstream`, `server`, `https`, `disabled`, `certificate-wildcard`, `certificate-addresses`, `certificate-days`, `certificate-key`, `address`, `http-ports`, `https-ports`, `by-address`, `only-here`, `tenants`, `redirect-aliases`, `listing`, `overrides`, `symlinks`, `http2`, `caching`, `upstream-host`, `index`, `fallback`, `php`, `php-as-owner`, `env`, `extra`, `logs`, `step`
      3 | ferry = 1
        | ^^^^^
    ");
}

#[test]
fn every_error_of_certificates_reads_as_written_here() {
    let certificates = in_words!(PkiError {
        PkiError::NameOutside { .. } => PkiError::NameOutside { name: "ferries.example.com".into(), permitted: "`.test`".into() },
        PkiError::AddressOutside { .. } => PkiError::AddressOutside {
            address: "10.0.0.5".into(),
            permitted: "127.0.0.0/8".into(),
        },
        PkiError::Nameless => PkiError::Nameless,
        PkiError::AuthorityEnds { .. } => PkiError::AuthorityEnds { end: "2026-12-01".into() },
        PkiError::Days(_) => PkiError::Days(826),
        PkiError::WideWildcard(_) => PkiError::WideWildcard("test".into()),
        PkiError::Request(_) => PkiError::Request(text()),
        PkiError::Objection(_) => PkiError::Objection(text()),
        PkiError::Profile(_) => PkiError::Profile(text()),
        PkiError::KeyNotMade { .. } => PkiError::KeyNotMade { kind: "RSA", why: text() },
        PkiError::Key => PkiError::Key,
        PkiError::Locked => PkiError::Locked,
        PkiError::Passphrase => PkiError::Passphrase,
        PkiError::Certificate(_) => PkiError::Certificate(text()),
        PkiError::Sign(_) => PkiError::Sign(text()),
    });
    let roots = in_words!(NotVetted {
        NotVetted::Unreadable(_) => PkiError::Certificate(text()).into(),
        NotVetted::More => NotVetted::More,
        NotVetted::Profile(_) => NotVetted::Profile(text()),
        NotVetted::OtherUser { .. } => NotVetted::OtherUser { subject: "CN=bob".into() },
        NotVetted::Suffix(_) => NotVetted::Suffix("example.com".into()),
        NotVetted::Network(_) => NotVetted::Network("10.0.0.0/8".parse().unwrap()),
    });
    insta::assert_snapshot!([certificates, roots].concat(), @"
    the authority can't issue for `ferries.example.com`: it is limited to names that end in `.test`
    the authority can't issue for 10.0.0.5: it is limited to 127.0.0.0/8
    a certificate needs at least one name or address
    the authority's certificate ends on 2026-12-01, too soon to issue anything
    a certificate of 826 days can't be issued: it lasts at least one, and Apple's systems take no more than 825
    `*.test` can't be issued: nobody takes a wildcard right below a suffix
    the signing request can't be taken: ferry
    nobody would take the certificate: ferry
    what was made is not as it has to be: ferry
    a new RSA key can't be made: ferry
    the key is no P-256, P-384 or RSA key in PKCS#8 form
    the authority's key is behind a passphrase
    that is not the passphrase of the key
    the certificate can't be read: ferry
    the certificate could not be signed: ferry
    the certificate can't be read: ferry
    there is more than one certificate in the file
    it is not a root certificate of yandro: ferry
    it was made for another user: CN=bob
    it may speak for names below `example.com`, which other users of this computer may rely on
    it may speak for addresses in 10.0.0.0/8, not only for this computer's own
    ");
}

fn edit_errors() -> Vec<EditError> {
    let conflict = |fixed| {
        let (address, wanted) = ("10.0.0.9".parse().unwrap(), "127.0.0.1".parse().unwrap());
        let text = "10.0.0.9 crew.test # by hand".to_owned();
        EditError::Conflict(Box::new(Conflict { line: 2, text, name: name("crew.test"), address, wanted, fixed }))
    };
    vec![
        conflict(None),
        conflict(Some("it names `localhost` as well")),
        EditError::Localhost { line: 1, name: "crew.test".into() },
        EditError::OtherList { line: 3, name: name("crew.test"), list: list() },
        EditError::Utf16,
    ]
}

#[test]
#[allow(clippy::too_many_lines, reason = "it is a table")]
fn every_error_of_plans_reads_as_written_here() {
    let own = in_words!(OwnBlockError {
        OwnBlockError::Name(_) => OwnBlockError::Name(text()),
        OwnBlockError::Taken { .. } => OwnBlockError::Taken { line: 7, name: "crew.test".into() },
        OwnBlockError::Encoding => OwnBlockError::Encoding,
    });
    for error in edit_errors() {
        match error {
            EditError::Conflict(_) | EditError::Localhost { .. } | EditError::OtherList { .. } | EditError::Utf16 => {}
        }
    }
    let hosts = edit_errors().into_iter().map(|error| PlanError::Hosts { path: "/etc/hosts".into(), error });
    let hosts: String = hosts.map(|error| format!("{error}\n")).collect();
    let plans = in_words!(PlanError {
        PlanError::HostsMissing(_) => PlanError::HostsMissing("/etc/hosts".into()),
        PlanError::Hosts { .. } => PlanError::Hosts { path: "/etc/hosts".into(), error: EditError::Utf16 },
        PlanError::ReservedName(_) => PlanError::ReservedName(name("0.invalid")),
        PlanError::NameTaken { .. } => PlanError::NameTaken { name: name("tides.test"), owner: name("saltmarsh.test") },
        PlanError::HttpsForced(_) => PlanError::HttpsForced(name("tides.dev")),
        PlanError::Pki(_) => PkiError::Nameless.into(),
        PlanError::Issued { .. } => PlanError::Issued { path: "/srv/fullchain.pem".into(), error: PkiError::Nameless },
        PlanError::ServerMissing(_) => PlanError::ServerMissing(ServerId::NGINX),
        PlanError::ModuleMissing { .. } => PlanError::ModuleMissing { module: "ssl".into(), install: Some("mod_ssl") },
        PlanError::Prefork { .. } => PlanError::Prefork { server: ServerId::APACHE, has_links: true },
        PlanError::Broken(..) => PlanError::Broken(
            ServerId::NGINX,
            Box::new(ConfigFault { excerpt: Some(excerpt()), ..ConfigFault::new(place(), "`listen` has no end") }),
        ),
        PlanError::Unreached { .. } => PlanError::Unreached { what: "Listen 443".into(), file: "/etc/ports.conf".into() },
        PlanError::OtherList { .. } => PlanError::OtherList {
            name: name("crew.test"),
            list: list(),
            path: "/etc/nginx/conf.d/yandro-crew.test.conf".into(),
        },
        PlanError::VirtualHostTaken { .. } => PlanError::VirtualHostTaken { place: place(), name: name("crew.test") },
        PlanError::LinkTaken { .. } => PlanError::LinkTaken { path: "/etc/a".into(), target: "/etc/b".into() },
        PlanError::NameBucket { .. } => PlanError::NameBucket { place: place(), size: 32, needed: 64 },
        PlanError::NotSeen { .. } => PlanError::NotSeen { server: ServerId::NGINX, path: "/srv".into() },
        PlanError::NameServers { .. } => PlanError::NameServers { name: name("tides.test"), path: "/etc/resolv.conf".into() },
        PlanError::ResolverTaken(_) => PlanError::ResolverTaken("/etc/resolver/tides.test".into()),
        PlanError::SuffixTenants(_) => PlanError::SuffixTenants(name("ferries")),
        PlanError::AmongTenants { .. } => {
            PlanError::AmongTenants { name: name("tides.saltmarsh.test"), site: name("saltmarsh.test") }
        },
        PlanError::Path(_) => path_error().into(),
        PlanError::PhpMissing { .. } => PlanError::PhpMissing { version: "7.0".into(), name: name("tides.test") },
        PlanError::PoolOwner { .. } => PlanError::PoolOwner { name: name("tides.test"), folder: "/srv/tides".into() },
        PlanError::PoolServer(_) => PlanError::PoolServer(name("tides.test")),
        PlanError::PoolName(_) => PlanError::PoolName(name("tides.test")),
        PlanError::PoolTaken(_) => PlanError::PoolTaken("/etc/php-fpm.d/yandro-tides.test.conf".into()),
        PlanError::PoolScript { .. } => {
            PlanError::PoolScript { name: name("tides.test"), path: "/home/a$b/tides.test.php".into() }
        },
        PlanError::SiteFile { .. } => PlanError::SiteFile { path: "/etc/a.conf".into(), error: parse_error() },
    });
    let undo = in_words!(UndoError {
        UndoError::SiteChanged(_) => UndoError::SiteChanged(name("tides.test")),
        UndoError::Edited { .. } => UndoError::Edited { path: "/etc/hosts".into(), made: Vec::new() },
        UndoError::Overlaps(_) => UndoError::Overlaps("/etc/hosts".into()),
        UndoError::AuthorityReplaced => UndoError::AuthorityReplaced,
        UndoError::Plan(_) => PlanError::ReservedName(name("0.invalid")).into(),
    });
    let packs = in_words!(PackError {
        PackError::Path(_) => path_error().into(),
        PackError::Written(_) => parse_error().into(),
        PackError::OwnTls(_) => PackError::OwnTls("tides.test".into()),
        PackError::NotPublished(_) => PackError::NotPublished(443),
    });
    insta::assert_snapshot!([own, hosts, plans, undo, packs].concat(), @r"
    `ferry` is not a host name
    line 7 of the hosts file, outside your own block, already has `crew.test`
    the hosts file has an encoding that the system does not read
    /etc/hosts:2: `crew.test` points to 10.0.0.9 here already, not to 127.0.0.1
      10.0.0.9 crew.test # by hand
    /etc/hosts:2: `crew.test` points to 10.0.0.9 here already, not to 127.0.0.1; the line can't be taken over, since it names `localhost` as well
      10.0.0.9 crew.test # by hand
    /etc/hosts:1: the line has `localhost` and `crew.test`, and yandro never changes a line of `localhost`: remove the name by hand
    /etc/hosts:3: `crew.test` belongs to the site list of user `bob` (/home/bob/sites.toml)
    /etc/hosts: the file is encoded as UTF-16, of which the resolver reads no line: save it as plain ASCII text
    the hosts file `/etc/hosts` is missing
    /etc/hosts: the file is encoded as UTF-16, of which the resolver reads no line: save it as plain ASCII text
    `0.invalid` can't be the name of a site: yandro's default virtual hosts for unknown host names have it
    `tides.test` already belongs to the site `saltmarsh.test`
    browsers ask for `tides.dev` only over HTTPS, whatever is typed: without HTTPS nobody would reach it
    a certificate needs at least one name or address
    /srv/fullchain.pem: a certificate needs at least one name or address
    no nginx was found
    Apache httpd has no module `ssl` to load: its configuration has no line for it that could be switched on, and among its modules there is no `mod_ssl.so`
    Apache httpd can't speak HTTP/2, since it runs one process for each connection (prefork)
    the configuration of nginx is broken already, before anything was changed: /etc/nginx/nginx.conf:7: `listen` has no end
    `Listen 443` would have no effect in /etc/ports.conf: that part of it doesn't count
    `crew.test` belongs to the site list of user `bob` (/home/bob/sites.toml): /etc/nginx/conf.d/yandro-crew.test.conf
    /etc/nginx/nginx.conf:7: a virtual host that yandro did not write already answers to `crew.test`
    /etc/a: points to `/etc/b`, not to the file that yandro writes
    /etc/nginx/nginx.conf:7: `server_names_hash_bucket_size 32` is too small for the site's longest name, which needs 64
    the server `nginx` doesn't see /srv: no path mapping contains it
    names below `tides.test` need a DNS server, and neither systemd-resolved nor NetworkManager's dnsmasq resolves names here that could be told of one: only /etc/resolv.conf is left, which all programs of this computer read
    /etc/resolver/tides.test is not of yandro's making, and says already which server is asked for these names
    `ferries` can't have tenants: it is a suffix, and nobody takes a certificate for all names right below one
    Apache httpd would answer `tides.saltmarsh.test` as one of the names below `saltmarsh.test`: it reads the files of sites in the order of their names, and takes the first that fits
    the path `/srv/fer\nry` can't be written into the server's configuration: it has a line end in it; rename that folder
    `tides.test` is to run in a pool of its own in the php-fpm of PHP 7.0, which isn't installed here
    PHP can't run as the owner of /srv/tides for `tides.test`: that isn't you, or it is root or a service's account
    a pool of its own for `tides.test` needs Apache httpd or nginx on this computer, which connects to it
    `tides.test` is too long for the socket of a pool of its own: at most 80 letters
    /etc/php-fpm.d/yandro-tides.test.conf is not of yandro's making, and the site's pool of php-fpm has to be there
    php-fpm can't take the path /home/a$b/tides.test.php of the script that reads the secrets of `tides.test`
    /etc/a.conf:1: `listen` has no end
      1 | listen 80
        |        ^^
    the site `tides.test` was changed again since
    /etc/hosts was edited since, and taking it away would lose that
    the lines that it changed in /etc/hosts were changed again since
    the authority was replaced again since
    `0.invalid` can't be the name of a site: yandro's default virtual hosts for unknown host names have it
    the path `/srv/fer\nry` can't be written into the server's configuration: it has a line end in it; rename that folder
    `listen` has no end
      1 | listen 80
        |        ^^
    tides.test speaks TLS itself: there is nothing that a web server could do for it
    the site's port 443 is not published
    ");
}
