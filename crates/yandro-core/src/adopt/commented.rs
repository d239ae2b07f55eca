//! Virtual hosts that are commented out.

use super::hand::{HandServer, HandSite};
use super::reading::BlockReading;
use super::written::Brought;
use crate::config::{Dialect, Place};
use crate::source;

/// The virtual hosts of a server's files that are commented out. yandro lists them and leaves them as they are.
pub(super) fn commented(server: &HandServer<'_>) -> Vec<HandSite> {
    let dialect = server.kind.software().dialect();
    let mut found = Vec::new();
    for file in server.configuration.files().iter().filter(|file| !(server.is_own)(file)) {
        let Some(text) = server.files.read(file) else { continue };
        for (line, name) in in_text(dialect, &text) {
            found.push(HandSite {
                server: server.id,
                name,
                is_commented: true,
                site: Err("it is commented out".into()),
                blocks: vec![(Place { file: file.to_string(), line }, BlockReading::default())],
                brought: Brought::default(),
                cuts: Vec::new(),
            });
        }
    }
    found
}

/// The commented-out virtual hosts of a text that have a name: line, from 1, and name.
fn in_text(dialect: &dyn Dialect, text: &[u8]) -> Vec<(usize, String)> {
    let bare = |line: &source::Line| {
        let words = text[line.text.clone()].trim_ascii_start();
        words.strip_prefix(b"#").map(|rest| rest.strip_prefix(b"#").unwrap_or(rest).to_vec())
    };
    let lines: Vec<Option<Vec<u8>>> = source::lines(text).map(|line| bare(&line)).collect();
    let mut found = Vec::new();
    let mut at = 0;
    while at < lines.len() {
        let opens = lines[at].as_ref().is_some_and(|line| is_opening(dialect, line));
        let end = (at..lines.len().min(at + LONGEST))
            .take_while(|own| lines[*own].is_some())
            .find(|end| opens && parsed_name(dialect, &lines[at..=*end]).is_some());
        match end {
            Some(end) => {
                found.extend(
                    parsed_name(dialect, &lines[at..=end]).filter(|name| !name.is_empty()).map(|name| (at + 1, name)),
                );
                at = end + 1;
            }
            None => at += 1,
        }
    }
    found
}

/// The longest virtual host that is looked for, in lines.
const LONGEST: usize = 200;

fn is_opening(dialect: &dyn Dialect, line: &[u8]) -> bool {
    let words = String::from_utf8_lossy(line).trim_start().trim_start_matches('<').to_ascii_lowercase();
    words.starts_with(&dialect.host().to_ascii_lowercase())
}

/// The name of the virtual host that lines make if they are one; empty for one without a name.
fn parsed_name(dialect: &dyn Dialect, lines: &[Option<Vec<u8>>]) -> Option<String> {
    let text: Vec<u8> = lines.iter().flatten().flat_map(|line| [&line[..], b"\n"].concat()).collect();
    let tree = dialect.parse(&text).ok()?;
    let hosts = tree.all(dialect.host());
    let [host] = &hosts[..] else { return None };
    let name = host.directives(dialect.name()).next().and_then(|own| own.values().next());
    Some(name.unwrap_or_default().to_owned())
}
