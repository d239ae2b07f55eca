//! Paths as servers write them.

use std::fmt;

use camino::{Utf8Path, Utf8PathBuf};
use serde::{Deserialize, Serialize};

/// A path as a server's configuration names it, on whichever system the server is: parts are separated by `/`, and an
/// absolute one begins with `/` or, on Windows, with a drive (`C:/`). A path of this machine is written so, too, before
/// a server gets it.
///
/// Repeated separators, `.` and a separator at the end are left out, the letter of a drive is a capital one, and `\`
/// separates parts only behind a drive. So equal texts are equal paths. `..` stays, since what it means depends on links.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(from = "String", into = "String")]
pub struct ServerPath(String);

/// The length of a drive with its colon: 2, or 0 without one.
fn drive(text: &str) -> usize {
    let has_drive =
        matches!(text.as_bytes(), [drive, b':', b'/' | b'\\', ..] | [drive, b':'] if drive.is_ascii_alphabetic());
    if has_drive { 2 } else { 0 }
}

impl ServerPath {
    /// A path from its text.
    pub fn new(text: &str) -> Self {
        let at = drive(text);
        let separators: &[char] = if at > 0 { &['/', '\\'] } else { &['/'] };
        let mut path = text[..at].to_ascii_uppercase();
        if text[at..].starts_with(separators) {
            path.push('/');
        }
        let parts = text[at..].split(separators).filter(|part| !part.is_empty() && *part != ".");
        for (turn, part) in parts.enumerate() {
            if turn > 0 {
                path.push('/');
            }
            path.push_str(part);
        }
        Self(path)
    }

    /// The root of a system without drives.
    pub fn root() -> Self {
        Self("/".to_owned())
    }

    /// Its text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Whether it begins at a root.
    pub fn is_absolute(&self) -> bool {
        self.0[drive(&self.0)..].starts_with('/')
    }

    /// Whether it is a root itself: `/` or `C:/`.
    fn is_root(&self) -> bool {
        &self.0[drive(&self.0)..] == "/"
    }

    /// A path below this one; `below` itself if it is absolute.
    #[must_use]
    pub fn join(&self, below: impl AsRef<str>) -> Self {
        let below = Self::new(below.as_ref());
        if below.is_absolute() || self.0.is_empty() {
            return below;
        }
        if below.0.is_empty() {
            return self.clone();
        }
        let between = if self.is_root() { "" } else { "/" };
        Self(format!("{}{between}{}", self.0, below.0))
    }

    /// The folder that it is in; `None` for a root and for the empty path.
    pub fn parent(&self) -> Option<Self> {
        if self.0.is_empty() || self.is_root() {
            return None;
        }
        Some(match self.0.rsplit_once('/') {
            Some((folder, _)) if folder.len() == drive(&self.0) => Self(format!("{folder}/")),
            Some((folder, _)) => Self(folder.to_owned()),
            None => Self::default(),
        })
    }

    /// The path and the folders that it is in, up to the root.
    pub fn ancestors(&self) -> impl Iterator<Item = Self> {
        std::iter::successors(Some(self.clone()), Self::parent)
    }

    /// Its parts, without the root.
    pub fn parts(&self) -> impl Iterator<Item = &str> {
        self.0[drive(&self.0)..].split('/').filter(|part| !part.is_empty())
    }

    /// Its root: `/` or `C:/`; empty for a relative path.
    pub(crate) fn root_of(&self) -> &str {
        &self.0[..drive(&self.0) + usize::from(self.is_absolute())]
    }

    /// How many parts it has, the root being one.
    pub(crate) fn depth(&self) -> usize {
        self.parts().count() + usize::from(self.is_absolute())
    }

    /// The last part; `None` for a root, and for one that ends with `..`.
    pub fn file_name(&self) -> Option<&str> {
        self.parts().last().filter(|name| *name != "..")
    }

    /// The last part without its extension.
    pub fn file_stem(&self) -> Option<&str> {
        Utf8Path::new(self.file_name()?).file_stem()
    }

    /// The extension of the last part, without its dot.
    pub fn extension(&self) -> Option<&str> {
        Utf8Path::new(self.file_name()?).extension()
    }

    /// The path with another last part.
    #[must_use]
    pub fn with_file_name(&self, name: impl AsRef<str>) -> Self {
        self.parent().unwrap_or_else(|| self.clone()).join(name)
    }

    /// Whether it is `folder` or in it.
    pub fn starts_with(&self, folder: impl AsRef<str>) -> bool {
        self.below(folder).is_some()
    }

    /// The part of it below `folder`, empty for the folder itself; `None` for what isn't in it.
    pub fn below(&self, folder: impl AsRef<str>) -> Option<Self> {
        let folder = Self::new(folder.as_ref());
        let rest = self.0.strip_prefix(&folder.0)?;
        if folder.0.is_empty() {
            return (!self.is_absolute()).then(|| self.clone());
        }
        match rest.strip_prefix('/') {
            Some(rest) => Some(Self(rest.to_owned())),
            None if rest.is_empty() || folder.is_root() => Some(Self(rest.to_owned())),
            None => None,
        }
    }

    /// Its parts as a path that begins nowhere: without `/` or the drive.
    pub(crate) fn without_root(&self) -> &str {
        self.0[drive(&self.0)..].trim_start_matches('/')
    }

    /// The path on this machine, if the server sees its files as this machine does.
    pub fn to_native(&self) -> Utf8PathBuf {
        native(&self.0)
    }
}

