//! Plans applied to a disk in memory, in any order.

use std::collections::{BTreeMap, BTreeSet};

use camino::{Utf8Path, Utf8PathBuf};
use proptest::prelude::*;
use ring::rand::{SecureRandom as _, SystemRandom};
use ring::signature::{ECDSA_P256_SHA256_ASN1_SIGNING, EcdsaKeyPair};
use time::macros::datetime;

mod declared;
mod disk;

use disk::*;

use super::*;
use crate::config::LayoutDisk;
use crate::config::{Files, Layout, OTHERS, PathPair, PathView, Published, Seen};
use crate::hosts::HostsFile;
use crate::name::HostName;
use crate::pki::{CertificateFacts, Constraints, Key, KeyKind, PkiError};
use crate::servers::httpd::KNOWN;
use crate::servers::{Loopback6, Seeing, ServerKind, ServerReport, Start};
use crate::site::{Content, FastCgi, Https, ListId, Listing, Logs, ServerId, Serving, Site, SiteList, Upstream};

struct Random;

impl Fresh for Random {
    fn key(&mut self, _: KeyKind) -> Result<Key, PkiError> {
        let der = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, &SystemRandom::new()).unwrap();
        Key::from_pkcs8_der(der.as_ref())
    }

    fn bytes(&mut self) -> [u8; 16] {
        let mut bytes = [0; 16];
        SystemRandom::new().fill(&mut bytes).unwrap();
        bytes
    }
}

/// An action of the user.
#[derive(Clone, Debug)]
enum Deed {
    Map(Box<Site>),
    Unmap(usize),
    EditHosts,
    Settle,
}

fn site() -> impl Strategy<Value = Site> {
    let https = prop_oneof![Just(Https::Only), Just(Https::Both), Just(Https::Off)];
    (0..3usize, any::<bool>(), 0..3usize, 0..4usize, https, 0..4usize).prop_map(
        |(which, alias, content, server, https, serving)| Site {
            aliases: if alias { vec![name(&format!("www.{}", NAMES[which]))] } else { Vec::new() },
            server: Some([ServerId::APACHE, ServerId::NGINX, harbour(), ServerId::BuiltIn][server]),
            https,
            serving: match serving {
                0 => Serving::default(),
                1 => Serving { http_ports: vec![8080, 80], https_ports: vec![8443], ..Serving::default() },
                2 => {
                    Serving { by_address: true, logs: Logs::Off, index: vec!["tide.html".into()], ..Serving::default() }
                }
                _ => Serving {
                    php: FastCgi::parse("127.0.0.1:9000").ok(),
                    listing: Listing::Off,
                    extra: Some("/srv/extra.conf".into()),
                    fallback: Some("/index.php".into()),
                    ..Serving::default()
                },
            },
            ..Site::new(
                name(NAMES[which]),
                match content {
                    0 => Content::Upstream(Upstream::parse("http://127.0.0.1:3000").unwrap()),
                    1 => Content::folder("/srv/salt marsh"),
                    _ => Content::Folder { folder: "/srv/depot".into(), document_root: Some("public".into()) },
                },
            )
        },
    )
}

fn deed() -> impl Strategy<Value = Deed> {
    prop_oneof![5 => site().prop_map(|site| Deed::Map(Box::new(site))), 2 => (0..3usize).prop_map(Deed::Unmap), 1 => Just(Deed::EditHosts), 1 => Just(Deed::Settle)]
}

