//! Plans carried out on a disk in memory, in any order.

use std::collections::{BTreeMap, BTreeSet};

use camino::{Utf8Path, Utf8PathBuf};
use proptest::prelude::*;
use ring::rand::{SecureRandom as _, SystemRandom};
use ring::signature::{ECDSA_P256_SHA256_ASN1_SIGNING, EcdsaKeyPair};
use time::macros::datetime;

use super::*;
use crate::hosts::{HostsFile, TakeOver};
use crate::httpd::{DebianLayout, ModuleFiles, OTHERS};
use crate::name::HostName;
use crate::pki::{Authority, AuthorityCertificates, Key, Serial};
use crate::site::{Content as SiteContent, DEFAULT_ADDRESS, Https, ServerKind, Site, SiteList, Upstream};

struct Random;

impl Fresh for Random {
    fn key(&mut self) -> Key {
        let der = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_ASN1_SIGNING, &SystemRandom::new()).unwrap();
        Key::from_pkcs8_der(der.as_ref()).unwrap()
    }

    fn serial(&mut self) -> Serial {
        let mut bytes = [0; 16];
        SystemRandom::new().fill(&mut bytes).unwrap();
        Serial::from_random(bytes)
    }
}

const HOSTS: &str = "127.0.0.1\tlocalhost\n10.0.0.9 crew.test # by hand";

/// Files and links by path.
#[derive(Clone, Debug, Default, PartialEq)]
struct Disk {
    files: BTreeMap<Utf8PathBuf, Vec<u8>>,
    links: BTreeMap<Utf8PathBuf, Utf8PathBuf>,
}

impl Disk {
    fn new() -> Self {
        let mut disk = Self::default();
        disk.files.insert("/etc/hosts".into(), HOSTS.into());
        disk
    }

    /// Does each step, which has to find what it was planned on.
    fn carry_out(&mut self, set: &ChangeSet) {
        for step in &set.steps {
            match step {
                Step::Folder { .. } => {}
                Step::File(change) => {
                    assert_eq!(self.files.get(&change.path), change.before.as_deref(), "{}", change.path);
                    match &change.after {
                        Some(after) => _ = self.files.insert(change.path.clone(), after.to_vec()),
                        None => _ = self.files.remove(&change.path),
                    }
                }
                Step::Link(change) => {
                    assert_eq!(self.links.get(&change.path), change.before.as_ref(), "{}", change.path);
                    match &change.after {
                        Some(after) => _ = self.links.insert(change.path.clone(), after.clone()),
                        None => _ = self.links.remove(&change.path),
                    }
                }
            }
        }
    }

    fn text(&self, path: &Utf8Path) -> Option<String> {
        self.files.get(path).map(|bytes| String::from_utf8(bytes.clone()).unwrap())
    }

    fn list(&self) -> SiteList {
        SiteList::parse(&self.text(&places().site_list()).unwrap_or_default()).unwrap()
    }

    fn observe(&self) -> Observed {
        let places = places();
        let layout = DebianLayout { root: "/etc/apache2".into() };
        let by_name = |path: &dyn Fn(&HostName) -> Utf8PathBuf| -> BTreeMap<HostName, Vec<u8>> {
            let names = NAMES.map(name).into_iter().chain([name(OTHERS)]);
            names.filter_map(|name| Some((name.clone(), self.files.get(&path(&name))?.clone()))).collect()
        };
        let pem = |path: Utf8PathBuf| self.text(&path);
        let authority = pem(places.root_certificate()).map(|root| AuthorityFiles {
            authority: Authority::read(&AuthorityCertificates {
                root,
                issuing: pem(places.issuing_certificate()).unwrap(),
            })
            .unwrap(),
            key: Key::from_pem(&pem(places.issuing_key()).unwrap()).unwrap(),
        });
        let links = |folder: Utf8PathBuf| {
            self.links
                .iter()
                .filter(move |(path, _)| path.parent() == Some(&folder))
                .map(|(path, target)| (path.file_name().unwrap().to_owned(), target.clone()))
        };
        let module = |depends: &str| ModuleFiles { load: format!("# Depends: {depends}\n"), has_conf: true };
        let modules = ["rewrite", "dir", "mime", "authz_core", "proxy", "headers", "socache_shmcb"];
        let mut available_modules: BTreeMap<String, ModuleFiles> =
            modules.map(|name| (name.to_owned(), module(""))).into();
        available_modules.insert("ssl".into(), module("mime socache_shmcb"));
        available_modules.insert("proxy_http".into(), module("proxy"));
        let apache = ObservedApache {
            log_folder: "${APACHE_LOG_DIR}".into(),
            listens_on_v6: true,
            own_sites: NAMES
                .map(name)
                .into_iter()
                .filter(|name| self.files.contains_key(&layout.site_file(name)))
                .collect(),
            foreign_addresses: BTreeSet::new(),
            foreign_directives: BTreeSet::new(),
            site_files: by_name(&|name| layout.site_file(name)),
            site_links: links(layout.enabled_sites()).collect(),
            other_files: Vec::new(),
            available_modules,
            enabled_modules: links(layout.enabled_modules())
                .filter_map(|(name, _)| name.strip_suffix(".load").map(str::to_owned))
                .collect(),
            module_links: links(layout.enabled_modules()).map(|(name, _)| name).collect(),
            layout,
        };
        Observed {
            owner: "ada@saltmarsh".into(),
            now: datetime!(2026-11-23 08:00 UTC),
            hosts: self.files.get(Utf8Path::new("/etc/hosts")).cloned().map(Into::into),
            list: pem(places.site_list()),
            authority,
            chains: by_name(&|name| places.chain(name)),
            keys: by_name(&|name| places.key(name)),
            take_over: TakeOver::No,
            has_v6_loopback: true,
            apache: Some(apache),
            places,
        }
    }
}

