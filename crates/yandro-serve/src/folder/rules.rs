//! What of a folder may be served: regular files, through links as the site's `symlinks` says, and nothing hidden.

use std::fs::{self, File, Metadata};
use std::io;
use std::sync::{Mutex, PoisonError};

use camino::{Utf8Component, Utf8Path, Utf8PathBuf};
use percent_encoding::percent_decode_str;
use yandro_core::Symlinks;

/// The path of a request, below the document root: decoded, without `..`, and nothing hidden in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct SitePath {
    pub(crate) below: Utf8PathBuf,
    /// Whether a folder was asked for: it ends with a slash.
    pub(crate) of_folder: bool,
}

/// The files of a folder that may be served.
#[derive(Debug)]
pub(crate) struct Rules {
    /// The document root.
    pub(crate) root: Utf8PathBuf,
    /// The project's folder, which no link may lead out of.
    project: Utf8PathBuf,
    symlinks: Symlinks,
    /// Folders that are never served, wherever a link leads: yandro's own.
    private: Vec<Utf8PathBuf>,
    /// The project's folder without links, and which folder that was.
    real_project: Mutex<Option<(Identity, Utf8PathBuf)>>,
    #[cfg(target_os = "linux")]
    quick: super::quick::Quick,
}

/// A file or folder that a path leads to.
#[derive(Debug)]
#[allow(clippy::large_enum_variant, reason = "it is taken apart where it is made, for each request")]
pub(crate) enum Opened {
    File(OpenFile),
    /// A folder, by the path that leads there.
    Folder(Utf8PathBuf),
    Nothing,
    /// It is there, and must not be served.
    Withheld,
}

/// A regular file that may be served.
#[derive(Debug)]
pub(crate) struct OpenFile {
    pub(crate) file: File,
    pub(crate) meta: Metadata,
    /// By the links that lead there.
    pub(crate) path: Utf8PathBuf,
    /// Without links; `None` if there are none below the document root.
    real: Option<Utf8PathBuf>,
}

impl OpenFile {
    /// Its path without links below the document root.
    pub(crate) fn real(&self) -> &Utf8Path {
        self.real.as_ref().unwrap_or(&self.path)
    }
}

impl SitePath {
    /// Reads the path of a request's target; `None` for one that leads to nothing that may be served.
    pub(crate) fn read(path: &str) -> Option<Self> {
        let decoded = percent_decode_str(path).decode_utf8().ok()?;
        let mut below = Utf8PathBuf::new();
        for part in Utf8Path::new(decoded.trim_start_matches('/')).components() {
            match part {
                Utf8Component::Normal(name) if is_plain(name) && !is_hidden(name) => below.push(name),
                Utf8Component::CurDir => {}
                _ => return None,
            }
        }
        Some(Self { below, of_folder: decoded.ends_with('/') })
    }
}

/// Whether a name means the file of that name: Windows reads further ones as another file's, or as its data.
fn is_plain(name: &str) -> bool {
    !name.contains('\0') && (cfg!(unix) || !name.contains(':') && !name.ends_with(['.', ' ']))
}

impl Rules {
    pub(crate) fn new(root: Utf8PathBuf, project: &Utf8Path, symlinks: Symlinks, private: &[Utf8PathBuf]) -> Self {
        // In the form in which the real path of a file is.
        let private = private.iter().map(|path| path.canonicalize_utf8().unwrap_or_else(|_| path.clone()));
        let (project, private) = (project.to_owned(), private.collect());
        Self {
            root,
            project,
            symlinks,
            private,
            real_project: Mutex::new(None),
            #[cfg(target_os = "linux")]
            quick: super::quick::Quick::default(),
        }
    }

    /// Opens what a path below the document root leads to.
    pub(crate) fn open(&self, below: &Utf8Path) -> Opened {
        let path = if below.as_str().is_empty() { self.root.clone() } else { self.root.join(below) };
        #[cfg(target_os = "linux")]
        if let Some(opened) = self.quick.open(self, below) {
            return match opened {
                Ok((_, meta)) if meta.is_dir() => Opened::Folder(path),
                Ok((file, meta)) if meta.is_file() => Opened::File(OpenFile { file, meta, path, real: None }),
                Err(error) if is_nothing(&error) => Opened::Nothing,
                Ok(_) | Err(_) => Opened::Withheld,
            };
        }
        let (file, meta, real) = match open(&path) {
            Ok(opened) => opened,
            Err(error) if is_nothing(&error) => return Opened::Nothing,
            Err(_) => return Opened::Withheld,
        };
        if !self.may_serve(&path, &real) {
            return Opened::Withheld;
        }
        match file {
            _ if meta.is_dir() => Opened::Folder(path),
            Some(file) if meta.is_file() => Opened::File(OpenFile { file, meta, path, real: Some(real) }),
            _ => Opened::Withheld,
        }
    }

    /// Whether all below the document root, which is `real` without links, may be served but for hidden names, as long as no
    /// link leads there.
    #[cfg(target_os = "linux")]
    pub(super) fn may_serve_below(&self, real: &Utf8Path) -> bool {
        self.may_serve(&self.root, real) && !self.private.iter().any(|private| private.starts_with(real))
    }

