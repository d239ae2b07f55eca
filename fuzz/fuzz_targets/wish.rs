//! Any bytes as a request to the helper: nothing panics, a site's file holds yandro's own directives, its
//! logs are where they are to be, and nothing outside the caller's block in the hosts file changes.

#![no_main]

use camino::Utf8Path;
use libfuzzer_sys::fuzz_target;
use yandro_core::{ListId, ServerKind, ServerTraits, Site, SiteFiles, SiteList, Variable, Wish, own_hosts_lines, site_file, vetted_root, with_own_hosts_lines};

const HOSTS: &[u8] = b"127.0.0.1 localhost\n10.0.0.1 nas\n";

fn check(site: &Site, kind: ServerKind) {
    let files = SiteFiles {
        list: None,
        document_root: site.document_root().map(Into::into),
        certificate: "/home/ada/c/fullchain.pem".into(),
        key: "/home/ada/c/key.pem".into(),
        extra: None,
        logs: site.serving.logs.folder().map(Into::into),
        server: ServerTraits {
            log_folder: "/var/log/server".into(),
            log_format: "combined".into(),
            variable: if kind == ServerKind::Apache { Variable::Braced } else { Variable::Plain },
            ..ServerTraits::default()
        },
    };
    if files.check(&site.serving).is_err() {
        return;
    }
    let written = site_file(kind.software().dialect(), None, None, (site, &files)).expect("nothing stands in the way");
    assert_eq!(kind.foreign_directives(&written), Some(Vec::new()));
    let tree = kind.software().dialect().parse(&written).expect("it is read back");
    let folder = site.serving.logs.folder().map_or("/var/log/server", |folder| folder.as_str());
    for host in tree.all(kind.software().dialect().host()) {
        for log in ["CustomLog", "ErrorLog", "access_log", "error_log"].into_iter().flat_map(|name| host.directives(name)) {
            let path = log.values().next().unwrap_or_default();
            assert!(matches!(path, "/dev/null" | "off") || path.starts_with(&format!("{folder}/{}-", site.name)), "{path}");
        }
    }
}

fuzz_target!(|bytes: &[u8]| {
    let Ok(wish) = serde_json::from_slice::<Wish>(bytes) else { return };
    for list in [&wish.before, &wish.after] {
        for site in SiteList::parse(list, None).unwrap_or_default().sites {
            ServerKind::ALL.into_iter().for_each(|kind| check(&site, *kind));
        }
    }
    let list = ListId::new("ada", Utf8Path::new("/home/ada/.config/yandro/sites.toml"));
    if let Ok(text) = with_own_hosts_lines(HOSTS, &list, &wish.hosts) {
        assert!(text.starts_with(HOSTS));
        let names = |lines: &[yandro_core::OwnLine]| lines.iter().map(|line| (line.address, line.names.clone())).collect::<Vec<_>>();
        assert_eq!(names(&own_hosts_lines(&text, &list)), names(&wish.hosts));
        assert_eq!(with_own_hosts_lines(&text, &list, &[]).as_deref(), Ok(HOSTS));
    }
    if let Some(root) = &wish.root {
        _ = vetted_root(root, "ada");
    }
});
