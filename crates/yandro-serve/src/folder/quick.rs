//! Opening a file below the document root in one step, on Linux: if no link is on the way (`openat2(2)`), the file is where its
//! path says, and nothing else has to be asked.

use std::fs::{File, Metadata};
use std::io;
use std::sync::{Arc, PoisonError, RwLock};
use std::time::{Duration, Instant};

use camino::Utf8Path;
use rustix::fs::{Mode, OFlags, ResolveFlags, open, openat2};
use rustix::io::Errno;

use super::rules::{Rules, path_of};

/// How long an open document root is taken for the one that its path leads to.
const FRESH: Duration = Duration::from_millis(50);

/// The document root, opened.
#[derive(Debug, Default)]
pub(super) struct Quick(RwLock<Option<Arc<Root>>>);

#[derive(Debug)]
struct Root {
    /// `None` if files below it have to be looked at one by one.
    folder: Option<File>,
    since: Instant,
}

impl Quick {
    /// The file or folder there; `None` if that has to be found out otherwise: a link is on the way, a name is hidden, or the
    /// system has no such call.
    pub(super) fn open(&self, rules: &Rules, below: &Utf8Path) -> Option<io::Result<(File, Metadata)>> {
        let path = if below.as_str().is_empty() { "." } else { below.as_str() };
        if path != "." && (path.starts_with('.') || path.contains("/.")) {
            return None;
        }
        let root = self.root(rules);
        let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC;
        let resolve = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS;
        match openat2(root.folder.as_ref()?, path, flags, Mode::empty(), resolve) {
            Ok(file) => {
                let file = File::from(file);
                Some(file.metadata().map(|meta| (file, meta)))
            }
            Err(error @ (Errno::NOENT | Errno::NOTDIR | Errno::ACCESS)) => Some(Err(error.into())),
            Err(_) => None,
        }
    }

    fn root(&self, rules: &Rules) -> Arc<Root> {
        if let Some(root) = &*self.0.read().unwrap_or_else(PoisonError::into_inner)
            && root.since.elapsed() < FRESH
        {
            return root.clone();
        }
        let since = Instant::now();
        let folder = open(rules.root.as_std_path(), OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty());
        let folder = folder.ok().map(File::from);
        let folder = folder.filter(|folder| path_of(folder).is_ok_and(|real| rules.may_serve_below(&real)));
        let root = Arc::new(Root { folder, since });
        *self.0.write().unwrap_or_else(PoisonError::into_inner) = Some(root.clone());
        root
    }
}