    /// Whether a file may be served: `path` by the links that lead there, `real` without.
    fn may_serve(&self, path: &Utf8Path, real: &Utf8Path) -> bool {
        let Ok(project) = self.real_project(real) else { return false };
        if self.private.iter().any(|private| real.starts_with(private)) {
            return false;
        }
        let below = match (real.strip_prefix(&project), self.symlinks) {
            (Ok(_), Symlinks::Off) if self.has_link(path, |_, _| true) => return false,
            (Ok(_), Symlinks::Owner) if self.has_link(path, is_of_another) => return false,
            (Ok(below), _) => below,
            (Err(_), Symlinks::Anywhere) => without_common(real, &project),
            (Err(_), _) => return false,
        };
        below.components().all(|part| !is_hidden(part.as_str()))
    }

    /// The project's folder without links. It is looked for again where the folder is another one, or where it
    /// seems not to have `real`, as after it was moved.
    fn real_project(&self, real: &Utf8Path) -> io::Result<Utf8PathBuf> {
        let now = Identity::of(&fs::metadata(&self.project)?);
        let mut known = self.real_project.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((then, path)) = &*known
            && *then == now
            && real.starts_with(path)
        {
            return Ok(path.clone());
        }
        let path = self.project.canonicalize_utf8()?;
        *known = Some((now, path.clone()));
        Ok(path)
    }

    /// Whether a link for which this holds leads from the document root to a path. It is given the link's own data and those of
    /// what it leads to.
    fn has_link(&self, path: &Utf8Path, holds: impl Fn(&Metadata, &Metadata) -> bool) -> bool {
        let is_such = |path: &Utf8Path| {
            let Ok(own) = path.symlink_metadata() else { return false };
            own.file_type().is_symlink() && fs::metadata(path).is_ok_and(|target| holds(&own, &target))
        };
        path.ancestors().take_while(|above| *above != self.root).any(is_such)
    }
}

/// Whether a link belongs to another user than what it leads to.
fn is_of_another(link: &Metadata, target: &Metadata) -> bool {
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt as _;
        link.uid() != target.uid()
    }
    #[cfg(windows)]
    {
        _ = (link, target);
        false
    }
}

/// Whether there is no file, as opposed to one that can't be opened.
fn is_nothing(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory)
}

/// Opens a file or folder without waiting for it, as opening a named pipe would, and tells where it is without links. The
/// path is that of the opened file, where the system tells: nobody can exchange a link between the two.
#[cfg(unix)]
fn open(path: &Utf8Path) -> io::Result<(Option<File>, Metadata, Utf8PathBuf)> {
    use std::os::unix::fs::OpenOptionsExt as _;
    let flags = rustix::fs::OFlags::NONBLOCK | rustix::fs::OFlags::NOCTTY;
    let flags = i32::try_from(flags.bits()).unwrap_or_default();
    let file = fs::OpenOptions::new().read(true).custom_flags(flags).open(path)?;
    let meta = file.metadata()?;
    let real = path_of(&file).or_else(|_| {
        let real = path.canonicalize_utf8()?;
        let is_same = Identity::of(&fs::metadata(&real)?) == Identity::of(&meta);
        if is_same { Ok(real) } else { Err(io::Error::from(io::ErrorKind::NotFound)) }
    })?;
    Ok((Some(file), meta, real))
}

#[cfg(windows)]
fn open(path: &Utf8Path) -> io::Result<(Option<File>, Metadata, Utf8PathBuf)> {
    let real = path.canonicalize_utf8()?;
    let meta = fs::metadata(&real)?;
    // A folder can't be opened as a file there.
    let file = if meta.is_file() { Some(File::open(&real)?) } else { None };
    Ok((file, meta, real))
}

/// The path of an open file.
#[cfg(any(target_os = "linux", target_os = "macos"))]
pub(super) fn path_of(file: &File) -> io::Result<Utf8PathBuf> {
    #[cfg(target_os = "linux")]
    let path = {
        use std::os::fd::AsRawFd as _;
        fs::read_link(format!("/proc/self/fd/{}", file.as_raw_fd()))?
    };
    #[cfg(target_os = "macos")]
    let path = {
        use std::os::unix::ffi::OsStringExt as _;
        std::path::PathBuf::from(std::ffi::OsString::from_vec(rustix::fs::getpath(file)?.into_bytes()))
    };
    Utf8PathBuf::from_path_buf(path).map_err(|_| io::ErrorKind::InvalidData.into())
}

#[cfg(all(unix, not(any(target_os = "linux", target_os = "macos"))))]
fn path_of(_file: &File) -> io::Result<Utf8PathBuf> {
    Err(io::ErrorKind::Unsupported.into())
}

/// Which file or folder something is, whatever its path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Identity(u64, u64);

impl Identity {
    #[cfg(unix)]
    fn of(meta: &Metadata) -> Self {
        use std::os::unix::fs::MetadataExt as _;
        Self(meta.dev(), meta.ino())
    }

