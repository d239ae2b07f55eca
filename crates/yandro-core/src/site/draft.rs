//! A site from its options.

use super::options::Draft;
use super::reading::{below_home, last};
use super::{Content, FastCgi, Https, ServerId, Site};
use crate::name::HostName;

/// A conflict between options of a site, and the key at fault.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Misfit {
    pub(super) key: &'static str,
    pub(super) message: &'static str,
}

impl Default for Draft {
    fn default() -> Self {
        let name = HostName::parse("unnamed.invalid").expect("it is a name");
        let rest = Site::new(name, Content::folder(""));
        Self { home: None, site: None, rest, folder: None, document_root: None, upstream: None }
    }
}

impl Draft {
    /// The last of the values, a path that may begin with `~/`.
    pub(super) fn path<T, E>(&self, values: &[&str], read: impl Fn(&str) -> Result<T, E>) -> Result<Option<T>, E> {
        last(values, |text| read(&below_home(text, self.home.as_deref())))
    }

    /// The options of a site.
    pub(super) fn of(site: &Site) -> Self {
        let mut draft = Self { site: Some(site.name.clone()), rest: site.clone(), ..Self::default() };
        match &site.content {
            Content::Folder { folder, document_root } => {
                draft.folder = Some(folder.clone());
                draft.document_root.clone_from(document_root);
            }
            Content::Upstream(upstream) => draft.upstream = Some(upstream.clone()),
        }
        draft
    }

    /// The site that they make.
    pub(super) fn finish(self) -> Result<Site, Misfit> {
        let misfit = |key, message| Err(Misfit { key, message });
        let Some(name) = self.site else { return misfit("name", "a site needs a `name`") };
        let content = match (self.folder, self.upstream, self.document_root) {
            (Some(folder), None, document_root) => Content::Folder { folder, document_root },
            (None, Some(_), Some(_)) => return misfit("document-root", "an upstream has no document root"),
            (None, Some(upstream), None) => Content::Upstream(upstream),
            (Some(_), Some(_), _) => return misfit("upstream", "a site has a `folder` or an `upstream`, not both"),
            (None, None, _) => return misfit("name", "a site needs a `folder` or an `upstream`"),
        };
        let mut site = Site { name, content, ..self.rest };
        let (serving, is_folder) = (&mut site.serving, matches!(site.content, Content::Folder { .. }));
        let runs_php_itself = site.server == Some(ServerId::BuiltIn);
        if let Some(version) = &serving.php_as_owner {
            if runs_php_itself {
                return misfit("php-as-owner", "the built-in server runs PHP with your rights already: use `php`");
            }
            if !is_folder {
                return misfit("php-as-owner", "an upstream has no PHP files");
            }
            serving.php = Some(FastCgi::of_pool(version, &site.name));
        } else if !runs_php_itself
            && serving.php.is_some()
            && serving.variables.iter().any(|own| own.secret().is_some())
        {
            let message = "only the owner of a secret (`NAME@FILE`) can read it: PHP gets it where it runs as the project's owner, by `--php-as-owner` (`php-as-owner` in the list)";
            return misfit("env", message);
        }
        if site.serving.redirect_aliases.iter().any(|alias| !site.aliases.contains(alias)) {
            return misfit("redirect-aliases", "a name that redirects has to be one of the site's `aliases`, too");
        }
        if site.own_tls().is_some() && (site.server != Some(ServerId::Elsewhere) || site.https != Https::Only) {
            let message = "an upstream that speaks TLS itself needs `server = \"elsewhere\"` and no `https`";
            return misfit("upstream", message);
        }
        Ok(site)
    }
}
