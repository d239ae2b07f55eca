//! Checks a change of a shared file by the change only: for those who apply a plan that somebody
//! else planned.

use crate::server_path::ServerPath;
use similar::{ChangeTag, TextDiff};

use super::parse::parse;
use crate::config::Node;

/// Whether a file changes by nothing but lines that yandro switches on and off, adds and takes
/// back: `LoadModule` of a module that `is_module` knows by its file, `Listen`, the `Include` of
/// its own files or of a file of virtual hosts, and the comment sign before an example.
pub(super) fn is_switching(before: &[u8], after: &[u8], is_module: impl Fn(&str) -> bool) -> bool {
    let (Ok(before), Ok(after)) = (std::str::from_utf8(before), std::str::from_utf8(after)) else { return false };
    let diff = TextDiff::from_lines(before, after);
    let lines = |tag: ChangeTag| -> Vec<&str> {
        diff.iter_all_changes().filter(|change| change.tag() == tag).map(|change| change.value().trim_end()).collect()
    };
    let (gone, come) = (lines(ChangeTag::Delete), lines(ChangeTag::Insert));
    let is_comment = |line: &str| line.is_empty() || line.trim_start().starts_with('#');
    // Only yandro's own lines may be commented out or removed. Anything else would harm the user.
    let is_own_off =
        |line: &str| is_comment(line) || is_switch(line, &|_| true) || come.contains(&&*format!("#{line}"));
    // An example that comes back was there before.
    let is_own_on = |line: &str| {
        is_comment(line) || is_switch(line, &is_module) || is_examples(&gone) && gone.contains(&&*format!("#{line}"))
    };
    gone.iter().all(|line| is_own_off(line)) && come.iter().all(|line| is_own_on(line))
}

/// Whether these commented-out lines are nothing but examples.
fn is_examples(lines: &[&str]) -> bool {
    let bare: Vec<String> = lines.iter().filter_map(|line| Some(line.strip_prefix('#')?.to_owned() + "\n")).collect();
    let tree = parse(bare.concat().as_bytes()).unwrap_or_default();
    let hosts = tree.all("VirtualHost");
    let names = |name: &str| name.starts_with("dummy-host") && name.ends_with(".example.com");
    !hosts.is_empty()
        && hosts.iter().all(|host| {
            host.directives("ServerName").any(|own| own.values().any(names))
                && host
                    .nodes
                    .iter()
                    .all(|node| matches!(node, Node::Directive(own) if EXAMPLES.iter().any(|name| own.is(name))))
        })
}

/// The directives of the examples that come with the server.
const EXAMPLES: [&str; 6] = ["ServerAdmin", "DocumentRoot", "ServerName", "ServerAlias", "ErrorLog", "CustomLog"];

fn is_switch(line: &str, is_module: &dyn Fn(&str) -> bool) -> bool {
    let Ok(tree) = parse(line.as_bytes()) else { return false };
    let [Node::Directive(own)] = &tree.nodes[..] else { return false };
    let values: Vec<&str> = own.values().collect();
    let is_address =
        |text: &str| !text.is_empty() && text.bytes().all(|b| b.is_ascii_hexdigit() || b":.[]".contains(&b));
    match &values[..] {
        [module, file] if own.is("LoadModule") => {
            let name = module.strip_suffix("_module").unwrap_or_default();
            file.ends_with(&format!("mod_{name}.so")) && !name.is_empty() && is_module(file)
        }
        [address] | [address, "https"] if own.is("Listen") => is_address(address),
        [path] if own.is("Include") || own.is("IncludeOptional") => {
            let name = path.rsplit('/').next().unwrap_or(path);
            let is_plain = !path.contains("..") && !name.starts_with('.');
            is_plain
                && (name == "yandro-*.conf"
                    || name == "*.conf"
                    || name.contains("vhost") && ServerPath::new(name).extension() == Some("conf"))
        }
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_switches_pass() {
        let before = "ServerRoot /srv\n#LoadModule ssl_module modules/mod_ssl.so\n#Include conf/extra/httpd-vhosts.conf\nListen 80\n<VirtualHost *:80>\n ServerName dummy-host.example.com\n ErrorLog \"logs/d\"\n</VirtualHost>\n";
        let is_module = |file: &str| file == "modules/mod_ssl.so";
        let judged = |from: &str, to: &str| {
            let after = before.replace(from, to);
            assert_ne!(after, before);
            (
                is_switching(before.as_bytes(), after.as_bytes(), is_module),
                is_switching(after.as_bytes(), before.as_bytes(), is_module),
            )
        };
        for (from, to) in [
            ("#LoadModule ssl", "LoadModule ssl"),
            ("#Include", "Include"),
            ("Listen 80\n", "Listen 80\nListen 127.0.0.1:8443 https\nIncludeOptional conf/extra/yandro-*.conf\n"),
            (
                "<VirtualHost *:80>\n ServerName dummy-host.example.com\n ErrorLog \"logs/d\"\n</VirtualHost>",
                "#<VirtualHost *:80>\n# ServerName dummy-host.example.com\n# ErrorLog \"logs/d\"\n#</VirtualHost>",
            ),
        ] {
            assert_eq!(judged(from, to), (true, true), "{to}");
        }
        for (from, to) in [
            ("Listen 80\n", "Listen 80\nCustomLog \"|/bin/sh\" x\n"),
            ("Listen 80\n", "Listen 80\nLoadModule ssl_module /tmp/mod_ssl.so\n"),
            ("Listen 80\n", "Listen 80\nInclude /tmp/x.conf\n"),
            ("Listen 80\n", "Listen 80\nInclude ../yandro-*.conf\n"),
            ("Listen 80\n", "Listen 80\\\nUser root\n"),
            ("ServerRoot /srv", "ServerRoot /tmp"),
            ("ErrorLog \"logs/d\"", "ErrorLog \"|/bin/sh\""),
        ] {
            assert!(!judged(from, to).0, "{to}");
        }
        // A commented-out line that is not an example stays so.
        let hidden = "#<VirtualHost *:80>\n# ServerName dummy-host.example.com\n# Include /tmp/x\n#</VirtualHost>\n";
        assert!(!is_switching(hidden.as_bytes(), hidden.replace('#', "").as_bytes(), is_module));
    }
}
