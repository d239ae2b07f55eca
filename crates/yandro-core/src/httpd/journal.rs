//! Which lines of other files yandro changed, so that each can be changed back.
//!
//! It is kept as comments in yandro's own file for other names, in the form of a diff.

use camino::{Utf8Path, Utf8PathBuf};

use crate::source;

const HEAD: &str = "# Lines that yandro changed in other files, to be changed back with the last site:";

/// A line as it was, if there was one, and as it is now.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Entry {
    file: Utf8PathBuf,
    was: Option<String>,
    now: String,
}

/// Lines in the order in which they were changed.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Journal {
    entries: Vec<Entry>,
}

impl Journal {
    /// Puts down that a line was changed.
    pub fn replaced(&mut self, file: &Utf8Path, was: &str, now: &str) {
        self.entries.push(Entry { file: file.to_owned(), was: Some(was.to_owned()), now: now.to_owned() });
    }

    /// Puts down that a line was added.
    pub fn added(&mut self, file: &Utf8Path, now: &str) {
        self.entries.push(Entry { file: file.to_owned(), was: None, now: now.to_owned() });
    }

    /// Whether nothing was changed.
    pub fn is_empty(&self) -> bool {
        self.entries.is_empty()
    }

    /// This one, then `later`.
    pub fn then(mut self, later: &Self) -> Self {
        self.entries.extend(later.entries.iter().cloned());
        self
    }

    /// The files in which lines were changed, each once.
    pub fn files(&self) -> Vec<&Utf8Path> {
        let mut files: Vec<&Utf8Path> = self.entries.iter().map(|entry| entry.file.as_path()).collect();
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
            text += &format!("# +{}.\n", entry.now);
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
            let kept = |rest: &str| rest.strip_suffix('.').map(str::to_owned);
            if let Some(file) = rest.strip_prefix("--- ") {
                path = Some(Utf8PathBuf::from(file));
            } else if let Some(rest) = rest.strip_prefix('-') {
                was = kept(rest);
            } else if let (Some(now), Some(file)) = (rest.strip_prefix('+').and_then(kept), path.clone()) {
                journal.entries.push(Entry { file, was: was.take(), now });
            }
        }
        journal
    }

    /// A file's text with the lines changed back; one that a person has changed since stays.
    pub fn taken_back(&self, file: &Utf8Path, text: &[u8]) -> Vec<u8> {
        let eol = |line: &source::Line| text[line.text.end..line.full.end].to_vec();
        let mut lines: Vec<Line> = source::lines(text)
            .map(|line| Line {
                text: text[line.text.clone()].to_vec(),
                end: eol(&line),
                is_taken: false,
                is_gone: false,
            })
            .collect();
        let mut from = 0;
        for entry in self.entries.iter().filter(|entry| entry.file == file) {
            let fits = |at: &usize| !lines[*at].is_taken && lines[*at].text == entry.now.as_bytes();
            let Some(at) = (from..lines.len()).find(fits).or_else(|| (0..lines.len()).find(fits)) else { continue };
            from = at + 1;
            lines[at].is_taken = true;
            match &entry.was {
                Some(was) => lines[at].text = was.clone().into_bytes(),
                None => lines[at].is_gone = true,
            }
        }
        // A last line without an end was added together with the end of the one before it.
        let is_last_gone = lines.last().is_some_and(|line| line.is_gone && line.end.is_empty());
        lines.retain(|line| !line.is_gone);
        if let Some(last) = lines.last_mut().filter(|_| is_last_gone) {
            last.end.clear();
        }
        lines.into_iter().flat_map(|line| [line.text, line.end]).flatten().collect()
    }
}

/// A line on its way back.
struct Line {
    text: Vec<u8>,
    end: Vec<u8>,
    is_taken: bool,
    is_gone: bool,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_down_is_read_back() {
        let mut journal = Journal::default();
        let (a, b) = (Utf8Path::new("/etc/httpd/conf/httpd.conf"), Utf8Path::new("/etc/httpd/a b.conf"));
        journal.replaced(a, "#  Include x ", "Include x ");
        journal.added(a, "Listen 443");
        journal.replaced(b, "\t# LoadModule \\", "\tLoadModule \\");
        let comment = journal.comment();
        assert!(!comment.contains("\\\n"), "{comment}");
        assert_eq!(Journal::read(format!("# mine\n{comment}<VirtualHost *:80>\n").as_bytes()), journal);
        assert_eq!(journal.files(), [b, a]);
        assert_eq!(Journal::read(b"# Lines\n# +x.\n"), Journal::default());
    }

    #[test]
    fn lines_go_back_and_hand_edits_stay() {
        let file = Utf8Path::new("/f");
        let mut journal = Journal::default();
        journal.replaced(file, "#Include x", "Include x");
        journal.added(file, "Listen 443");
        journal.added(file, "IncludeOptional y");
        let back = |text: &str| String::from_utf8(journal.taken_back(file, text.as_bytes())).unwrap();
        assert_eq!(
            back("Listen 80\r\nListen 443\r\nInclude x\r\nend\r\nIncludeOptional y"),
            "Listen 80\r\n#Include x\r\nend"
        );
        assert_eq!(back("Include x\nListen 4443\n"), "#Include x\nListen 4443\n");
        assert_eq!(back("IncludeOptional y"), "");
        assert_eq!(back("end\nListen 443\nIncludeOptional y"), "end");
    }
}