proptest! {
    #![proptest_config(crate::tests::cases(128))]
    #[test]
    fn whatever_is_done_the_machine_is_as_the_list_says_and_goes_back(layout in 0..LAYOUTS.len(), deeds in proptest::collection::vec(deed(), 1..12)) {
        let mut disk = Disk::new(layout);
        let first = disk.clone();
        let mut by_hand = 0;
        for deed in &deeds {
            let (before, list) = (disk.clone(), disk.list());
            let set = match deed {
                Deed::Map(site) => map_site(&disk.observe(), &list, site, &mut Random).unwrap(),
                Deed::Unmap(which) => match list.site(&name(NAMES[*which])) {
                    Some(site) => unmap_sites(&disk.observe(), &[site]).unwrap(),
                    None => continue,
                },
                Deed::EditHosts => {
                    by_hand += 1;
                    disk.files.get_mut(Utf8Path::new("/etc/hosts")).unwrap().extend_from_slice(b"\n10.0.0.8 tide.test");
                    continue;
                }
                Deed::Settle => settle(&mut disk.observe(), &list, ServerId::APACHE, Orphans::Removed, &mut Random).unwrap().set,
            };
            disk.carry_out(&set);
            // Doing it again, or settling, has nothing left to do.
            let list = disk.list();
            if let Deed::Map(site) = deed {
                prop_assert_eq!(list.site(&site.name), Some(&**site));
                let left = map_site(&disk.observe(), &list, site, &mut Random).unwrap();
                prop_assert!(left.is_empty(), "{}", shown(&left));
            }
            let left = settle(&mut disk.observe(), &list, ServerId::APACHE, Orphans::Removed, &mut Random).unwrap().set;
            prop_assert!(left.is_empty(), "{}", shown(&left));
            // Shared files have everything that sites need, each line once.
            if list.sites.iter().any(|site| site.server == Some(ServerId::APACHE)) {
                let observed = disk.observe();
                let own = observed.configured_as(Some(ServerId::APACHE)).unwrap().own();
                let configuration = ServerKind::Apache.software().run(&start(own), &disk);
                prop_assert!(configuration.fault().is_none());
                let all: Vec<String> = configuration.listeners().into_iter().map(|listener| listener.address).collect();
                let each: BTreeSet<&String> = all.iter().collect();
                prop_assert_eq!(each.len(), all.len(), "{:?}", all);
            }
            // Files of a remote server hold no path of this machine, except for the comment that names the list.
            let there = disk.files.iter().filter(|(path, _)| path.starts_with("/mnt/harbour"));
            for (path, text) in there {
                let text = String::from_utf8_lossy(text).replace(&places().list.mark(), "");
                prop_assert!(["/mnt/", "/srv", "/home"].iter().all(|own| !text.contains(own)), "{}: {}", path, text);
            }
            // Every name resolves to its site, and no other name of ours does.
            let hosts = disk.files[Utf8Path::new("/etc/hosts")].clone();
            let mut own = HostsFile::parse(&hosts).own_names(&places().list);
            own.sort();
            own.dedup();
            let listed: Vec<HostName> = list.sites.iter().flat_map(Site::names).cloned().collect();
            prop_assert_eq!(own.len(), listed.len());
            prop_assert!(listed.iter().all(|name| own.contains(name)));
            // At once taken back, all is as it was, but for keys that were removed.
            let steps: Vec<DoneStep> = set.steps.iter().rev().map(inverse).collect();
            let undone = |steps: &[DoneStep]| {
                let undoing = Undoing { sites: &set.sites, steps, leftovers: &[], is_last: true };
                undo(disk.observe(), &list, &undoing, &mut Random).unwrap()
            };
            let back = undone(&steps);
            // The roles are recovered from the paths.
            let by_paths = undone(&steps.iter().map(unrecorded).collect::<Vec<_>>());
            prop_assert_eq!(roles(&back), roles(&by_paths));
            let mut undone = disk.clone();
            undone.carry_out(&back);
            let plain = |disk: &Disk| -> Disk {
                let files = disk.files.iter().filter(|(path, _)| !path.starts_with(places().data));
                Disk { files: files.map(|(path, bytes)| (path.clone(), bytes.clone())).collect(), links: disk.links.clone() }
            };
            prop_assert_eq!(difference(&plain(&undone), &plain(&before)), "");
        }
        // In the end nothing is left but what the person wrote.
        let list = disk.list();
        let all: Vec<&Site> = list.sites.iter().collect();
        disk.carry_out(&unmap_sites(&disk.observe(), &all).unwrap());
        let hosts = disk.text(Utf8Path::new("/etc/hosts")).unwrap();
        prop_assert_eq!(hosts.matches("tide.test").count(), by_hand);
        let own = hosts.replace("\n10.0.0.8 tide.test", "");
        prop_assert_eq!(own.trim_end(), HOSTS);
        prop_assert!(!disk.files.keys().any(|path| path.starts_with(places().certificates())));
        let files = |disk: &Disk| -> BTreeMap<Utf8PathBuf, String> {
            let kept = disk.files.iter().filter(|(path, _)| *path != "/etc/hosts" && !path.starts_with("/home"));
            kept.map(|(path, bytes)| (path.clone(), String::from_utf8(bytes.clone()).unwrap())).collect()
        };
        prop_assert_eq!(files(&disk), files(&first));
    }
}

/// The changes of files in a set, as text.
fn shown(set: &ChangeSet) -> String {
    let files = set.steps.iter().filter_map(|step| match &step.change {
        Change::File(change) if change.access == Access::Public => Some(crate::plan::unified_diff(change)),
        _ => None,
    });
    files.collect::<String>() + &format!("{:?}", set.steps)
}