const NAMES: [&str; 3] = ["saltmarsh.test", "depot.saltmarsh.test", "booking.saltmarsh.test"];

fn name(text: &str) -> HostName {
    HostName::parse(text).unwrap()
}

fn places() -> Places {
    Places {
        sysroot: "/".into(),
        hosts: "/etc/hosts".into(),
        config: "/home/ada/.config/yandro".into(),
        data: "/home/ada/.local/share/yandro".into(),
    }
}

/// What a person does.
#[derive(Clone, Debug)]
enum Deed {
    Map(Site),
    Unmap(usize),
    EditHosts,
    Settle,
}

fn deed() -> impl Strategy<Value = Deed> {
    let https = prop_oneof![Just(Https::Only), Just(Https::Both), Just(Https::Off)];
    let site = (0..3usize, any::<bool>(), 0..3usize, any::<bool>(), https).prop_map(
        |(which, alias, content, apache, https)| Site {
            name: name(NAMES[which]),
            aliases: if alias { vec![name(&format!("www.{}", NAMES[which]))] } else { Vec::new() },
            content: match content {
                0 => SiteContent::Upstream(Upstream::parse("http://127.0.0.1:3000").unwrap()),
                1 => SiteContent::folder("/srv/salt marsh"),
                _ => SiteContent::Folder { folder: "/srv/depot".into(), document_root: Some("public".into()) },
            },
            address: DEFAULT_ADDRESS,
            server: Some(if apache { ServerKind::Apache } else { ServerKind::BuiltIn }),
            https,
        },
    );
    prop_oneof![5 => site.prop_map(Deed::Map), 2 => (0..3usize).prop_map(Deed::Unmap), 1 => Just(Deed::EditHosts), 1 => Just(Deed::Settle)]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(128))]
    #[test]
    fn whatever_is_done_the_machine_is_as_the_list_says_and_goes_back(deeds in proptest::collection::vec(deed(), 1..12)) {
        let mut disk = Disk::new();
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
                Deed::Settle => settle(disk.observe(), &list, ServerKind::Apache, &mut Random).unwrap().set,
            };
            disk.carry_out(&set);
            // Doing it again, or settling, has nothing left to do.
            let list = disk.list();
            if let Deed::Map(site) = deed {
                prop_assert_eq!(list.site(&site.name), Some(site));
                prop_assert!(map_site(&disk.observe(), &list, site, &mut Random).unwrap().is_empty());
            }
            prop_assert!(settle(disk.observe(), &list, ServerKind::Apache, &mut Random).unwrap().set.is_empty());
            // Every name resolves to its site, and no other name of ours does.
            let hosts = disk.files[Utf8Path::new("/etc/hosts")].clone();
            let mut own = HostsFile::parse(&hosts).own_names();
            own.sort();
            own.dedup();
            let listed: Vec<HostName> = list.sites.iter().flat_map(Site::names).cloned().collect();
            prop_assert_eq!(own.len(), listed.len());
            prop_assert!(listed.iter().all(|name| own.contains(name)));
            // At once taken back, all is as it was, but for keys that were removed.
            let steps: Vec<DoneStep> = set.steps.iter().rev().map(inverse).collect();
            let back = undo(disk.observe(), &list, &set.sites, &steps, true, &mut Random).unwrap();
            let mut undone = disk.clone();
            undone.carry_out(&back);
            let plain = |disk: &Disk| -> Disk {
                let files = disk.files.iter().filter(|(path, _)| !path.starts_with(places().data));
                Disk { files: files.map(|(path, bytes)| (path.clone(), bytes.clone())).collect(), links: disk.links.clone() }
            };
            prop_assert_eq!(plain(&undone), plain(&before));
        }
        // In the end nothing is left but what the person wrote.
        let list = disk.list();
        let all: Vec<&Site> = list.sites.iter().collect();
        disk.carry_out(&unmap_sites(&disk.observe(), &all).unwrap());
        let hosts = disk.text(Utf8Path::new("/etc/hosts")).unwrap();
        prop_assert_eq!(hosts.matches("tide.test").count(), by_hand);
        let own = hosts.replace("\n10.0.0.8 tide.test", "");
        prop_assert_eq!(own.trim_end(), HOSTS);
        prop_assert!(!disk.files.keys().any(|path| path.starts_with("/etc/apache2") || path.starts_with(places().certificates())));
    }
}

fn inverse(step: &Step) -> DoneStep {
    match step {
        Step::File(change) if change.access == Access::Secret && change.before.is_some() => {
            DoneStep::Edited { path: change.path.clone(), made: None }
        }
        Step::File(change) => DoneStep::Untouched(Step::File(change.clone().inverse())),
        Step::Link(change) => DoneStep::Untouched(Step::Link(change.clone().inverse())),
        folder @ Step::Folder { .. } => DoneStep::Untouched(folder.clone()),
    }
}
