//! Writing `sites.toml`: splices over the person's own text.
//!
//! Comments, order, spelling, line ends and blank lines of everything that is
//! not changed stay as they are, to the byte.

use std::collections::HashSet;

use camino::Utf8Path;
use toml::de::DeTable;

use super::options::{OPTIONS, SiteOption};
use super::reading::below_home;
use super::{Site, SiteList};
use crate::name::HostName;
use crate::tables;

const HEAD: &str = "# Sites that yandro keeps. Edit this file as you like.\n";

/// Whether a site list holds nothing but the comment that yandro begins one with.
pub(crate) fn is_bare(text: &[u8]) -> bool {
    text == HEAD.as_bytes()
}

/// The text of a site list with `site` in it: changed in its place, or added
/// at the end. `text` must be one that [`super::SiteList::parse`] accepts.
pub fn set_site(text: &str, site: &Site, home: Option<&Utf8Path>) -> String {
    replace_site(text, &site.name, site, home)
}

/// The text of a site list with `site` in the place of the site `name`, or at the end.
pub(crate) fn replace_site(text: &str, name: &HostName, site: &Site, home: Option<&Utf8Path>) -> String {
    let is_it = |table: &DeTable<'_>| name_of(table).is_some_and(|own| own == *name);
    let written = if text.contains("~/") { tables::texts_in(text, "site", is_it) } else { Vec::new() };
    tables::set(text, HEAD, "site", is_it, &fields(site, &written, home))
}

impl SiteList {
    /// The list as a text without comments.
    pub fn to_text(&self) -> String {
        let tables = self.sites.iter().map(|site| tables::rendered("site", &fields(site, &[], None)));
        tables.collect::<Vec<_>>().join("\n")
    }
}

/// The text of a site list without the sites of these names. A comment right above
/// a site goes with it; one that a blank line sets apart stays, and so does
/// the head of the file.
pub(crate) fn remove_sites(text: &str, names: &[&HostName]) -> String {
    let names: HashSet<&HostName> = names.iter().copied().collect();
    tables::remove(text, "site", |table| name_of(table).is_some_and(|own| names.contains(&own)))
}

fn name_of(table: &DeTable<'_>) -> Option<HostName> {
    HostName::parse(tables::text_of(table, "name")?).ok()
}

/// Every key that yandro knows, with its value for this site. A path that is written with `~/` stays so.
fn fields(site: &Site, written: &[(String, String)], home: Option<&Utf8Path>) -> Vec<tables::Field> {
    let value = |option: &SiteOption| {
        let value = option.value(site);
        let written = written.iter().find(|(key, text)| key == option.key && text.starts_with("~/"));
        let is_same = |text: &str| value == Some(tables::Value::Text(below_home(text, home).into_owned()));
        let tilde = written.filter(|(_, text)| is_same(text));
        tilde.map(|(_, text)| tables::Value::Text(text.clone())).or(value)
    };
    OPTIONS.iter().map(|option| (option.key, value(option))).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::site::Content;

    fn site(name: &str, folder: &str) -> Site {
        Site::new(HostName::parse(name).unwrap(), Content::folder(folder))
    }

    const BY_HAND: &str = "# Ferries, all of them\r\n\r\n# timetable\r\n[[site]]\r\nname = 'Saltmarsh.test'   # the line\r\nfolder = \"/srv/saltmarsh\"\r\n\r\n\r\n# kept: see the wiki\r\n\r\n# the handbook\r\n[[site]]\r\nfolder = \"/srv/depot\"\r\nname = \"depot.saltmarsh.test\"";

    #[test]
    fn a_change_touches_its_own_value_only() {
        let mut changed = site("saltmarsh.test", "/srv/tides \"new\"\\");
        changed.aliases.push(HostName::parse("www.saltmarsh.test").unwrap());
        let text = set_site(BY_HAND, &changed, None);
        let expected = BY_HAND.replace("'Saltmarsh.test'", "\"saltmarsh.test\"").replace(
            "\"/srv/saltmarsh\"\r\n",
            "\"/srv/tides \\\"new\\\"\\\\\"\r\naliases = [\"www.saltmarsh.test\"]\r\n",
        );
        assert_eq!(text, expected);
        assert_eq!(SiteList::parse(&text, None).unwrap().sites[0], changed);
        assert_eq!(set_site(&text, &changed, None), text);
    }

    #[test]
    fn a_site_goes_with_its_own_comment_and_no_other() {
        let rest = remove_sites(BY_HAND, &[&HostName::parse("depot.saltmarsh.test").unwrap()]);
        assert!(rest.ends_with("# kept: see the wiki\r\n"), "{rest:?}");
        let rest = remove_sites(BY_HAND, &[&HostName::parse("saltmarsh.test").unwrap()]);
        assert!(rest.starts_with("# Ferries, all of them\r\n\r\n\r\n# kept"), "{rest:?}");
    }

    #[test]
    fn added_and_removed_again_leaves_the_bytes() {
        for text in ["# mine\n", "[[site]]\nname = \"a.test\"\nfolder = \"/a\"\n", "# mine\r\n\r\n"] {
            let new = site("fähre.test", "/srv/fähre");
            let longer = set_site(text, &new, None);
            assert_eq!(SiteList::parse(&longer, None).unwrap().site(&new.name), Some(&new));
            assert_eq!(remove_sites(&longer, &[&new.name]), text);
        }
    }

    #[test]
    fn parse_errors_show_the_line() {
        let text = "[[site]]\nname = \"saltmarsh.test\"\nfolder = \"/srv/a\"\n\n[[site]]\nname = \"b.test\"\naliases = [\"SALTMARSH.test\"]\nfolder = \"/srv/b\"\n";
        insta::assert_snapshot!(SiteList::parse(text, None).unwrap_err(), @r#"
        `saltmarsh.test` already belongs to the site `saltmarsh.test`
          7 | aliases = ["SALTMARSH.test"]
            |            ^^^^^^^^^^^^^^^^
        "#);
        insta::assert_snapshot!(SiteList::parse("[[site]]\nname = \"a.test\"\nfoldr = \"/x\"", None).unwrap_err(), @r#"
        unknown field `foldr`: did you mean `folder`?
          3 | foldr = "/x"
            | ^^^^^
        "#);
        insta::assert_snapshot!(SiteList::parse("[[site]]\nname = \"a.test\"\nfolder = x", None).unwrap_err(), @r#"
        string values must be quoted, expected literal string
          3 | folder = x
            |          ^
        "#);
    }
}
