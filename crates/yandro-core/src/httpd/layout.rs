//! Where an Apache httpd keeps its files: one way of reading and writing, and a table of what
//! differs between distributions and bundles.
//!
//! Only Debian's layout has ever been run as its makers ship it. The others are run in tests by
//! the same server on trees of files, or, for macOS and Windows, are trees of files alone.

use camino::{Utf8Path, Utf8PathBuf};

use crate::name::HostName;

/// What is known of a layout before it is found. Paths are absolute, without a drive.
#[derive(Debug, PartialEq, Eq)]
pub struct KnownLayout {
    /// What people call it.
    pub title: &'static str,
    /// The main file.
    pub main: &'static str,
    /// A folder that tells it from others with the same main file.
    pub sign: &'static str,
    /// The folder that sites' files go into.
    pub sites: &'static str,
    /// Where links enable sites and modules, if they do.
    pub links: Option<KnownLinks>,
    /// The folder that relative paths start from, unless the main file says another.
    pub root: &'static str,
    /// A file of shell variables that the server is started with.
    pub environment: Option<&'static str>,
    /// The server's program, the likeliest first.
    pub programs: &'static [&'static str],
    /// The folder of its logs, where its own configuration has a name for it.
    pub logs: Option<&'static str>,
    /// The program that starts and stops it, where it isn't the server's own.
    pub control: Option<&'static str>,
    /// What systemd calls it.
    pub service: &'static str,
    /// The command that installs the TLS module where it is a package of its own.
    pub install_tls: Option<&'static str>,
}

/// The folders of a layout that enables by links.
#[derive(Debug, PartialEq, Eq)]
pub struct KnownLinks {
    /// The links to sites' files.
    pub sites: &'static str,
    /// The modules that there are.
    pub modules: &'static str,
    /// The links to those that are enabled.
    pub enabled_modules: &'static str,
}

/// What a layout has that is named by its main file alone, and where the others begin.
const PLAIN: KnownLayout = KnownLayout {
    title: "named",
    main: "",
    sign: "",
    sites: "",
    links: None,
    root: "/",
    environment: None,
    programs: &[],
    logs: None,
    control: None,
    service: "",
    install_tls: None,
};

