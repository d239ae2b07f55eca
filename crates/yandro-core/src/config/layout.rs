//! Places of a server's files: one way of reading and writing, with the differences between
//! distributions and bundles as data.

use camino::{Utf8Path, Utf8PathBuf};

use crate::name::HostName;

/// Known facts about a layout before it is found. Paths are absolute, without a drive.
#[derive(Debug, PartialEq, Eq)]
pub struct KnownLayout {
    /// Title for people.
    pub title: &'static str,
    /// The main file.
    pub main: &'static str,
    /// A folder that tells it from others with the same main file.
    pub sign: &'static str,
    /// The folder that sites' files go into.
    pub sites: &'static str,
    /// Folders of the links that enable sites and modules, if there are any.
    pub links: Option<KnownLinks>,
    /// The folder that relative paths start from, unless the main file says another.
    pub root: &'static str,
    /// A file of shell variables that the server is started with.
    pub environment: Option<&'static str>,
    /// The server's program, the likeliest first.
    pub programs: &'static [&'static str],
    /// The folder of its logs, where its own configuration has a name for it.
    pub logs: Option<&'static str>,
    /// The modules that are built in beyond the server's core, by the names of their sources.
    pub built_in: &'static [&'static str],
    /// The file of its process's number, where no look at the configuration is needed for it.
    pub pid_file: Option<&'static str>,
    /// The program that starts and stops it, where it isn't the server's own.
    pub control: Option<&'static str>,
    /// Name of the systemd unit.
    pub service: &'static str,
    /// The command that installs the TLS module, if it has a separate package.
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

/// The layout of a server that is only known by its main file, and the basis of all others.
pub(crate) const PLAIN: KnownLayout = KnownLayout {
    title: "named",
    main: "",
    sign: "",
    sites: "",
    links: None,
    root: "/",
    environment: None,
    programs: &[],
    logs: None,
    built_in: &[],
    pid_file: None,
    control: None,
    service: "",
    install_tls: None,
};

/// The layout of a server of which only the folder of sites' files is on this machine.
const FOLDER: KnownLayout = KnownLayout { title: "folder", logs: Some(""), ..PLAIN };

/// A layout that was found. Paths are those of this machine, the sysroot included.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Layout {
    /// Known facts.
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

/// Owner of a file of a server's configuration.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum FileOwner {
    /// Yandro's, for a site.
    Site(HostName),
    /// Yandro's, for unknown host names.
    DefaultHost,
    /// A module's: it comes and goes with the link that enables the module.
    Module,
    /// Anybody else's.
    Other,
}

impl FileOwner {
    /// Whether yandro wrote it.
    pub fn is_yandro(&self) -> bool {
        matches!(self, Self::Site(_) | Self::DefaultHost)
    }
}

/// The name under which the virtual hosts for unknown host names are kept, as a site's are. It can be no site:
/// nobody can reach a name below `invalid` (RFC 6761 section 6.4), and it sorts before the names of sites.
pub const OTHERS: &str = "0.invalid";

/// The name under which the virtual hosts for other names are kept.
pub(crate) fn others_name() -> HostName {
    HostName::parse(OTHERS).expect("it is a name")
}

/// End of the names of files of sites that are out of use.
const DISABLED: &str = ".disabled";

/// Prefix of the names of all of yandro's files.
const PREFIX: &str = "yandro-";

/// Questions to the disk by which a layout is recognised.
pub struct LayoutDisk<'d> {
    /// Whether a path of this machine is a folder.
    pub is_folder: &'d dyn Fn(&Utf8Path) -> bool,
    /// Whether there is something at a path of the server's.
    pub exists: &'d dyn Fn(&str) -> bool,
    /// Path on this machine for a path of the server.
    pub at: &'d dyn Fn(&str) -> Utf8PathBuf,
}

impl std::fmt::Debug for LayoutDisk<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("LayoutDisk")
    }
}

impl Layout {
    /// The first of these layouts that is there. `exists` tells of a path of the table, and `at`
    /// gives it as a path of this machine.
    pub fn find(
        known: &'static [KnownLayout],
        exists: impl Fn(&str) -> bool,
        at: impl Fn(&str) -> Utf8PathBuf,
    ) -> Option<Self> {
        known.iter().find(|known| exists(known.main) && exists(known.sign)).map(|known| Self::of_known(known, at))
    }

