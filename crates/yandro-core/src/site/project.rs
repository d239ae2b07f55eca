//! Reading `yandro.toml`: what the sites of a project need, relative to the project itself.
//!
//! The file comes with a repository, from whoever wrote that: it can name no path outside of the project and no server
//! but one of this computer's own, and has no word on the machine.

use camino::Utf8Path;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::list::{ListError, read_option, read_tables, unknown};
use super::options::{Draft, OPTIONS, SiteOption, option};
use super::reading::relative;
use super::step::{STEP, read_steps};
use super::{Content, Site, Symlinks};
use crate::tables::Value;

/// The name of a project file.
pub const PROJECT_FILE: &str = "yandro.toml";

/// The keys that a project file may have, beyond `folder`, `extra` and `php`.
const KEYS: [&str; 16] = [
    "name",
    "aliases",
    "document-root",
    "upstream",
    "https",
    "certificate-wildcard",
    "tenants",
    "redirect-aliases",
    "listing",
    "overrides",
    "symlinks",
    "http2",
    "env",
    "upstream-host",
    "index",
    "fallback",
];

/// A site that a project file asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ProjectSite {
    /// The site, without a server and on the default address.
    pub site: Site,
    /// Whether PHP is to be found on this machine.
    pub has_php: bool,
}

/// Reads the text of a project file in `folder`, an absolute path.
///
/// # Errors
/// A [`ListError`] with the line at fault: for what a site list refuses, too, and for everything that leads out of the
/// project.
pub fn project_sites(text: &str, folder: &Utf8Path) -> Result<Vec<ProjectSite>, ListError> {
    let mut sites = Vec::new();
    for table in read_tables(text, &["site", STEP])? {
        sites.push(read_site(text, folder, &table)?);
    }
    let spanned = |site: &ProjectSite| site.site.names().cloned().collect::<Vec<_>>();
    let mut names = Vec::new();
    for name in sites.iter().flat_map(spanned) {
        if names.contains(&name) {
            return Err(ListError::new(text, &(0..0), format!("`{name}` is there twice")));
        }
        names.push(name);
    }
    Ok(sites)
}

fn read_site(text: &str, folder: &Utf8Path, value: &Spanned<DeValue<'_>>) -> Result<ProjectSite, ListError> {
    let DeValue::Table(table) = value.get_ref() else {
        return Err(ListError::new(text, &value.span(), "a site needs `[[site]]` above it"));
    };
    let mut draft = Draft { folder: Some(folder.to_owned()), ..Draft::default() };
    let mut has_php = false;
    for (key, value) in table {
        let known = KEYS.contains(&key.get_ref().as_ref()).then(|| option(key.get_ref())).flatten();
        match (key.get_ref().as_ref(), known) {
            (_, Some(option)) => read_option(text, option, value, &mut draft)?,
            ("folder", _) => draft.folder = Some(folder.join(below(text, "folder", value)?)),
            ("extra", _) => draft.rest.serving.extra = Some(folder.join(below(text, "extra", value)?)),
            (STEP, _) => _ = read_steps(text, value)?,
            ("php", _) => has_php = flag(text, value)?,
            (name, _) => {
                let known: Vec<&str> = ["folder", "php", "extra", STEP].into_iter().chain(KEYS).collect();
                let message = match option(name) {
                    Some(_) => format!("`{name}` can't be in a project file; it can have `{}`", known.join("`, `")),
                    None => unknown(name, &known),
                };
                return Err(ListError::new(text, &key.span(), message));
            }
        }
    }
    finished(text, table, value, draft).map(|site| ProjectSite { site, has_php })
}

/// A path below the project.
fn below(text: &str, key: &str, value: &Spanned<DeValue<'_>>) -> Result<camino::Utf8PathBuf, ListError> {
    let path = value.get_ref().as_str().unwrap_or_default();
    match path {
        path if path.starts_with('~') => {
            Err(ListError::new(text, &value.span(), format!("`{key}` is a path below the project, not below a home")))
        }
        "." => Ok(camino::Utf8PathBuf::new()),
        path => relative(path).map_err(|_| {
            ListError::new(text, &value.span(), format!("`{key}` is a path below the project, such as \"public\""))
        }),
    }
}

fn flag(text: &str, value: &Spanned<DeValue<'_>>) -> Result<bool, ListError> {
    value.get_ref().as_bool().ok_or_else(|| {
        let message = "`php` is `true` or `false`: where php-fpm is, is each machine's own matter";
        ListError::new(text, &value.span(), message)
    })
}

fn finished(
    text: &str,
    table: &DeTable<'_>,
    value: &Spanned<DeValue<'_>>,
    mut draft: Draft,
) -> Result<Site, ListError> {
    let at = |key: &str| {
        let own = table.iter().find(|(own, _)| own.get_ref() == key).map(|(_, value)| value.span());
        own.unwrap_or_else(|| value.span())
    };
    if let Some(upstream) = &draft.upstream {
        if table.iter().any(|(key, _)| key.get_ref() == "folder") {
            return Err(ListError::new(text, &at("upstream"), "a site has a `folder` or an `upstream`, not both"));
        }
        if !upstream.host_port().is_loopback() || upstream.is_secure() {
            let message = "an upstream in a project file is a server of this computer: `http://127.0.0.1:PORT`";
            return Err(ListError::new(text, &at("upstream"), message));
        }
        draft.folder = None;
    }
    if draft.rest.serving.symlinks == Symlinks::Anywhere {
        let message =
            "links that lead out of the project are for its user to allow: yandro map NAME --symlinks anywhere";
        return Err(ListError::new(text, &at("symlinks"), message));
    }
    draft.finish().map_err(|misfit| ListError::new(text, &at(misfit.key), misfit.message))
}