    /// When it was made is the nearest that can be had there.
    #[cfg(windows)]
    fn of(meta: &Metadata) -> Self {
        use std::os::windows::fs::MetadataExt as _;
        Self(meta.creation_time(), u64::from(meta.file_attributes()))
    }
}

/// A path without the folders that it has in common with another.
fn without_common<'p>(path: &'p Utf8Path, other: &Utf8Path) -> &'p Utf8Path {
    let common = other.ancestors().find(|above| path.starts_with(above));
    common.and_then(|common| path.strip_prefix(common).ok()).unwrap_or(path)
}

/// Whether a file or folder is a project's own business, and no page of it.
pub(crate) fn is_hidden(name: &str) -> bool {
    name.starts_with('.') && name != ".well-known"
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    #[test]
    fn no_link_leads_out_of_a_project_and_nothing_but_files_is_served() {
        let folder = tempfile::Builder::new().prefix("yandro").tempdir().unwrap();
        let base = Utf8Path::from_path(folder.path()).unwrap().canonicalize_utf8().unwrap();
        let (project, root) = (base.join("depot"), base.join("depot/public"));
        for below in ["depot/public/deep", "depot/assets", "depot/.git", "home/.ssh", "home/yandro", "home/photos"] {
            fs::create_dir_all(base.join(below)).unwrap();
        }
        for file in [
            "depot/public/index.html",
            "depot/assets/boat.png",
            "depot/.git/config",
            "home/.ssh/id",
            "home/yandro/issuing.key",
            "home/photos/quay.jpg",
        ] {
            fs::write(base.join(file), "x").unwrap();
        }
        for (target, link) in [
            ("../assets/boat.png", "boat.png"),
            ("../.git/config", "config.txt"),
            ("../../home/.ssh/id", "a.txt"),
            ("../../home/yandro/issuing.key", "b.txt"),
            ("../../home/photos", "photos"),
            ("/etc/hostname", "name.txt"),
            ("round", "round"),
        ] {
            symlink(target, root.join(link)).unwrap();
        }
        make_fifo(&root.join("pipe"));
        let rules = |symlinks| Rules::new(root.clone(), &project, symlinks, &[base.join("home/yandro")]);
        let long = format!("/{}", "a".repeat(8192));
        for (path, on, anywhere, off) in [
            ("/", true, true, true),
            ("/index.html", true, true, true),
            ("/boat.png", true, true, false),
            ("/config.txt", false, false, false),
            ("/a.txt", false, false, false),
            ("/b.txt", false, false, false),
            ("/photos/quay.jpg", false, true, false),
            ("/photos/%71uay.jpg", false, true, false),
            ("/name.txt", false, true, false),
            ("/round", false, false, false),
            ("/pipe", false, false, false),
            ("/deep/../../assets/boat.png", false, false, false),
            ("/%2e%2e/assets/boat.png", false, false, false),
            ("/a%00.txt", false, false, false),
            ("/nothing.html", true, true, true),
            (long.as_str(), false, false, false),
        ] {
            let allowed =
                [Symlinks::On, Symlinks::Anywhere, Symlinks::Off].map(|choice| is_allowed(&rules(choice), path));
            assert_eq!(allowed, [on, anywhere, off], "{path}");
        }
        // A document root that is itself a link out of the project serves nothing.
        symlink("/etc", project.join("out")).unwrap();
        assert!(!is_allowed(&Rules::new(project.join("out"), &project, Symlinks::On, &[]), "/hostname"));
        // A project that is a link to its release: another release is found at once.
        let (first, second) = (base.join("releases/1"), base.join("releases/2"));
        for (release, text) in [(&first, "1"), (&second, "2")] {
            fs::create_dir_all(release).unwrap();
            fs::write(release.join("tides.txt"), text).unwrap();
        }
        let current = base.join("current");
        symlink(&first, &current).unwrap();
        let rules = Rules::new(current.clone(), &current, Symlinks::On, &[]);
        let read = |path| match rules.open(path) {
            Opened::File(found) => std::io::read_to_string(found.file).unwrap(),
            other => panic!("{other:?}"),
        };
        assert_eq!(read(Utf8Path::new("tides.txt")), "1");
        fs::remove_file(&current).unwrap();
        symlink(&second, &current).unwrap();
        let began = std::time::Instant::now();
        while read(Utf8Path::new("tides.txt")) != "2" {
            assert!(began.elapsed() < std::time::Duration::from_secs(10), "the old release is served");
        }
        symlink("../1/tides.txt", second.join("old.txt")).unwrap();
        assert!(!is_allowed(&rules, "/old.txt"));
    }

    /// Whether a path leads to something that may be served, or to nothing.
    fn is_allowed(rules: &Rules, path: &str) -> bool {
        let Some(path) = SitePath::read(path) else { return false };
        match rules.open(&path.below) {
            Opened::File(_) | Opened::Nothing | Opened::Folder(_) => true,
            Opened::Withheld => false,
        }
    }

    fn make_fifo(path: &Utf8Path) {
        assert!(std::process::Command::new("mkfifo").arg(path).status().unwrap().success());
    }
}