/// The path at the beginning of a text, up to one of these characters; the colon of a drive ends none.
pub(crate) fn path_before<'t>(text: &'t str, ends: &[char]) -> &'t str {
    let drive = drive(text);
    let end = text[drive..].find(ends).map_or(text.len(), |at| drive + at);
    &text[..end]
}

/// A path that was written with either separator, with that of this system behind a drive; another stays as it is.
pub(crate) fn native(text: &str) -> Utf8PathBuf {
    let path = Utf8Path::new(text);
    if drive(text) > 0 { path.components().collect() } else { path.to_owned() }
}

/// A path of this machine as yandro's own files have it: with `/` also behind a drive, where `\\` would have to be
/// written twice.
pub(crate) fn in_files(path: &Utf8Path) -> String {
    if drive(path.as_str()) > 0 { path.as_str().replace('\\', "/") } else { path.to_string() }
}

impl From<&str> for ServerPath {
    fn from(text: &str) -> Self {
        Self::new(text)
    }
}

impl From<&String> for ServerPath {
    fn from(text: &String) -> Self {
        Self::new(text)
    }
}

impl From<String> for ServerPath {
    fn from(text: String) -> Self {
        Self::new(&text)
    }
}

impl From<ServerPath> for String {
    fn from(path: ServerPath) -> Self {
        path.0
    }
}

impl From<&ServerPath> for ServerPath {
    fn from(path: &ServerPath) -> Self {
        path.clone()
    }
}

/// A path of this machine as a server on it writes it.
impl From<&Utf8Path> for ServerPath {
    fn from(path: &Utf8Path) -> Self {
        // What the system prefixes to a path that it resolved, where there are drives.
        let text = path.as_str().trim_start_matches(r"\\?\");
        if std::path::MAIN_SEPARATOR == '\\' { Self::new(&text.replace('\\', "/")) } else { Self::new(text) }
    }
}

impl From<&Utf8PathBuf> for ServerPath {
    fn from(path: &Utf8PathBuf) -> Self {
        Self::from(path.as_path())
    }
}

impl From<Utf8PathBuf> for ServerPath {
    fn from(path: Utf8PathBuf) -> Self {
        Self::from(path.as_path())
    }
}

impl AsRef<str> for ServerPath {
    fn as_ref(&self) -> &str {
        &self.0
    }
}

impl PartialEq<str> for ServerPath {
    fn eq(&self, other: &str) -> bool {
        self.0 == other
    }
}

impl PartialEq<&str> for ServerPath {
    fn eq(&self, other: &&str) -> bool {
        self.0 == *other
    }
}

impl fmt::Display for ServerPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn both_kinds_of_roots_are_roots_on_every_system() {
        let path = ServerPath::new;
        for (text, same) in [
            ("/srv//www/./a/", "/srv/www/a"),
            ("/", "/"),
            ("c:\\Saltmarsh\\site", "C:/Saltmarsh/site"),
            ("C:/", "C:/"),
            ("./a", "a"),
            ("/a\\b", "/a\\b"),
            ("../a/..", "../a/.."),
            ("", ""),
        ] {
            assert_eq!(path(text), same, "{text}");
        }
        for (text, is_absolute) in [("/a", true), ("C:/a", true), ("a", false), ("C:a", false), ("", false)] {
            assert_eq!(path(text).is_absolute(), is_absolute, "{text}");
        }
        for (text, parent) in [
            ("/a/b", Some("/a")),
            ("/a", Some("/")),
            ("/", None),
            ("C:/a", Some("C:/")),
            ("C:/", None),
            ("a", Some("")),
            ("", None),
        ] {
            assert_eq!(path(text).parent(), parent.map(path), "{text}");
        }
        for (folder, below, joined) in [
            ("/", "a", "/a"),
            ("C:/", "a/b", "C:/a/b"),
            ("/a", "/b", "/b"),
            ("/a", "D:/b", "D:/b"),
            ("", "b", "b"),
            ("/a", "", "/a"),
        ] {
            assert_eq!(path(folder).join(below), joined, "{folder} {below}");
        }
        for (text, folder, below) in [
            ("/a/b", "/a", Some("b")),
            ("/a", "/a", Some("")),
            ("/ab", "/a", None),
            ("/a", "/", Some("a")),
            ("C:/a", "C:/", Some("a")),
            ("/a", "", None),
        ] {
            assert_eq!(path(text).below(folder), below.map(path), "{text} {folder}");
        }
        assert_eq!((path("/a/b.tar.gz").extension(), path("/a/b.tar.gz").file_stem()), (Some("gz"), Some("b.tar")));
    }

    proptest! {
        #[test]
        fn it_is_what_a_path_of_unix_is(text in "/?([a-c.]{1,3}/{1,2}){0,4}[a-c.]{0,3}", other in "[a-c]{0,2}(/[a-c]{1,2}){0,2}") {
            let (own, native) = (ServerPath::new(&text), typed(&text));
            let joined = own.join(&other);
            let there = format!("{text}/{other}");
            let joined_there = typed(&there);
            prop_assert_eq!(own.parts().collect::<Vec<_>>(), native);
            if !other.starts_with('/') {
                prop_assert_eq!(joined.parts().collect::<Vec<_>>(), joined_there);
            }
            prop_assert!(other.starts_with('/') || joined.starts_with(&own));
            prop_assert_eq!(ServerPath::new(own.as_str()), own.clone());
            prop_assert_eq!(own.ancestors().count(), own.parts().count() + 1);
        }
    }

    /// The parts that count (POSIX.1-2017, 4.13).
    fn typed(text: &str) -> Vec<&str> {
        text.split('/').filter(|part| !part.is_empty() && *part != ".").collect()
    }
}