/// The differences between two machines, as text.
fn difference(now: &Disk, before: &Disk) -> String {
    let mut text = String::new();
    let shown = |bytes: Option<&Vec<u8>>| bytes.map(|bytes| String::from_utf8_lossy(bytes).into_owned());
    let paths: BTreeSet<_> = now.files.keys().chain(before.files.keys()).collect();
    for path in paths.into_iter().filter(|path| now.files.get(*path) != before.files.get(*path)) {
        text += &format!("{path}: {:?} and was {:?}\n", shown(now.files.get(path)), shown(before.files.get(path)));
    }
    let paths: BTreeSet<_> = now.links.keys().chain(before.links.keys()).collect();
    for path in paths.into_iter().filter(|path| now.links.get(*path) != before.links.get(*path)) {
        text += &format!("{path} -> {:?} and was {:?}\n", now.links.get(path), before.links.get(path));
    }
    text
}

fn inverse(step: &Step) -> DoneStep {
    let role = step.role.clone();
    let change = match &step.change {
        Change::File(change) if change.access == Access::Secret && change.before.is_some() => {
            let path = change.path.clone();
            return DoneStep::Edited { role, path, made: None, part_before: None, reversed: None };
        }
        Change::File(change) => Change::File(change.clone().inverse()),
        Change::Link(change) => Change::Link(change.clone().inverse()),
        other => other.clone(),
    };
    DoneStep::Untouched(Step { role, change })
}

fn roles(set: &ChangeSet) -> Vec<(Role, &Utf8Path)> {
    set.steps.iter().map(|step| (step.role.clone(), step.path())).collect()
}

/// The same as a record of an earlier version has it, which names no roles.
fn unrecorded(step: &DoneStep) -> DoneStep {
    let mut step = step.clone();
    match &mut step {
        DoneStep::Untouched(Step { role, .. }) | DoneStep::Edited { role, .. } => *role = Role::Unrecorded,
    }
    step
}

#[test]
fn replacing_the_authority_reissues_all_certificates_and_can_be_undone() {
    let mut disk = Disk::new(0);
    let site = Site { server: Some(ServerId::APACHE), ..Site::new(name(NAMES[0]), Content::folder("/srv/saltmarsh")) };
    disk.carry_out(&map_site(&disk.observe(), &SiteList::default(), &site, &mut Random).unwrap());
    let (list, first) = (disk.list(), disk.clone());
    let issuer = |disk: &Disk| {
        let chain = CertificateFacts::certificates(&disk.files[&places().chain(&site.name)]).unwrap();
        CertificateFacts::read(&chain[0]).unwrap().authority_key
    };
    let authority = |disk: &Disk| disk.observe().authority.unwrap().authority;
    let wider =
        Constraints { suffixes: vec!["test".into(), "invalid".into(), "harbour".into()], ..Constraints::default() };
    let set = replace_authority(disk.observe(), &list, &wider, &mut Random).unwrap();
    assert!(set.servers.contains(&ServerId::APACHE), "the server has to take the new certificates up");
    disk.carry_out(&set);
    assert_eq!(authority(&disk).constraints(), &wider);
    assert_eq!(issuer(&disk), authority(&disk).issuing_facts.subject_key);
    let key = places().key(&site.name);
    assert_eq!(disk.files[&key], first.files[&key], "the sites keep their keys");
    let second = disk.clone();
    let taken_back = |set: &ChangeSet, disk: &Disk| {
        let steps: Vec<DoneStep> = set.steps.iter().rev().map(inverse).collect();
        undo(
            disk.observe(),
            &list,
            &Undoing { sites: &set.sites, steps: &steps, leftovers: &[], is_last: true },
            &mut Random,
        )
        .unwrap()
    };
    let back = taken_back(&set, &disk);
    disk.carry_out(&back);
    for path in [places().root_certificate(), places().issuing_certificate(), places().issuing_key()] {
        assert_eq!(disk.files[&path], first.files[&path], "{path}");
    }
    assert_eq!(issuer(&disk), issuer(&first));
    assert_eq!(disk.authorities().1.len(), 1, "the one that was there is kept aside in its turn");
    // And that can be taken back as well: the second one is there again, key and all.
    let again = taken_back(&back, &disk);
    let mut redone = disk.clone();
    redone.carry_out(&again);
    for path in [places().root_certificate(), places().issuing_certificate(), places().issuing_key()] {
        assert_eq!(redone.files[&path], second.files[&path], "{path}");
    }
    assert_eq!(issuer(&redone), issuer(&second));
    // The authority can't issue for a site's name: nothing is planned, and the site is named.
    let narrow = Constraints { suffixes: vec!["invalid".into(), "harbour".into()], ..Constraints::default() };
    let failed = replace_authority(disk.observe(), &list, &narrow, &mut Random).unwrap_err();
    assert_eq!(failed.site.as_ref(), Some(&site.name));
}
