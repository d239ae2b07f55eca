//! The identity of a site list. Yandro's lines in files that several users share name their list, so
//! that only the commands of that list touch them.

use std::fmt;

use camino::Utf8Path;

use crate::server_path::{ServerPath, in_files};

/// A site list: whose it is, and its file. Two are the same if their files are.
#[derive(Clone, Debug, Eq)]
pub struct ListId {
    user: String,
    file: String,
}

/// Between the user and the file in a mark.
const BETWEEN: &str = ", in ";

impl ListId {
    /// The list of `user` in the file `file`, an absolute path.
    pub fn new(user: &str, file: &Utf8Path) -> Self {
        // A line break in a path must not end the comment that names it.
        let shown = |text: &str| text.escape_default().to_string().replace("\\'", "'").replace("\\\"", "\"");
        Self { user: shown(user), file: shown(&in_files(file)) }
    }

    /// The user.
    pub fn user(&self) -> &str {
        &self.user
    }

    /// How a comment names the list: `ada, in /home/ada/.config/yandro/sites.toml`.
    pub fn mark(&self) -> String {
        format!("{}{BETWEEN}{}", self.user, self.file)
    }

    /// A number from the path of its file, for what each list has separately (FNV-1a).
    pub fn number(&self) -> u16 {
        let hash =
            self.file.bytes().fold(0x811c_9dc5_u32, |hash, byte| (hash ^ u32::from(byte)).wrapping_mul(0x0100_0193));
        u16::try_from((hash >> 16) ^ (hash & 0xffff)).unwrap_or_default()
    }

    /// Reads what [`Self::mark`] wrote.
    pub fn read(mark: &str) -> Option<Self> {
        let (user, file) = mark.trim_end().split_once(BETWEEN)?;
        let is_whole = !user.is_empty() && ServerPath::new(file).is_absolute();
        is_whole.then(|| Self { user: user.to_owned(), file: file.to_owned() })
    }
}

impl PartialEq for ListId {
    fn eq(&self, other: &Self) -> bool {
        self.file == other.file
    }
}

impl std::hash::Hash for ListId {
    fn hash<H: std::hash::Hasher>(&self, state: &mut H) {
        self.file.hash(state);
    }
}

impl fmt::Display for ListId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "the site list of user `{}` ({})", self.user, self.file)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mark_is_one_line_and_reads_back() {
        for (user, file) in [("ada", "/home/ada/sites.toml"), ("a b", "/tmp/o'clock\n127.0.0.1 bank.test"), ("é", "/é")]
        {
            let list = ListId::new(user, Utf8Path::new(file));
            assert!(!list.mark().contains(['\n', '\r']), "{list}");
            assert_eq!(ListId::read(&list.mark()).as_ref(), Some(&list));
        }
        let list = ListId::new("ada", Utf8Path::new(r"C:\Users\ada\sites.toml"));
        assert_eq!(list.mark(), "ada, in C:/Users/ada/sites.toml");
        assert_eq!(ListId::read(&list.mark()), Some(list));
        assert_eq!(ListId::read("ada"), None);
    }
}
