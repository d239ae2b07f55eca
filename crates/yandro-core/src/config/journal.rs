//! The lines of other files that yandro changed, so that each can be changed back.
//!
//! It is kept as comments in yandro's own file for other names, in the form of a diff.

use crate::server_path::ServerPath;

use crate::source;

const HEAD: &str = "# Lines that yandro changed in other files, to be changed back with the last site:";

/// Effect of a line in a shared file, once it is switched on or added.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Switched {
    /// It loads this module, by its identifier without `_module`.
    Module(String),
    /// It has the server listen there: a port, or an address with its port.
    Listen(String),
    /// It includes files.
    Include {
        /// The files, as the line has them.
        files: String,
        /// Whether these are yandro's own.
        are_own: bool,
    },
}

/// A line as it was, if there was one, and as it is now.
#[derive(Clone, Debug, PartialEq, Eq)]
struct JournalEntry {
    file: ServerPath,
    was: Option<String>,
    now: String,
    /// How many lines of this very text stood before it then.
    alike: usize,
}

/// Lines in the order in which they were changed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Journal {
    entries: Vec<JournalEntry>,
}

impl Journal {
    /// Puts down that the line at `start` of `text`, a file's new content, has taken the place of
    /// another, or was added.
    pub fn put_down(&mut self, file: &ServerPath, was: Option<&str>, text: &[u8], start: usize) {
        let mut lines = source::lines(text);
        let before: Vec<source::Line> = lines.by_ref().take_while(|line| line.full.start < start).collect();
        let Some(own) = source::lines(text).nth(before.len()) else { return };
        let now = &text[own.text];
        let alike = before.iter().filter(|line| text[line.text.clone()] == *now).count();
        let now = String::from_utf8_lossy(now).into_owned();
        self.entries.push(JournalEntry { file: file.to_owned(), was: was.map(str::to_owned), now, alike });
    }

    /// Whether nothing was changed.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// Two journals: of the added lines that `is_gone` picks by their text, and of the rest.
    pub fn split(&self, is_gone: impl Fn(&str) -> bool) -> (Self, Self) {
        let is_gone = |entry: &JournalEntry| entry.was.is_none() && is_gone(&entry.now);
        let (gone, rest) = self.entries.iter().cloned().partition(is_gone);
        (Self { entries: gone }, Self { entries: rest })
    }

    /// This one, then `later`.
    pub fn then(mut self, later: &Self) -> Self {
        self.entries.extend(later.entries.iter().cloned());
        self
    }

    /// The files in which lines were changed, each once.
    pub fn files(&self) -> Vec<&ServerPath> {
        let mut files: Vec<&ServerPath> = self.entries.iter().map(|entry| &entry.file).collect();
        files.sort_unstable();
        files.dedup();
        files
    }

    /// The comment lines that keep it; nothing for an empty one.
    pub fn comment(&self) -> String {
        if self.entries.is_empty() {
            return String::new();
        }
        let mut text = format!("{HEAD}\n");
        let mut file = None;
        for entry in &self.entries {
            if file != Some(&entry.file) {
                text += &format!("# --- {}\n", entry.file);
                file = Some(&entry.file);
            }
            // The dot at the end keeps blanks, and a backslash from swallowing the next line.
            if let Some(was) = &entry.was {
                text += &format!("# -{was}.\n");
            }
            let alike = if entry.alike == 0 { String::new() } else { entry.alike.to_string() };
            text += &format!("# +{}.{alike}\n", entry.now);
        }
        text
    }

