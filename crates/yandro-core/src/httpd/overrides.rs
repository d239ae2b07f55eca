//! What a project's override file (`.htaccess`) does to every request: of all that may stand in one, the lines that
//! forbid the whole folder, and the first that answers requests by a rule.

use super::parse;
use crate::config::{Directive, Node};

/// The lines that count, by their numbers from 1.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Overrides {
    /// The line that forbids the folder to everybody.
    pub denied: Option<usize>,
    /// The first rule that may answer a request by itself.
    pub rule: Option<usize>,
}

/// Patterns of `RewriteRule` that fit every path.
const EVERYTHING: [&str; 5] = ["^", ".*", "^.*", "^.*$", "^(.*)$"];

impl Overrides {
    /// Reads a file; one that the server wouldn't take says nothing.
    pub fn read(bytes: &[u8]) -> Self {
        let mut own = Self::default();
        if let Ok(tree) = parse(bytes) {
            own.take(&tree.nodes);
        }
        own
    }

    fn take(&mut self, nodes: &[Node]) {
        for node in nodes {
            match node {
                Node::Directive(directive) => self.directive(directive),
                // What stands within other sections is about some files or some requests.
                Node::Section(section) if section.open.name.to_ascii_lowercase().starts_with("ifmodule") => {
                    self.take(&section.nodes);
                }
                Node::Section(_) => {}
            }
        }
    }

    fn directive(&mut self, own: &Directive) {
        let words: Vec<String> = own.values().map(str::to_ascii_lowercase).collect();
        let is_rewrite = own.is("RewriteRule");
        if let Some(is_denied) = denies(&own.name, own.values()) {
            // The last one counts.
            self.denied = is_denied.then_some(own.line);
        } else if is_rewrite && is_forbidding(&words) && EVERYTHING.contains(&words[0].as_str()) {
            self.denied = Some(own.line);
        }
        let is_rule = is_rewrite && words.get(1).is_some_and(|to| to != "-")
            || ["RedirectMatch", "Redirect", "FallbackResource"].iter().any(|name| own.is(name));
        if is_rule {
            self.rule.get_or_insert(own.line);
        }
    }
}

/// Whether a directive may keep people out who have no more to show than their address: `Require`, or the older
/// `Deny` and `Allow`. `None` for one that is about something else.
pub fn denies<'v>(name: &str, values: impl Iterator<Item = &'v str>) -> Option<bool> {
    let words: Vec<String> = values.map(str::to_ascii_lowercase).collect();
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    match (name.to_ascii_lowercase().as_str(), &words[..]) {
        // Who logs in is asked to, with another status.
        ("require", ["all", "granted"] | ["local" | "valid-user" | "user" | "group", ..]) | ("allow", _) => Some(false),
        ("require", _) | ("deny", ["from", "all"]) => Some(true),
        _ => None,
    }
}

/// Whether a rewriting rule answers 403 (its flags have `F`).
fn is_forbidding(words: &[String]) -> bool {
    let flags = words.get(2).map(|flags| flags.trim_matches(['[', ']'])).unwrap_or_default();
    flags.split(',').any(|flag| matches!(flag.trim(), "f" | "forbidden"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_about_every_request_counts_and_nothing_else() {
        for (text, denied, rule) in [
            ("Options -Indexes\nRequire all denied\n", Some(2), None),
            ("Require ip 10.0.0.0/8\n", Some(1), None),
            ("Require valid-user\n", None, None),
            ("# note\nDeny from all\n", Some(2), None),
            ("Deny from all\nAllow from all\n", None, None),
            ("<Files .env>\nRequire all denied\n</Files>\nRequire all granted\n", None, None),
            ("<IfModule mod_authz_core.c>\nRequire all denied\n</IfModule>\n", Some(2), None),
            ("RewriteEngine on\nRewriteRule \"(^|/)\\.\" - [F]\n", None, None),
            ("RewriteEngine on\nRewriteRule ^ - [NC,F]\n", Some(2), None),
            ("RewriteRule ^old - [G]\n\nRewriteRule ^ index.php [L]\nRedirect /a /b\n", None, Some(3)),
            ("<IfModule mod_alias.c>\nRedirectMatch 302 ^/$ /tides\n</IfModule>\n", None, Some(2)),
            ("<Files x>\nFallbackResource /index.php\n", None, None),
        ] {
            assert_eq!(Overrides::read(text.as_bytes()), Overrides { denied, rule }, "{text}");
        }
    }
}
