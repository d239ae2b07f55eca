//! Effect of a project's override file (`.htaccess`) on every request: the lines that
//! forbid the whole folder, and the first that answers requests by a rule.

use super::parse;
use crate::config::{Directive, Node};
use crate::servers::ProjectRules;

/// Patterns of `RewriteRule` that fit every path.
const EVERYTHING: [&str; 5] = ["^", ".*", "^.*", "^.*$", "^(.*)$"];

/// Reads a file; one that the server wouldn't take says nothing.
pub(super) fn project_rules(bytes: &[u8]) -> ProjectRules {
    let mut rules = ProjectRules::default();
    if let Ok(tree) = parse(bytes) {
        take(&mut rules, &tree.nodes);
    }
    rules
}

fn take(rules: &mut ProjectRules, nodes: &[Node]) {
    for node in nodes {
        match node {
            Node::Directive(directive) => take_directive(rules, directive),
            // Lines within other sections concern some files or some requests.
            Node::Section(section) if section.open.name.to_ascii_lowercase().starts_with("ifmodule") => {
                take(rules, &section.nodes);
            }
            Node::Section(_) => {}
        }
    }
}

fn take_directive(rules: &mut ProjectRules, own: &Directive) {
    let words: Vec<String> = own.values().map(str::to_ascii_lowercase).collect();
    let is_rewrite = own.is("RewriteRule");
    if let Some(is_denied) = denies(&own.name, own.values()) {
        // The last one counts.
        rules.denied = is_denied.then_some(own.line);
    } else if is_rewrite && is_forbidding(&words) && EVERYTHING.contains(&words[0].as_str()) {
        rules.denied = Some(own.line);
    }
    let is_rule = is_rewrite && words.get(1).is_some_and(|to| to != "-")
        || ["RedirectMatch", "Redirect", "FallbackResource"].iter().any(|name| own.is(name));
    if is_rule {
        rules.rule.get_or_insert(own.line);
    }
}

/// Whether a directive may keep people out who have no more to show than their address: `Require`, or the older
/// `Deny` and `Allow`. `None` for one that is about something else.
pub(super) fn denies<'v>(name: &str, values: impl Iterator<Item = &'v str>) -> Option<bool> {
    let words: Vec<String> = values.map(str::to_ascii_lowercase).collect();
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    match (name.to_ascii_lowercase().as_str(), &words[..]) {
        // A request for a login has another status.
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
    fn only_rules_for_every_request_count() {
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
            assert_eq!(project_rules(text.as_bytes()), ProjectRules { denied, rule }, "{text}");
        }
    }
}
