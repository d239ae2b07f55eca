//! Any bytes as a hosts file: nothing panics, edits go back to the byte, fixing comes to an end.

#![no_main]

use libfuzzer_sys::fuzz_target;
use yandro_core::{HostName, LintContext, ListId, Mapping, Multi, SiteList, Sorting, Surroundings, TakeOver, drop_hosts_names, lint_hosts, fixed_hosts, point_name, remove_hosts_lines, set_hosts_line};

fuzz_target!(|bytes: &[u8]| {
    let name = |text: &str| HostName::parse(text).expect("it is a name");
    let list = ListId::new("ada", "/home/ada/.config/yandro/sites.toml".into());
    let site = Mapping {
        addresses: vec!["127.0.0.1".parse().expect("it is one"), "::1".parse().expect("it is one")],
        names: vec![name("a.test"), name("b.test")],
    };
    // Text that looks like yandro's own may be changed.
    let is_ours = |text: &[u8]| text.windows(6).any(|part| part == b"yandro");
    if let Ok(pointed) = point_name(bytes, &list, &site, &[], TakeOver::Yes) {
        if !is_ours(bytes) {
            assert_eq!(&*drop_hosts_names(&pointed, &list, &site.names), bytes);
        }
    }
    if let Ok(set) = set_hosts_line(bytes, &name("c.test"), "10.0.0.1".parse().expect("it is one")) {
        _ = remove_hosts_lines(&set, "c.test");
    }
    let sites = SiteList::default();
    let context = LintContext {
        list: &list,
        sites: &sites,
        folders_gone: &[],
        sorting: Sorting { multi: Multi::On, is_usable: &|_| true },
        surroundings: &Surroundings::default(),
        path: "/etc/hosts",
    };
    lint_hosts(bytes, &context);
    fixed_hosts(bytes, &context);
});