    /// Every known layout, at the paths of the table.
    pub fn all(known: &'static [KnownLayout]) -> impl Iterator<Item = Self> {
        known.iter().map(|known| Self::of_known(known, |path| path.into()))
    }

    fn of_known(known: &'static KnownLayout, at: impl Fn(&str) -> Utf8PathBuf) -> Self {
        let links = known.links.as_ref().map(|links| Links {
            sites: at(links.sites),
            modules: at(links.modules),
            enabled_modules: at(links.enabled_modules),
        });
        Self { known, main: at(known.main), sites: at(known.sites), links }
    }

    /// The layout of a server that the user names by its main file: the known one whose
    /// file it is; otherwise sites' files go into the first of these folders next to the main file that exists,
    /// or next to the main file if none does.
    pub fn named(known: &'static [KnownLayout], main: &Utf8Path, folders: &[&str], disk: &LayoutDisk<'_>) -> Self {
        let known = known.iter().find(|known| (disk.at)(known.main) == *main && (disk.exists)(known.sign));
        if let Some(known) = known {
            return Self::of_known(known, disk.at);
        }
        let beside = main.parent().unwrap_or(Utf8Path::new("/"));
        let usual = folders.iter().map(|name| beside.join(name)).find(|folder| (disk.is_folder)(folder));
        let sites = usual.unwrap_or_else(|| beside.to_owned());
        Self { known: &PLAIN, main: main.to_owned(), sites, links: None }
    }

    /// The layout of a server of which nothing but the folder of sites' files is here: its main
    /// file includes all of them that end in `.conf`.
    pub fn of_folder(folder: &Utf8Path) -> Self {
        Self { known: &FOLDER, main: folder.to_owned(), sites: folder.to_owned(), links: None }
    }

    /// Whether the main file isn't here.
    pub fn is_folder(&self) -> bool {
        self.known.title == FOLDER.title
    }

    /// The file of a site's virtual hosts.
    pub fn site_file(&self, name: &HostName) -> Utf8PathBuf {
        self.sites.join(site_file_name(name))
    }

    /// The file in which the virtual hosts of a site that is out of use are kept. No pattern that ends in `.conf`
    /// has it, and all its lines are comments.
    pub fn disabled_file(&self, name: &HostName) -> Utf8PathBuf {
        self.sites.join(site_file_name(name) + DISABLED)
    }

    /// The site that is out of use whose file this is.
    pub fn site_of_disabled(&self, path: &Utf8Path) -> Option<HostName> {
        let file = path.as_str().strip_suffix(DISABLED)?;
        self.site_of_file(Utf8Path::new(file))
    }

    /// The site whose file this is, if it is one of yandro's.
    pub fn site_of_file(&self, path: &Utf8Path) -> Option<HostName> {
        let name = path.file_name()?.strip_prefix(PREFIX)?.strip_suffix(".conf")?;
        if path.parent() == Some(&self.sites) { HostName::parse(name).ok() } else { None }
    }

    /// The site whose link this is, if it is one of yandro's.
    pub fn site_of_link(&self, path: &Utf8Path) -> Option<HostName> {
        self.links.as_ref().filter(|links| path.parent() == Some(&links.sites))?;
        self.site_of_file(&self.sites.join(path.file_name()?))
    }

    /// Whether a file that the server reads is one of yandro's, or the link to one.
    pub fn is_own(&self, path: &Utf8Path) -> bool {
        self.owner_of(path).is_yandro()
    }

    /// Owner of a file that the server reads.
    pub fn owner_of(&self, path: &Utf8Path) -> FileOwner {
        let is_module = self.links.as_ref().is_some_and(|links| path.parent() == Some(links.enabled_modules.as_path()));
        let is_read = path.parent() == Some(self.read_folder());
        let file = if is_read { path.file_name().map(|name| self.sites.join(name)) } else { None };
        match file.and_then(|file| self.site_of_file(&file)) {
            Some(name) if name.as_str() == OTHERS => FileOwner::DefaultHost,
            Some(name) => FileOwner::Site(name),
            None if is_module => FileOwner::Module,
            None => FileOwner::Other,
        }
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

/// The name of a site's file, and of the link that enables it.
pub(crate) fn site_file_name(name: &HostName) -> String {
    format!("{PREFIX}{name}.conf")
}