/// Every layout, in the order in which they are looked for.
pub const KNOWN: &[KnownLayout] = &[
    KnownLayout {
        title: "Debian",
        main: "/etc/apache2/apache2.conf",
        sign: "/etc/apache2/mods-available",
        sites: "/etc/apache2/sites-available",
        links: Some(KnownLinks {
            sites: "/etc/apache2/sites-enabled",
            modules: "/etc/apache2/mods-available",
            enabled_modules: "/etc/apache2/mods-enabled",
        }),
        root: "/etc/apache2",
        environment: Some("/etc/apache2/envvars"),
        programs: &["/usr/sbin/apache2"],
        logs: Some("${APACHE_LOG_DIR}"),
        control: Some("/usr/sbin/apache2ctl"),
        service: "apache2.service",
        ..PLAIN
    },
    KnownLayout {
        title: "Red Hat",
        main: "/etc/httpd/conf/httpd.conf",
        sign: "/etc/httpd/conf.modules.d",
        sites: "/etc/httpd/conf.d",
        root: "/etc/httpd",
        programs: &["/usr/sbin/httpd"],
        service: "httpd.service",
        install_tls: Some("dnf install mod_ssl"),
        ..PLAIN
    },
    KnownLayout {
        title: "Arch",
        main: "/etc/httpd/conf/httpd.conf",
        sign: "/etc/httpd/conf/extra",
        sites: "/etc/httpd/conf/extra",
        root: "/etc/httpd",
        programs: &["/usr/bin/httpd", "/usr/sbin/httpd"],
        service: "httpd.service",
        ..PLAIN
    },
    KnownLayout {
        title: "SUSE",
        main: "/etc/apache2/httpd.conf",
        sign: "/etc/apache2/vhosts.d",
        sites: "/etc/apache2/vhosts.d",
        root: "/srv/www",
        programs: &["/usr/sbin/httpd", "/usr/sbin/httpd-prefork"],
        service: "apache2.service",
        ..PLAIN
    },
    KnownLayout {
        title: "Alpine",
        main: "/etc/apache2/httpd.conf",
        sign: "/etc/apache2/conf.d",
        sites: "/etc/apache2/conf.d",
        root: "/var/www",
        programs: &["/usr/sbin/httpd"],
        install_tls: Some("apk add apache2-ssl"),
        ..PLAIN
    },
    KnownLayout {
        title: "macOS",
        main: "/private/etc/apache2/httpd.conf",
        sign: "/private/etc/apache2/other",
        sites: "/private/etc/apache2/other",
        root: "/usr",
        programs: &["/usr/sbin/httpd"],
        ..PLAIN
    },
    KnownLayout {
        title: "Homebrew",
        main: "/opt/homebrew/etc/httpd/httpd.conf",
        sign: "/opt/homebrew/etc/httpd/extra",
        sites: "/opt/homebrew/etc/httpd/extra",
        root: "/opt/homebrew/opt/httpd",
        programs: &["/opt/homebrew/bin/httpd"],
        ..PLAIN
    },
    KnownLayout {
        title: "Homebrew",
        main: "/usr/local/etc/httpd/httpd.conf",
        sign: "/usr/local/etc/httpd/extra",
        sites: "/usr/local/etc/httpd/extra",
        root: "/usr/local/opt/httpd",
        programs: &["/usr/local/bin/httpd"],
        ..PLAIN
    },
    KnownLayout {
        title: "FreeBSD",
        main: "/usr/local/etc/apache24/httpd.conf",
        sign: "/usr/local/etc/apache24/Includes",
        sites: "/usr/local/etc/apache24/Includes",
        root: "/usr/local",
        programs: &["/usr/local/sbin/httpd"],
        ..PLAIN
    },
    KnownLayout {
        title: "upstream",
        main: "/usr/local/apache2/conf/httpd.conf",
        sign: "/usr/local/apache2/conf/extra",
        sites: "/usr/local/apache2/conf/extra",
        root: "/usr/local/apache2",
        programs: &["/usr/local/apache2/bin/httpd"],
        ..PLAIN
    },
    KnownLayout {
        title: "Windows",
        main: "/Apache24/conf/httpd.conf",
        sign: "/Apache24/conf/extra",
        sites: "/Apache24/conf/extra",
        root: "/Apache24",
        programs: &["/Apache24/bin/httpd.exe"],
        ..PLAIN
    },
];

/// A layout that was found. Paths are those of this machine, the sysroot included.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Layout {
    /// What is known of it.
    pub known: &'static KnownLayout,
    /// The main file.
    pub main: Utf8PathBuf,
    /// The folder of sites' files.
    pub sites: Utf8PathBuf,
    /// The folders of its links, if it has such.
    pub links: Option<Links>,
}

/// The folders of a layout that enables by links.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Links {
    /// The links to sites' files.
    pub sites: Utf8PathBuf,
    /// The modules that there are.
    pub modules: Utf8PathBuf,
    /// The links to those that are enabled.
    pub enabled_modules: Utf8PathBuf,
}

/// What the names of all of yandro's files begin with.
const PREFIX: &str = "yandro-";

impl Layout {
    /// The first known layout that is there. `exists` tells of a path of the table, and `at`
    /// gives it as a path of this machine.
    pub fn find(exists: impl Fn(&str) -> bool, at: impl Fn(&str) -> Utf8PathBuf) -> Option<Self> {
        KNOWN.iter().find(|known| exists(known.main) && exists(known.sign)).map(|known| Self::of_known(known, at))
    }

    /// Every known layout, at the paths of the table.
    pub fn all() -> impl Iterator<Item = Self> {
        KNOWN.iter().map(|known| Self::of_known(known, |path| path.into()))
    }

    fn of_known(known: &'static KnownLayout, at: impl Fn(&str) -> Utf8PathBuf) -> Self {
        let links = known.links.as_ref().map(|links| Links {
            sites: at(links.sites),
            modules: at(links.modules),
            enabled_modules: at(links.enabled_modules),
        });
        Self { known, main: at(known.main), sites: at(known.sites), links }
    }

