//! How a server sees the files of this machine.
//!
//! A server in a container or a virtual machine has a folder of this machine mounted under another
//! path, and one below a sysroot takes that for `/`. Paths in its configuration are its own; the
//! files are written here.

use camino::{Utf8Path, Utf8PathBuf};

/// A folder, as this machine and as the server see it. Both are absolute.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PathPair {
    /// The folder on this machine.
    pub here: Utf8PathBuf,
    /// The same folder, as the server sees it.
    pub there: Utf8PathBuf,
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
        Ok(Self { here, there })
    }
}

fn folder(text: &str) -> Option<Utf8PathBuf> {
    let path = Utf8Path::new(text);
    let is_plain = !path.components().any(|part| matches!(part.as_str(), "." | ".."));
    // A path of Windows begins with its drive.
    let has_drive = matches!(text.as_bytes(), [drive, b':', b'/', ..] if drive.is_ascii_alphabetic());
    (is_plain && (path.is_absolute() || has_drive)).then(|| path.components().collect::<Utf8PathBuf>())
}

impl std::fmt::Display for PathPair {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}={}", self.here, self.there)
    }
}

/// How a server sees the files of this machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PathView {
    /// The server takes this folder for `/`; where that is `/`, it sees all as this machine does.
    Below(Utf8PathBuf),
    /// It sees these folders under other paths, and nothing else.
    Pairs(Vec<PathPair>),
}

impl PathView {
    /// A path of this machine as the server sees it; `None` for what it doesn't see.
    pub fn there(&self, path: &Utf8Path) -> Option<Utf8PathBuf> {
        match self {
            Self::Below(root) if root == "/" => Some(path.to_owned()),
            Self::Below(root) => Some(match path.strip_prefix(root) {
                Ok(below) => Utf8Path::new("/").join(below),
                Err(_) => path.to_owned(),
            }),
            Self::Pairs(pairs) => moved(path, pairs, |pair| (&pair.here, &pair.there)),
        }
    }

    /// A path as the server sees it as a path of this machine; `None` for what isn't here.
    pub fn here(&self, path: &Utf8Path) -> Option<Utf8PathBuf> {
        match self {
            Self::Below(root) if root == "/" => Some(path.to_owned()),
            Self::Below(root) => {
                // A drive, as paths have it on Windows.
                let text = path.as_str();
                let below = match text.as_bytes() {
                    [drive, b':', ..] if drive.is_ascii_alphabetic() => &text[2..],
                    _ => text,
                };
                Some(root.join(below.trim_start_matches('/')))
            }
            Self::Pairs(pairs) => moved(path, pairs, |pair| (&pair.there, &pair.here)),
        }
    }

    /// As [`Self::there`]; what the server doesn't see stays as it is.
    pub fn there_or_same(&self, path: &Utf8Path) -> Utf8PathBuf {
        self.there(path).unwrap_or_else(|| path.to_owned())
    }

    /// As [`Self::here`]; what isn't here stays as it is.
    pub fn here_or_same(&self, path: &Utf8Path) -> Utf8PathBuf {
        self.here(path).unwrap_or_else(|| path.to_owned())
    }
}

/// A path below the deepest folder of a pair that it is in, moved to the other folder of it.
fn moved(
    path: &Utf8Path,
    pairs: &[PathPair],
    ends: impl Fn(&PathPair) -> (&Utf8PathBuf, &Utf8PathBuf),
) -> Option<Utf8PathBuf> {
    let fits = pairs.iter().filter_map(|pair| {
        let (from, to) = ends(pair);
        Some((from.as_str().len(), path.strip_prefix(from).ok()?, to))
    });
    let (_, below, to) = fits.max_by_key(|(depth, ..)| *depth)?;
    Some(if below == "" { to.clone() } else { to.join(below) })
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
        assert_eq!(view.here("/srv/www/a".into()), Some("/home/ada/saltmarsh/a".into()));
        assert_eq!(view.here("/etc".into()), None);
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
