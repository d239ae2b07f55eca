//! A machine in memory: its files, its servers, and what is observed there.

use super::*;
use crate::server_path::ServerPath;

pub(super) const HOSTS: &str = "127.0.0.1\tlocalhost\n10.0.0.9 crew.test # by hand";

/// Files and links by path.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Disk {
    pub(super) files: BTreeMap<Utf8PathBuf, Vec<u8>>,
    pub(super) links: BTreeMap<Utf8PathBuf, Utf8PathBuf>,
}

pub(super) const MODULES: [&str; 11] = [
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
pub(super) type Tree = Vec<(&'static str, String)>;

pub(super) const LAYOUTS: [fn() -> Tree; 4] = [debian, red_hat, upstream, bare];

pub(super) fn debian() -> Tree {
    vec![
        (
            "/etc/apache2/apache2.conf",
            "IncludeOptional mods-enabled/*.load\nInclude ports.conf\nLogFormat \"%h\" combined\nIncludeOptional sites-enabled/*.conf\n".into(),
        ),
        ("/etc/apache2/ports.conf", "Listen 80\n<IfModule ssl_module>\n\tListen 443\n</IfModule>\n".into()),
        ("/etc/apache2/mods-available", String::new()),
    ]
}

pub(super) fn loads(sign: &str, modules: &[&str]) -> String {
    modules.iter().map(|module| format!("{sign}LoadModule {module}_module modules/mod_{module}.so\n")).collect()
}

pub(super) fn red_hat() -> Tree {
    vec![
        ("/etc/httpd/conf/httpd.conf", "ServerRoot \"/etc/httpd\"\nListen 80\nInclude conf.modules.d/*.conf\nErrorLog \"logs/error_log\"\nIncludeOptional conf.d/*.conf".into()),
        ("/etc/httpd/conf.modules.d/00-base.conf", loads("", &MODULES)),
        ("/etc/httpd/conf.d/ssl.conf", "Listen 443 https\n<VirtualHost _default_:443>\nSSLEngine on\n</VirtualHost>\n".into()),
    ]
}

pub(super) fn upstream() -> Tree {
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
pub(super) fn bare() -> Tree {
    let text =
        loads("", &MODULES) + "Listen 127.0.0.1:80\n<VirtualHost 127.0.0.1:80>\nServerName tide.test\n</VirtualHost>";
    vec![("/opt/ferries/httpd.conf", text)]
}

impl Files for Disk {
    fn read(&self, path: &ServerPath) -> Option<Vec<u8>> {
        let path = &path.to_native();
        let is_own = |name: &str| name.starts_with("yandro-") && !name.contains(OTHERS);
        if path.file_name().is_some_and(is_own) {
            return None;
        }
        let target =
            self.links.get(path).map(|target| path.parent().unwrap().parent().unwrap().join(&target.as_str()[3..]));
        self.files.get(target.as_ref().unwrap_or(path)).cloned()
    }

    fn list(&self, folder: &ServerPath) -> Option<Vec<String>> {
        let folder = &folder.to_native();
        let is_own = |name: &str| name.starts_with("yandro-") && !name.contains(OTHERS);
        let paths = self.files.keys().chain(self.links.keys()).filter(|path| path.parent() == Some(folder.as_path()));
        let names: Vec<String> = paths.map(|path| path.file_name().unwrap().to_owned()).collect();
        let rest = names.iter().filter(|name| !is_own(name)).cloned().collect();
        (!names.is_empty()).then_some(rest)
    }
}

impl Disk {
    pub(super) fn new(layout: usize) -> Self {
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

    pub(super) fn layout(&self) -> Layout {
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
    pub(super) fn carry_out(&mut self, set: &ChangeSet) {
        for step in &set.steps {
            match &step.change {
                Change::Folder { .. }
                | Change::EmptyFolder { .. }
                | Change::Rights(_)
                | Change::Trust(_)
                | Change::Rows(_) => {}
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

    pub(super) fn text(&self, path: &Utf8Path) -> Option<String> {
        self.files.get(path).map(|bytes| String::from_utf8(bytes.clone()).unwrap())
    }

    pub(super) fn list(&self) -> SiteList {
        SiteList::parse(&self.text(&places().site_list()).unwrap_or_default(), None).unwrap()
    }

    /// The authority, and the former one, if they are there.
    pub(super) fn authorities(&self) -> (Option<AuthorityFiles>, BTreeMap<String, AuthorityFiles>) {
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

    pub(super) fn observe(&self) -> Observed {
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
            disabled_files: by_name(&|name| layout.disabled_file(name)),
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
        let applied = self.files.get(&places.applied()).cloned().map(FileContent::from);
        let mut observed = Observed {
            applied: Applied::default(),
            owner: "ada@saltmarsh".into(),
            now: datetime!(2026-11-23 08:00 UTC),
            hosts: self.files.get(Utf8Path::new("/etc/hosts")).cloned().map(Into::into),
            hosts_by_name: crate::plan::HostsByName::default(),
            list: pem(places.site_list()),
            authority,
            former,
            issued: Vec::new(),
            chains: contents(by_name(&|name| places.chain(name))),
            keys: contents(by_name(&|name| places.key(name))),
            wishes: Wishes::default(),
            pools: crate::plan::Pools::default(),
            resolver: None,
            has_v6_loopback: true,
            servers: vec![apache, here, elsewhere],
            places,
        };
        observed.take_applied(applied);
        observed
    }
}

/// Start of a run through a server's configuration.
pub(super) fn start(own: &OwnFiles) -> Start {
    let main = own.view.there_or_same(&own.layout.main);
    let root = own.layout.known.root.into();
    let report = ServerReport { version: [2, 4, 62], root, main: main.clone(), ..ServerReport::default() };
    Start { main, report, ..Start::default() }
}

/// The folders that the containerised server sees.
pub(super) const PAIRS: [&str; 3] =
    ["/mnt/harbour/etc=/etc/nginx", "/srv=/shared/www", "/home/ada/.local/share/yandro/certificates=/shared/tls"];

pub(super) fn harbour() -> ServerId {
    ServerId::parse("harbour").unwrap()
}

pub(super) const NAMES: [&str; 3] = ["saltmarsh.test", "depot.saltmarsh.test", "booking.saltmarsh.test"];

pub(super) fn name(text: &str) -> HostName {
    HostName::parse(text).unwrap()
}

pub(super) fn places() -> Places {
    Places {
        sysroot: "/".into(),
        hosts: "/etc/hosts".into(),
        home: "/home/ada".into(),
        config: "/home/ada/.config/yandro".into(),
        data: "/home/ada/.local/share/yandro".into(),
        list: ListId::new("ada", "/home/ada/.config/yandro/sites.toml".into()),
    }
}
