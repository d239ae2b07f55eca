//! Plans carried out on a disk in memory, in any order.

use std::collections::{BTreeMap, BTreeSet};

use camino::{Utf8Path, Utf8PathBuf};
use proptest::prelude::*;
use ring::rand::{SecureRandom as _, SystemRandom};
use ring::signature::{ECDSA_P256_SHA256_ASN1_SIGNING, EcdsaKeyPair};
use time::macros::datetime;

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

const HOSTS: &str = "127.0.0.1\tlocalhost\n10.0.0.9 crew.test # by hand";

/// Files and links by path.
#[derive(Clone, Debug, Default, PartialEq)]
struct Disk {
    files: BTreeMap<Utf8PathBuf, Vec<u8>>,
    links: BTreeMap<Utf8PathBuf, Utf8PathBuf>,
}

const MODULES: [&str; 11] = [
    "log_config",
    "dir",
    "mime",
    "authz_core",
    "ssl",
    "socache_shmcb",
    "rewrite",
    "proxy",
    "proxy_http",
    "proxy_fcgi",
    "headers",
];

/// How the layouts begin, each by its main file and what that includes.
type Tree = Vec<(&'static str, String)>;

const LAYOUTS: [fn() -> Tree; 4] = [debian, red_hat, upstream, bare];

fn debian() -> Tree {
    vec![
        (
            "/etc/apache2/apache2.conf",
            "IncludeOptional mods-enabled/*.load\nInclude ports.conf\nLogFormat \"%h\" combined\nIncludeOptional sites-enabled/*.conf\n".into(),
        ),
        ("/etc/apache2/ports.conf", "Listen 80\n<IfModule ssl_module>\n\tListen 443\n</IfModule>\n".into()),
        ("/etc/apache2/mods-available", String::new()),
    ]
}

fn loads(sign: &str, modules: &[&str]) -> String {
    modules.iter().map(|module| format!("{sign}LoadModule {module}_module modules/mod_{module}.so\n")).collect()
}

fn red_hat() -> Tree {
    vec![
        ("/etc/httpd/conf/httpd.conf", "ServerRoot \"/etc/httpd\"\nListen 80\nInclude conf.modules.d/*.conf\nErrorLog \"logs/error_log\"\nIncludeOptional conf.d/*.conf".into()),
        ("/etc/httpd/conf.modules.d/00-base.conf", loads("", &MODULES)),
        ("/etc/httpd/conf.d/ssl.conf", "Listen 443 https\n<VirtualHost _default_:443>\nSSLEngine on\n</VirtualHost>\n".into()),
    ]
}

fn upstream() -> Tree {
    let main = format!(
        "ServerRoot \"/usr/local/apache2\"\r\nListen 80\r\n{}{}DocumentRoot htdocs\r\n# Virtual hosts\r\n#Include conf/extra/httpd-vhosts.conf\r\n",
        loads("", &MODULES[..4]).replace('\n', "\r\n"),
        loads("#", &MODULES[4..]).replace('\n', "\r\n"),
    );
    let examples = "# Examples\n\n<VirtualHost *:80>\n    ServerName dummy-host.example.com\n</VirtualHost>\n\n<VirtualHost *:80>\n    ServerName dummy-host2.example.com\n</VirtualHost>";
    vec![
        ("/usr/local/apache2/conf/httpd.conf", main),
        ("/usr/local/apache2/conf/extra/httpd-vhosts.conf", examples.into()),
    ]
}

/// Nothing but a main file, and a virtual host of a person's own.
fn bare() -> Tree {
    let text =
        loads("", &MODULES) + "Listen 127.0.0.1:80\n<VirtualHost 127.0.0.1:80>\nServerName tide.test\n</VirtualHost>";
    vec![("/opt/ferries/httpd.conf", text)]
}

impl Files for Disk {
    fn read(&self, path: &Utf8Path) -> Option<Vec<u8>> {
        let is_own = |name: &str| name.starts_with("yandro-") && !name.contains(OTHERS);
        if path.file_name().is_some_and(is_own) {
            return None;
        }
        let target =
            self.links.get(path).map(|target| path.parent().unwrap().parent().unwrap().join(&target.as_str()[3..]));
        self.files.get(target.as_deref().unwrap_or(path)).cloned()
    }

    fn list(&self, folder: &Utf8Path) -> Option<Vec<String>> {
        let is_own = |name: &str| name.starts_with("yandro-") && !name.contains(OTHERS);
        let paths = self.files.keys().chain(self.links.keys()).filter(|path| path.parent() == Some(folder));
        let names: Vec<String> = paths.map(|path| path.file_name().unwrap().to_owned()).collect();
        let rest = names.iter().filter(|name| !is_own(name)).cloned().collect();
        (!names.is_empty()).then_some(rest)
    }
}

impl Disk {
    fn new(layout: usize) -> Self {
        let mut disk = Self::default();
        disk.files.insert("/etc/hosts".into(), HOSTS.into());
        let files = LAYOUTS[layout]().into_iter().map(|(path, text)| (path.into(), text.into_bytes()));
        disk.files.extend(files);
        let nginx = if layout.is_multiple_of(2) {
            disk.files.insert("/etc/nginx/sites-available/default".into(), b"# nothing\n".to_vec());
            "http {\n\tinclude /etc/nginx/sites-enabled/*;\n}\n"
        } else {
            "events {}\nhttp {\n  sendfile on; }"
        };
        disk.files.insert("/etc/nginx/nginx.conf".into(), nginx.into());
        disk.files.insert("/mnt/harbour/etc/nginx.conf".into(), "http {\n}\n".into());
        let modules: &[&str] = if layout == 0 { &MODULES } else { &[] };
        for module in modules {
            let depends = if *module == "ssl" { "# Depends: mime socache_shmcb\n" } else { "" };
            let text = format!("{depends}LoadModule {module}_module mod_{module}.so\n");
            disk.files.insert(format!("/etc/apache2/mods-available/{module}.load").into(), text.into());
        }
        disk
    }

    fn layout(&self) -> Layout {
        let exists = |path: &str| self.files.keys().any(|own| own.starts_with(path));
        Layout::find(KNOWN, exists, |path| path.into()).unwrap_or_else(|| {
            Layout::named(
                KNOWN,
                Utf8Path::new("/opt/ferries/httpd.conf"),
                &[],
                &LayoutDisk { is_folder: &|_| false, exists: &exists, at: &|path| path.into() },
            )
        })
    }

    /// Does each step, which has to find what it was planned on.
    fn carry_out(&mut self, set: &ChangeSet) {
        for step in &set.steps {
            match &step.change {
                Change::Folder { .. } | Change::EmptyFolder { .. } | Change::Rights(_) | Change::Trust(_) => {}
                Change::File(change) => {
                    assert_eq!(self.files.get(&change.path), change.before.as_deref(), "{}", change.path);
                    match &change.after {
                        Some(after) => _ = self.files.insert(change.path.clone(), after.to_vec()),
                        None => _ = self.files.remove(&change.path),
                    }
                }
                Change::Link(change) => {
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

    /// The authority, and the former one, if they are there.
    fn authorities(&self) -> (Option<AuthorityFiles>, BTreeMap<String, AuthorityFiles>) {
        let read = |folder: Utf8PathBuf| {
            let content = |name| self.files.get(&folder.join(name)).map(|bytes| FileContent::from(bytes.clone()));
            let (root, issuing) = (content("root.pem")?, content("issuing.pem")?);
            let texts = AuthorityTexts { root, issuing, key: content("issuing.key")? };
            Some(AuthorityFiles::read(texts, None).unwrap())
        };
        let below = places().former_authorities();
        let roots = self.files.keys().filter(|path| path.starts_with(&below) && path.ends_with("root.pem"));
        let former = roots.filter_map(|root| read(root.parent()?.to_owned()));
        (read(places().authority()), former.map(|former| (former.id(), former)).collect())
    }

    fn observe(&self) -> Observed {
        let places = places();
        let layout = self.layout();
        let by_name = |path: &dyn Fn(&HostName) -> Utf8PathBuf| -> BTreeMap<HostName, Vec<u8>> {
            let names = NAMES.map(name).into_iter().chain([name(OTHERS)]);
            names.filter_map(|name| Some((name.clone(), self.files.get(&path(&name))?.clone()))).collect()
        };
        let pem = |path: Utf8PathBuf| self.text(&path);
        let contents = |texts: BTreeMap<HostName, Vec<u8>>| -> BTreeMap<HostName, FileContent> {
            texts.into_iter().map(|(name, text)| (name, text.into())).collect()
        };
        let (authority, former) = self.authorities();
        let links = |folder: Option<Utf8PathBuf>| {
            self.links
                .iter()
                .filter(move |(path, _)| path.parent() == folder.as_deref())
                .map(|(path, target)| (path.file_name().unwrap().to_owned(), target.clone()))
        };
        let own = |layout: &Layout, id: ServerId, view: PathView| OwnFiles {
            own_sites: NAMES
                .map(name)
                .into_iter()
                .filter(|name| self.files.contains_key(&layout.site_file(name)))
                .collect(),
            site_files: by_name(&|name| layout.site_file(name)),
            site_links: links(layout.links.as_ref().map(|links| links.sites.clone())).collect(),
            layout: layout.clone(),
            id,
            view,
            published: Published::default(),
            lacks_others_certificate: false,
        };
        let seen = |kind: ServerKind, own: OwnFiles, loopback6: Option<Loopback6>| {
            let (view, layout) = (own.view.clone(), own.layout.clone());
            let files = Seen { view: &view, files: self, assumed: None };
            let start = start(&own);
            kind.software().observe(Seeing {
                own,
                start,
                files: &files,
                owner_of: &|path| layout.owner_of(&view.here_or_same(path)),
                loopback6,
            })
        };
        let loopback6 = Some(Loopback6 { is_there: true, listens: Some(true), would_listen: true });
        let apache = seen(ServerKind::Apache, own(&layout, ServerId::APACHE, places.view()), loopback6);
        let exists = |path: &str| self.files.keys().chain(self.links.keys()).any(|own| own.starts_with(path));
        let layout = Layout::find(crate::servers::nginx::KNOWN, exists, |path| path.into()).unwrap();
        let here = seen(ServerKind::Nginx, own(&layout, ServerId::NGINX, places.view()), loopback6);
        // In a virtual machine, under other paths.
        let main = Utf8Path::new("/mnt/harbour/etc/nginx.conf");
        let layout = Layout::named(
            crate::servers::nginx::KNOWN,
            main,
            &[],
            &LayoutDisk { is_folder: &|_| false, exists: &|_| false, at: &|path| path.into() },
        );
        let view = PathView::Pairs(PAIRS.iter().map(|pair| PathPair::parse(pair).unwrap()).collect());
        let elsewhere = seen(ServerKind::Nginx, own(&layout, harbour(), view), None);
        Observed {
            owner: "ada@saltmarsh".into(),
            now: datetime!(2026-11-23 08:00 UTC),
            hosts: self.files.get(Utf8Path::new("/etc/hosts")).cloned().map(Into::into),
            list: pem(places.site_list()),
            authority,
            former,
            issued: Vec::new(),
            chains: contents(by_name(&|name| places.chain(name))),
            keys: contents(by_name(&|name| places.key(name))),
            wishes: Wishes::default(),
            has_v6_loopback: true,
            servers: vec![apache, here, elsewhere],
            places,
        }
    }
}

/// Where a run through a server's configuration begins.
fn start(own: &OwnFiles) -> Start {
    let main = own.view.there_or_same(&own.layout.main);
    let root = own.layout.known.root.into();
    let report = ServerReport { version: [2, 4, 62], root, main: main.clone(), ..ServerReport::default() };
    Start { main, report, ..Start::default() }
}

/// What the server elsewhere sees of this machine.
const PAIRS: [&str; 3] =
    ["/mnt/harbour/etc=/etc/nginx", "/srv=/shared/www", "/home/ada/.local/share/yandro/certificates=/shared/tls"];

fn harbour() -> ServerId {
    ServerId::parse("harbour").unwrap()
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
        list: ListId::new("ada", "/home/ada/.config/yandro/sites.toml".into()),
    }
}

/// What a person does.
#[derive(Clone, Debug)]
enum Deed {
    Map(Box<Site>),
    Unmap(usize),
    EditHosts,
    Settle,
}

fn deed() -> impl Strategy<Value = Deed> {
    let https = prop_oneof![Just(Https::Only), Just(Https::Both), Just(Https::Off)];
    let site = (0..3usize, any::<bool>(), 0..3usize, 0..4usize, https, 0..4usize).prop_map(
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
    );
    prop_oneof![5 => site.prop_map(|site| Deed::Map(Box::new(site))), 2 => (0..3usize).prop_map(Deed::Unmap), 1 => Just(Deed::EditHosts), 1 => Just(Deed::Settle)]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(128))]
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
            // What all sites share has all that they need, each line once.
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
            // By the paths alone each step is found to be about the same.
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
fn another_authority_issues_everything_anew_and_can_be_taken_back() {
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
    // The authority can't vouch for a site's name: nothing is planned, and the site is named.
    let narrow = Constraints { suffixes: vec!["invalid".into(), "harbour".into()], ..Constraints::default() };
    let failed = replace_authority(disk.observe(), &list, &narrow, &mut Random).unwrap_err();
    assert_eq!(failed.site.as_ref(), Some(&site.name));
}