    /// The layout of a server that a person names by its main file: a known one if it is that
    /// one's, else sites' files go into `extra` beside the main file if there is such a folder,
    /// and beside it if not.
    pub fn named(
        main: &Utf8Path,
        is_folder: impl Fn(&Utf8Path) -> bool,
        exists: impl Fn(&str) -> bool,
        at: impl Fn(&str) -> Utf8PathBuf,
    ) -> Self {
        let known = KNOWN.iter().find(|known| at(known.main) == *main && exists(known.sign));
        if let Some(known) = known {
            return Self::of_known(known, at);
        }
        let beside = main.parent().unwrap_or(Utf8Path::new("/"));
        let extra = beside.join("extra");
        let sites = if is_folder(&extra) { extra } else { beside.to_owned() };
        Self { known: &PLAIN, main: main.to_owned(), sites, links: None }
    }

    /// The file of a site's virtual hosts.
    pub fn site_file(&self, name: &HostName) -> Utf8PathBuf {
        self.sites.join(site_file_name(name))
    }

    /// The site whose file this is, if it is one of yandro's.
    pub fn site_of_file(&self, path: &Utf8Path) -> Option<HostName> {
        let name = path.file_name()?.strip_prefix(PREFIX)?.strip_suffix(".conf")?;
        HostName::parse(name).ok().filter(|_| path.parent() == Some(&self.sites))
    }

    /// Whether a file that the server reads is one of yandro's, or the link to one.
    pub fn is_own(&self, path: &Utf8Path) -> bool {
        let file = path.file_name().map(|name| self.sites.join(name));
        path.parent() == Some(self.read_folder()) && file.is_some_and(|file| self.site_of_file(&file).is_some())
    }

    /// The folder in which the server reads sites' files: of the links, or of the files themselves.
    pub fn read_folder(&self) -> &Utf8Path {
        self.links.as_ref().map_or(&self.sites, |links| &links.sites)
    }

    /// All of yandro's files there, with a wildcard.
    pub fn pattern(&self) -> Utf8PathBuf {
        self.read_folder().join(format!("{PREFIX}*.conf"))
    }

    /// The link that enables a site, and where it points to; `None` where files need none.
    pub fn site_link(&self, name: &HostName) -> Option<(Utf8PathBuf, Utf8PathBuf)> {
        let links = self.links.as_ref()?;
        let file = site_file_name(name);
        let folder = self.sites.file_name().unwrap_or_default();
        Some((links.sites.join(&file), Utf8Path::new("..").join(folder).join(file)))
    }
}

fn site_file_name(name: &HostName) -> String {
    format!("{PREFIX}{name}.conf")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_layout_is_told_by_its_own_files() {
        for known in KNOWN {
            // A tree with nothing but its main file and its sign.
            let exists = |path: &str| path == known.main || path == known.sign;
            let layout = Layout::find(exists, |path| Utf8PathBuf::from("/tree").join(&path[1..])).unwrap();
            assert_eq!(layout.known, known);
            let name = HostName::parse("saltmarsh.test").unwrap();
            let file = layout.site_file(&name);
            assert_eq!(layout.site_of_file(&file), Some(name.clone()));
            let read = layout.site_link(&name).map_or(file, |(link, _)| link);
            assert!(layout.is_own(&read) && !layout.is_own(&layout.read_folder().join("yandro.conf")));
        }
        assert!(Layout::find(|path| path == KNOWN[0].main, |path| path.into()).is_none(), "the sign is missing");
    }

    #[test]
    fn a_named_one_goes_by_its_main_file() {
        let is_folder = |path: &Utf8Path| path == "/opt/ferries/conf/extra";
        let named = |main: &str| Layout::named(Utf8Path::new(main), is_folder, |_| true, |path| path.into());
        assert_eq!(named("/opt/ferries/conf/httpd.conf").sites, "/opt/ferries/conf/extra");
        assert_eq!(named("/opt/tides/httpd.conf").pattern(), "/opt/tides/yandro-*.conf");
        assert_eq!(named("/usr/local/apache2/conf/httpd.conf").known.title, "upstream");
    }
}
