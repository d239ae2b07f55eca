//! Effect of a project's override file (`.htaccess`) on every request: the lines that
//! forbid the whole folder, and the first that answers requests by a rule.

use super::parse;
use crate::config::{Directive, Node};
use crate::servers::rule::{ASKED_PATHS, fits_asked};
use crate::servers::{ProjectRules, RuleEffect};

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
    let arguments: Vec<String> = own.values().map(str::to_owned).collect();
    if let Some(is_denied) = denies(&own.name, own.values()) {
        // The last one counts.
        rules.denied = is_denied.then_some((own.line, RuleEffect::Denies));
    } else if let Some(status) = forbidding_status(&own.name, &arguments) {
        rules.denied = Some((own.line, RuleEffect::Answers(status)));
    }
    if own.is("DirectoryIndex") {
        rules.index = Some((own.line, RuleEffect::Indexes(arguments)));
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

/// The status of an error with which a rule answers requests for a site's first page: `RewriteRule` with the flag `F`,
/// `G` or `R=404`, `Redirect gone /`, `RedirectMatch 403 .`.
pub(super) fn forbidding_status(name: &str, arguments: &[String]) -> Option<u16> {
    let argument = |at: usize| arguments.get(at).map_or("", String::as_str);
    let status = |word: &str| word.parse().ok().filter(|status| (400..600).contains(status));
    match name.to_ascii_lowercase().as_str() {
        "rewriterule" => {
            let flags = argument(2).trim_matches(['[', ']']).to_ascii_lowercase();
            let found = flags.split(',').find_map(|flag| match flag.trim() {
                "f" | "forbidden" => Some(403),
                "g" | "gone" => Some(410),
                flag => status(flag.strip_prefix("r=").or_else(|| flag.strip_prefix("redirect="))?),
            })?;
            // In a folder's section paths begin without a slash.
            let is_fitting = |path: &str| {
                regex_lite::Regex::new(argument(0)).is_ok_and(|regex| regex.is_match(path.trim_start_matches('/')))
            };
            (EVERYTHING.contains(&argument(0))
                || fits_asked(argument(0))
                || ASKED_PATHS.iter().any(|path| is_fitting(path)))
            .then_some(found)
        }
        "redirect" | "redirectmatch" => {
            let found = match argument(0).to_ascii_lowercase().as_str() {
                "gone" => 410,
                word => status(word)?,
            };
            let is_fitting = match name.to_ascii_lowercase().as_str() {
                "redirect" => ASKED_PATHS.iter().any(|path| path.starts_with(argument(1))),
                _ => fits_asked(argument(1)),
            };
            is_fitting.then_some(found)
        }
        _ => None,
    }
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
            let found = project_rules(text.as_bytes());
            assert_eq!((found.denied.map(|(line, _)| line), found.rule), (denied, rule), "{text}");
        }
    }
}