    /// Reads it back out of a file.
    pub fn read(file: &[u8]) -> Self {
        let text = String::from_utf8_lossy(file);
        let mut journal = Self::default();
        let (mut path, mut was) = (None, None);
        for line in text.lines().skip_while(|line| *line != HEAD).skip(1) {
            let Some(rest) = line.strip_prefix("# ") else { break };
            let kept = |rest: &str| rest.rsplit_once('.').map(|(text, alike)| (text.to_owned(), alike.to_owned()));
            if let Some(file) = rest.strip_prefix("--- ") {
                path = Some(ServerPath::from(file));
            } else if let Some(rest) = rest.strip_prefix('-') {
                was = kept(rest).map(|(text, _)| text);
            } else if let (Some((now, alike)), Some(file)) = (rest.strip_prefix('+').and_then(kept), path.clone()) {
                let alike = if alike.is_empty() { Some(0) } else { alike.parse().ok() };
                if let Some(alike) = alike {
                    journal.entries.push(JournalEntry { file, was: was.take(), now, alike });
                }
            }
        }
        journal
    }

    /// A file's text with the lines changed back; one that a person has changed since stays.
    pub fn taken_back(&self, file: &ServerPath, text: &[u8]) -> Vec<u8> {
        let eol = |line: &source::Line| text[line.text.end..line.full.end].to_vec();
        let mut lines: Vec<(Vec<u8>, Vec<u8>)> =
            source::lines(text).map(|line| (text[line.text.clone()].to_vec(), eol(&line))).collect();
        // The last first: each finds the file as it had left it.
        for entry in self.entries.iter().rev().filter(|entry| entry.file == *file) {
            let alike: Vec<usize> = (0..lines.len()).filter(|at| lines[*at].0 == entry.now.as_bytes()).collect();
            let Some(at) = alike.get(entry.alike).or(alike.last()).copied() else { continue };
            if let Some(was) = &entry.was {
                lines[at].0 = was.clone().into_bytes();
                continue;
            }
            let (_, end) = lines.remove(at);
            // A last line without an end was added together with the end of the one before it.
            if end.is_empty()
                && let Some(last) = lines.last_mut()
            {
                last.1.clear();
            }
        }
        lines.into_iter().flat_map(|(text, end)| [text, end]).flatten().collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A journal of changes of lines, each by its number in the text before it.
    fn journal(file: &ServerPath, changes: &[(Option<&str>, &str)]) -> Journal {
        let mut journal = Journal::default();
        for (was, now) in changes {
            journal.put_down(file, *was, now.as_bytes(), 0);
        }
        journal
    }

    #[test]
    fn records_are_read_back_as_written() {
        let (a, b) = (&ServerPath::new("/etc/httpd/conf/httpd.conf"), &ServerPath::new("/etc/httpd/a b.conf"));
        let mut first = journal(a, &[(Some("#  Include x "), "Include x "), (None, "Listen 443")]);
        first.put_down(a, None, b"Listen 443\nListen 443\n", 11);
        let journal = first.then(&journal(b, &[(Some("\t# LoadModule \\"), "\tLoadModule \\")]));
        let comment = journal.comment();
        assert!(!comment.contains("\\\n"), "{comment}");
        assert_eq!(Journal::read(format!("# mine\n{comment}<VirtualHost *:80>\n").as_bytes()), journal);
        assert_eq!(journal.files(), [b, a]);
        assert_eq!(Journal::read(b"# Lines\n# +x.\n"), Journal::default());
    }

    #[test]
    fn lines_go_back_and_hand_edits_stay() {
        let file = &ServerPath::new("/f");
        let journal =
            journal(file, &[(Some("#Include x"), "Include x"), (None, "Listen 443"), (None, "IncludeOptional y")]);
        let back = |text: &str| String::from_utf8(journal.taken_back(file, text.as_bytes())).unwrap();
        let edited = "Listen 80\r\nListen 443\r\nInclude x\r\nend\r\nIncludeOptional y";
        assert_eq!(back(edited), "Listen 80\r\n#Include x\r\nend");
        assert_eq!(back("Include x\nListen 4443\n"), "#Include x\nListen 4443\n");
        assert_eq!(back("IncludeOptional y"), "");
        assert_eq!(back("end\nListen 443\nIncludeOptional y"), "end");
    }
}