/// The site that a project file asks for, with what its user has chosen otherwise in their own list: `own` is their
/// site, `former` what the project file asked for when it was mapped last.
pub fn with_own_choices(wanted: &Site, former: Option<&Site>, own: Option<&Site>) -> Site {
    let Some(own) = own else { return wanted.clone() };
    let mut draft = Draft::of(own);
    let is_asked = |option: &SiteOption| KEYS.contains(&option.key) || ["folder", "extra"].contains(&option.key);
    for option in OPTIONS.iter().filter(|option| is_asked(option)) {
        let (now, own) = (option.value(wanted), option.value(own));
        let was = former.map(|former| option.value(former));
        // Options that the user has not changed follow the project file.
        let follows = was.as_ref().map_or(own.is_none(), |was| *was == own);
        if follows {
            let words = now.as_ref().map(words).unwrap_or_default();
            let words: Vec<&str> = words.iter().map(String::as_str).collect();
            // A value that was read before is read again.
            _ = (option.read)(&mut draft, &words);
        }
    }
    if draft.upstream.is_some() && matches!(wanted.content, Content::Upstream(_)) {
        draft.folder = None;
        draft.document_root = None;
    }
    draft.finish().unwrap_or_else(|_| wanted.clone())
}

fn words(value: &Value) -> Vec<String> {
    match value {
        Value::Text(text) => vec![text.clone()],
        Value::Texts(texts) => texts.clone(),
        Value::Number(number) => vec![number.to_string()],
        Value::Numbers(numbers) => numbers.iter().map(ToString::to_string).collect(),
        Value::Flag(flag) => vec![flag.to_string()],
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const FOLDER: &str = "/home/ada/ferries";

    fn read(text: &str) -> Result<Vec<ProjectSite>, ListError> {
        project_sites(text, FOLDER.into())
    }

    #[test]
    fn a_project_says_what_its_sites_need() {
        let text = "[[site]]\nname = \"saltmarsh.test\"\naliases = [\"www.saltmarsh.test\"]\ndocument-root = \"public\"\nphp = true\nfallback = \"/index.php\"\n\n[[site]]\nname = \"booking.saltmarsh.test\"\nupstream = \"http://127.0.0.1:3000\"\n\n[[site]]\nname = \"docs.saltmarsh.test\"\nfolder = \"docs\"\n";
        let sites = read(text).unwrap();
        assert_eq!(sites[0].site.document_root().unwrap(), "/home/ada/ferries/public");
        assert!(sites[0].has_php && sites[0].site.server.is_none());
        assert!(matches!(sites[1].site.content, Content::Upstream(_)));
        assert_eq!(sites[2].site.document_root().unwrap(), "/home/ada/ferries/docs");
        assert_eq!(read("").unwrap(), []);
    }

    #[test]
    fn a_hostile_project_gets_nowhere() {
        for line in [
            "folder = \"../other\"",
            "folder = \"/etc\"",
            "folder = \"~/.ssh\"",
            "document-root = \"../..\"",
            "extra = \"/etc/evil.conf\"",
            "extra = \"../evil.conf\"",
            "upstream = \"http://10.0.0.1:80\"",
            "upstream = \"http://intranet.example.com\"",
            "upstream = \"https://127.0.0.1:8443\"",
            "symlinks = \"anywhere\"",
            "logs = \"/var/log\"",
            "server = \"apache\"",
            "address = \"10.0.0.1\"",
            "only-here = false",
            "by-address = true",
            "php = \"/run/php.sock\"",
            "disabled = true",
            "http-ports = [8080]",
        ] {
            assert!(read(&format!("[[site]]\nname = \"a.test\"\n{line}\n")).is_err(), "{line}");
        }
        assert!(read("[[site]]\nname = \"a.test\"\n[[site]]\nname = \"b.test\"\naliases = [\"a.test\"]\n").is_err());
    }

    #[test]
    fn the_persons_own_choice_wins_over_the_project() {
        let of = |line: &str| read(&format!("[[site]]\nname = \"a.test\"\n{line}\n")).unwrap().remove(0).site;
        let (first, second) =
            (of("document-root = \"public\"\nlisting = \"off\""), of("document-root = \"web\"\nlisting = \"on\""));
        let mapped = with_own_choices(&first, None, None);
        assert_eq!(mapped, first);
        assert_eq!(with_own_choices(&second, Some(&first), Some(&mapped)), second);
        // Changed by the person since.
        let mut own = mapped;
        own.aliases.push(crate::name::HostName::parse("www.a.test").unwrap());
        own.content = Content::Folder { folder: FOLDER.into(), document_root: Some("mine".into()) };
        let merged = with_own_choices(&second, Some(&first), Some(&own));
        assert_eq!(merged.document_root().unwrap(), "/home/ada/ferries/mine");
        assert_eq!((merged.aliases.len(), merged.serving.listing), (1, second.serving.listing));
    }
}
