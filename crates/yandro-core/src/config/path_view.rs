//! How a server sees the files of this machine.
//!
//! A server in a container or a virtual machine has a folder of this machine mounted under another
//! path, and one below a sysroot takes that for `/`. Paths in its configuration are its own; the
//! files are written here.

use camino::{Utf8Path, Utf8PathBuf};

use crate::server_path::ServerPath;

/// A folder, as this machine and as the server see it. Both are absolute.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PathPair {
    /// The folder on this machine.
    pub here: Utf8PathBuf,
    /// The same folder, as the server sees it.
    pub there: ServerPath,
}

/// A text that is not a path mapping.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{text}` is not a pair of folders: {reason}")]
pub struct PathPairError {
    text: String,
    reason: &'static str,
}

impl PathPair {
    /// Reads `HERE=THERE`.
    ///
    /// # Errors
    /// A [`PathPairError`] when there are not two absolute paths, or one holds `.` or `..`.
    pub fn parse(text: &str) -> Result<Self, PathPairError> {
        let fault = |reason| PathPairError { text: text.to_owned(), reason };
        let (here, there) =
            text.split_once('=').ok_or_else(|| fault("write this machine's folder, `=`, and the server's folder"))?;
        let both = folder(here).zip(folder(there));
        let (here, there) = both.ok_or_else(|| fault("both folders are given by their absolute paths"))?;
        Ok(Self { here: here.to_native(), there })
    }
}

fn folder(text: &str) -> Option<ServerPath> {
    let path = ServerPath::new(text);
    let is_plain = !text.split(['/', '\\']).any(|part| matches!(part, "." | ".."));
    (is_plain && path.is_absolute()).then_some(path)
}

impl std::fmt::Display for PathPair {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}={}", self.here, self.there)
    }
}

/// How a server sees the files of this machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PathView {
    /// The server takes this folder for `/`; where that is a root (`/`, `C:\`), it sees all as this machine does.
    Below(Utf8PathBuf),
    /// It sees these folders under other paths, and nothing else.
    Pairs(Vec<PathPair>),
}

impl PathView {
    /// A path of this machine as the server sees it; `None` for what it doesn't see.
    pub fn there(&self, path: &Utf8Path) -> Option<ServerPath> {
        let path = ServerPath::from(path);
        match self {
            Self::Below(root) if root.parent().is_none() => Some(path),
            Self::Below(root) => Some(match path.below(ServerPath::from(root)) {
                Some(below) => ServerPath::root().join(below),
                None => path,
            }),
            Self::Pairs(pairs) => moved(&path, pairs, |pair| ((&pair.here).into(), pair.there.clone())),
        }
    }

    /// A path as the server sees it as a path of this machine; `None` for what isn't here.
    pub fn here(&self, path: &ServerPath) -> Option<Utf8PathBuf> {
        match self {
            // A path without a drive is on the one that the system is on.
            Self::Below(root) if root.parent().is_none() => Some(root.join(path.to_native())),
            Self::Below(root) => Some(ServerPath::from(root).join(path.without_root()).to_native()),
            Self::Pairs(pairs) => {
                moved(path, pairs, |pair| (pair.there.clone(), (&pair.here).into())).map(|path| path.to_native())
            }
        }
    }

    /// As [`Self::there`]; what the server doesn't see stays as it is.
    pub fn there_or_same(&self, path: &Utf8Path) -> ServerPath {
        self.there(path).unwrap_or_else(|| path.into())
    }

    /// As [`Self::here`]; what isn't here stays as it is.
    pub fn here_or_same(&self, path: &ServerPath) -> Utf8PathBuf {
        self.here(path).unwrap_or_else(|| path.to_native())
    }
}

/// A path below the deepest folder of a pair that it is in, moved to the other folder of it.
fn moved(
    path: &ServerPath,
    pairs: &[PathPair],
    ends: impl Fn(&PathPair) -> (ServerPath, ServerPath),
) -> Option<ServerPath> {
    let fits = pairs.iter().filter_map(|pair| {
        let (from, to) = ends(pair);
        Some((from.as_str().len(), path.below(&from)?, to))
    });
    let (_, below, to) = fits.max_by_key(|(depth, ..)| *depth)?;
    Some(to.join(below))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn pairs(texts: &[&str]) -> PathView {
        PathView::Pairs(texts.iter().map(|text| PathPair::parse(text).unwrap()).collect())
    }

    #[test]
    fn the_deepest_folder_section_counts() {
        let view = pairs(&["/home/ada=/mnt", "/home/ada/saltmarsh/=/srv/www"]);
        for (here, there) in [
            ("/home/ada/saltmarsh/public", Some("/srv/www/public")),
            ("/home/ada/saltmarsh", Some("/srv/www")),
            ("/home/ada/saltmarshes", Some("/mnt/saltmarshes")),
            ("/home/adam", None),
        ] {
            assert_eq!(view.there(here.into()), there.map(Into::into), "{here}");
        }
        assert_eq!(view.here(&"/srv/www/a".into()), Some("/home/ada/saltmarsh/a".into()));
        assert_eq!(view.here(&"/etc".into()), None);
    }

    #[test]
    fn a_pair_is_two_absolute_paths_without_steps_up() {
        for text in ["/a", "a=/b", "/a=b", "/a/../b=/c", "=/b", "/a="] {
            assert!(PathPair::parse(text).is_err(), "{text}");
        }
        assert_eq!(PathPair::parse("/a//b/=/c").unwrap().to_string(), "/a/b=/c");
    }

    proptest! {
        #[test]
        fn mapped_paths_lead_back_to_this_machine(below in "[a-c]{1,2}(/[a-c]{1,2}){0,3}", mounts in proptest::collection::btree_map("/[a-c](/[a-c]){0,2}", 0..3u8, 1..4)) {
            // Each has a separate path: two folders mounted on one another hide each other.
            let pairs = mounts.iter().enumerate().map(|(turn, (here, _))| PathPair { here: here.into(), there: format!("/{turn}").into() });
            let view = PathView::Pairs(pairs.collect());
            let path = Utf8PathBuf::from(format!("/{below}"));
            if let Some(there) = view.there(&path) {
                prop_assert_eq!(view.here(&there), Some(path));
            } else {
                prop_assert!(mounts.keys().all(|here| !path.starts_with(here)));
            }
        }
    }
}
