use std::borrow::Cow;

use proptest::prelude::*;

use super::*;
use crate::name::HostName;
use crate::site::ListId;

fn name(text: &str) -> HostName {
    HostName::parse(text).unwrap()
}

fn ada() -> ListId {
    ListId::new("ada", "/home/ada/sites.toml".into())
}

fn mapping(addresses: &[&str], names: &[&str]) -> Mapping {
    Mapping {
        addresses: addresses.iter().map(|address| address.parse().unwrap()).collect(),
        names: names.iter().map(|text| name(text)).collect(),
    }
}

fn pointed(text: &str, mapping: &Mapping) -> String {
    String::from_utf8(point(text.as_bytes(), &ada(), mapping, &[], TakeOver::No).unwrap().into_owned()).unwrap()
}

fn taken_over(text: &[u8], mapping: &Mapping) -> Vec<u8> {
    point(text, &ada(), mapping, &[], TakeOver::Yes).unwrap().into_owned()
}

#[test]
fn a_line_for_each_address_of_a_site_in_one_block() {
    let both = &["127.0.0.1", "::1"];
    let text = pointed("127.0.0.1\tlocalhost\n", &mapping(both, &["saltmarsh.test", "www.saltmarsh.test"]));
    let text = pointed(&text, &mapping(both, &["depot.saltmarsh.test"]));
    let text = pointed(&text, &mapping(&["192.168.1.7"], &["saltmarsh.test"]));
    insta::assert_snapshot!(text, @r"
    127.0.0.1	localhost
    # yandro sites of ada, in /home/ada/sites.toml: change them with yandro
    192.168.1.7	saltmarsh.test
    127.0.0.1	depot.saltmarsh.test
    ::1	depot.saltmarsh.test
    # end of yandro sites
    ");
    let order = [name("depot.saltmarsh.test"), name("saltmarsh.test")];
    let ordered = sorted(text.as_bytes(), &ada(), &order.iter().collect::<Vec<_>>()).into_owned();
    insta::assert_snapshot!(String::from_utf8(ordered.clone()).unwrap(), @r"
    127.0.0.1	localhost
    # yandro sites of ada, in /home/ada/sites.toml: change them with yandro
    127.0.0.1	depot.saltmarsh.test
    ::1	depot.saltmarsh.test
    192.168.1.7	saltmarsh.test
    # end of yandro sites
    ");
    assert!(matches!(sorted(&ordered, &ada(), &order.iter().collect::<Vec<_>>()), Cow::Borrowed(_)));
}

#[test]
fn user_edits_win() {
    let own = "127.0.0.1 localhost saltmarsh.test\n";
    let text = pointed(own, &mapping(&["127.0.0.1"], &["saltmarsh.test", "www.saltmarsh.test"]));
    assert!(text.starts_with(own) && text.contains("\n127.0.0.1\twww.saltmarsh.test\n"), "{text}");
    assert_eq!(pointed(own, &mapping(&["127.0.0.1"], &["saltmarsh.test"])), own);
    // Another family adds to the answer and takes nothing from it.
    assert!(pointed(own, &mapping(&["::1"], &["saltmarsh.test"])).contains("\n::1\tsaltmarsh.test\n"));
    let refused = |text: &str, take_over| {
        let elsewhere = mapping(&["127.0.0.2"], &["saltmarsh.test"]);
        point(text.as_bytes(), &ada(), &elsewhere, &[], take_over).unwrap_err().to_string()
    };
    insta::assert_snapshot!(refused("10.0.0.5 saltmarsh.test # the old machine\n", TakeOver::No), @"
    `saltmarsh.test` points to 10.0.0.5 here already, not to 127.0.0.2
      10.0.0.5 saltmarsh.test # the old machine
    ");
    insta::assert_snapshot!(refused(own, TakeOver::Yes), @"
    `saltmarsh.test` points to 127.0.0.1 here already, not to 127.0.0.2; the line can't be taken over, since it names `localhost`, too, and yandro doesn't touch such a line
      127.0.0.1 localhost saltmarsh.test
    ");
}

#[test]
fn a_line_that_is_taken_over_keeps_its_other_names() {
    let own = "10.0.0.5 buoy.test\tSaltmarsh.test  depot.saltmarsh.test # the old machine\n10.0.0.6 saltmarsh.test\n";
    let saltmarsh = mapping(&["127.0.0.1"], &["saltmarsh.test"]);
    let depot = mapping(&["127.0.0.1"], &["depot.saltmarsh.test"]);
    let both = taken_over(&taken_over(own.as_bytes(), &saltmarsh), &depot);
    insta::assert_snapshot!(String::from_utf8(both.clone()).unwrap(), @r"
    # yandro took over: 10.0.0.5 buoy.test	Saltmarsh.test  depot.saltmarsh.test # the old machine
    10.0.0.5 buoy.test # the old machine
    # yandro took over: 10.0.0.6 saltmarsh.test
    # yandro sites of ada, in /home/ada/sites.toml: change them with yandro
    127.0.0.1	saltmarsh.test
    127.0.0.1	depot.saltmarsh.test
    # end of yandro sites
    ");
    let rest = drop_names(&both, &ada(), &saltmarsh.names).into_owned();
    assert!(rest.starts_with(b"# yandro took over: 10.0.0.5"), "{}", String::from_utf8_lossy(&rest));
    assert_eq!(&*drop_names(&rest, &ada(), &depot.names), own.as_bytes());
}

/// Files as people have them and as they can't be.
fn any_file() -> impl Strategy<Value = Vec<u8>> {
    let part = prop_oneof![
        2 => Just(b"127.0.0.1\tlocalhost".to_vec()),
        4 => Just(b"\n".to_vec()),
        2 => Just(b"\r\n".to_vec()),
        1 => Just(b"\r".to_vec()),
        1 => Just(b"# note".to_vec()),
        1 => Just(b"\xef\xbb\xbf".to_vec()),
        2 => r"(127\.0\.0\.1|10\.0\.0\.[1-3]|::1|fe80::1%lo|127\.1)(( |\t|  )(saltmarsh\.test|Depot\.saltmarsh\.test|buoy\.test|tides)){0,3}( ?# note)?"
            .prop_map(String::into_bytes),
        1 => proptest::collection::vec(any::<u8>(), 0..20),
    ];
    proptest::collection::vec(part, 0..14)
        .prop_map(|parts| parts.concat())
        .prop_filter("UTF-16 is refused", |bytes| !bytes.starts_with(b"\xff\xfe") && !bytes.starts_with(b"\xfe\xff"))
}

/// The lines that are not yandro's.
fn persons_lines(bytes: &[u8]) -> Vec<Vec<u8>> {
    let mut inside = false;
    let lines = bytes.split(|byte| *byte == b'\n').filter(|line| {
        let was_inside = inside;
        inside = line.starts_with(b"# yandro sites of ") || (inside && !line.starts_with(b"# end of yandro sites"));
        !was_inside && !inside
    });
    lines.map(<[u8]>::to_vec).collect()
}

proptest! {
    #![proptest_config(crate::tests::cases(2000))]
    #[test]
    fn set_then_removed_gives_the_bytes_back(before in any_file(), in_turn in any::<bool>()) {
        let first = mapping(&["127.0.0.1", "::1"], &["saltmarsh.test", "www.saltmarsh.test"]);
        let second = mapping(&["10.0.0.2"], &["depot.saltmarsh.test"]);
        let Ok(once) = point(&before, &ada(), &first, &[], TakeOver::Yes) else { return Ok(()) };
        let once = once.into_owned();
        let looked_up = |text: &[u8], name| HostsFile::parse(text).lookup(name, AddressFamily::Any, Multi::On);
        prop_assert!(looked_up(&once, &first.names[0]).iter().all(|answer| first.addresses.contains(answer)));
        prop_assert!(!looked_up(&once, &first.names[1]).is_empty());
        prop_assert!(matches!(point(&once, &ada(), &first, &[], TakeOver::No).unwrap(), Cow::Borrowed(_)), "it says so already");
        let Ok(both) = point(&once, &ada(), &second, &[], TakeOver::Yes) else { return Ok(()) };
        prop_assert!(looked_up(&both, &second.names[0]).iter().all(|answer| *answer == second.addresses[0]));
        let (early, late) = if in_turn { (&first, &second) } else { (&second, &first) };
        let rest = drop_names(&both, &ada(), &early.names);
        prop_assert_eq!(&*drop_names(&rest, &ada(), &late.names), &before[..]);
    }

    #[test]
    fn many_lines_at_once_are_as_one_after_the_other(
        before in any_file(),
        names in prop::collection::vec((0..5_usize, 0..3_usize), 0..8),
    ) {
        const NAMES: [&str; 5] = ["saltmarsh.test", "www.saltmarsh.test", "tides.test", "buoy.test", "moon.test"];
        let names: Vec<(HostName, std::net::IpAddr)> = names
            .into_iter()
            .map(|(name, address)| (HostName::parse(NAMES[name]).unwrap(), ["10.0.0.2", "10.0.0.3", "::2"][address].parse().unwrap()))
            .collect();
        let one_by_one = names.iter().try_fold(before.clone(), |text, (name, address)| {
            set_line(&text, name, *address).map(Cow::into_owned)
        });
        let at_once = set_lines(&before, names.iter().map(|(name, address)| (name, *address)));
        prop_assert_eq!(at_once.ok(), one_by_one.ok());
    }

    #[test]
    fn an_edit_changes_no_line_but_its_own(before in any_file(), ending in "\n?") {
        let before = [&before, ending.as_bytes()].concat();
        let site = mapping(&["127.0.0.1"], &["saltmarsh.test", "tides"]);
        let Ok(after) = point(&before, &ada(), &site, &[], TakeOver::No) else { return Ok(()) };
        // A last line without an end gets one when the block comes behind it.
        let trimmed = |lines: Vec<Vec<u8>>| -> Vec<Vec<u8>> {
            lines.into_iter().map(|line| line.trim_ascii_end().to_vec()).collect()
        };
        let (mut was, mut is) = (trimmed(persons_lines(&before)), trimmed(persons_lines(&after)));
        was.retain(|line| !line.is_empty());
        is.retain(|line| !line.is_empty());
        prop_assert_eq!(was, is);
    }

    #[test]
    fn a_persons_line_set_then_removed(before in any_file()) {
        let tides = name("moon.test");
        let set = set_line(&before, &tides, "10.0.0.9".parse().unwrap()).unwrap();
        prop_assert_eq!(HostsFile::parse(&set).lookup(&tides, AddressFamily::Any, Multi::On), vec!["10.0.0.9".parse::<core::net::IpAddr>().unwrap()]);
        prop_assert_eq!(&*remove_lines(&set, tides.as_str()).unwrap(), &before[..]);
    }
}

#[test]
fn each_list_has_a_block_and_touches_no_other() {
    let bob = ListId::new("bob", "/home/bob/sites.toml".into());
    let tides = mapping(&["127.0.0.1"], &["tides.test"]);
    let start = "127.0.0.1 localhost";
    let ours = pointed(start, &mapping(&["127.0.0.1"], &["saltmarsh.test"]));
    let both = point(ours.as_bytes(), &bob, &tides, &[], TakeOver::Yes).unwrap().into_owned();
    assert_eq!(HostsFile::parse(&both).own_names(&bob), tides.names);
    let refused = point(&both, &ada(), &tides, &[], TakeOver::Yes).unwrap_err().to_string();
    assert_eq!(refused, "`tides.test` belongs to the site list of user `bob` (/home/bob/sites.toml)");
    assert!(matches!(drop_names(&both, &ada(), &tides.names), Cow::Borrowed(_)), "not ours");
    let his = drop_names(&both, &ada(), &[name("saltmarsh.test")]).into_owned();
    assert_eq!(his, point(start.as_bytes(), &bob, &tides, &[], TakeOver::No).unwrap().into_owned());
    assert_eq!(drop_names(&his, &bob, &tides.names).into_owned(), start.as_bytes());
}

#[test]
fn a_block_of_an_earlier_build_goes_to_the_list_that_has_its_sites() {
    let head = "# yandro sites: these lines follow the site list, see `yandro sites`\r\n";
    let before = format!("127.0.0.1 localhost\r\n{head}127.0.0.1\tsaltmarsh.test\r\n# end of yandro sites\r\n");
    let saltmarsh = name("saltmarsh.test");
    let after = adopted(before.as_bytes(), &ada(), || vec![&saltmarsh]).into_owned();
    assert_eq!(String::from_utf8(after).unwrap(), before.replace(head.trim_end(), &parse::block_head(&ada())));
    // With a stranger's name in it, the list takes its own names only.
    let mixed = before.replace("# end", "127.0.0.1\ttides.test\r\n# end");
    assert!(matches!(adopted(mixed.as_bytes(), &ada(), || vec![&saltmarsh]), Cow::Borrowed(_)));
    let split = pointed(&mixed, &mapping(&["127.0.0.1"], &["saltmarsh.test"]));
    assert_eq!(HostsFile::parse(split.as_bytes()).unowned_names(), [name("tides.test")]);
    assert_eq!(HostsFile::parse(split.as_bytes()).own_names(&ada()), [saltmarsh]);
}
