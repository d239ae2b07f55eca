//! Changes that an ordinary user asks root for, and root's own plan for them.
//!
//! The user's side sends a [`Wish`]: the site list as it is and as it is to be, the lines of the user's own block in
//! the hosts file, a root certificate. It never holds the content of a file. Root reads its own files, makes its own
//! plan with the code of this crate, and writes only what that plan says.

use camino::Utf8PathBuf;
use serde::{Deserialize, Serialize};

use super::applied::Applied;
use super::change::{Change, ChangeSet, Step};
use super::error::PlanFailure;
use super::fresh::Fresh;
use super::observed::Observed;
use super::rename::rename_site;
use super::role::Role;
use super::settle::{Orphans, settle};
use super::site::{map_sites, unmap_sites};
use crate::hosts::OwnLine;
use crate::site::{ListError, ServerId, Site, SiteList};

/// A typed request for changes to files that only root may write.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Wish {
    /// The folder of the user's site list.
    pub config: Utf8PathBuf,
    /// The folder of the user's certificates.
    pub data: Utf8PathBuf,
    /// The site list as it is, in its own format.
    pub before: String,
    /// The site list as it is to be.
    pub after: String,
    /// The sites as they were last applied, in the same format.
    pub applied: String,
    /// The sites that are to be applied.
    pub wanted: String,
    /// The server of sites that name none.
    pub server: ServerId,
    /// The lines of the user's own block in the hosts file.
    pub hosts: Vec<OwnLine>,
    /// The root certificate that is to be trusted or no longer trusted, in PEM.
    pub root: Option<String>,
}

/// The lists of a wish.
#[derive(Clone, Debug, Default)]
pub struct WishLists {
    /// The site list as it is.
    pub before: SiteList,
    /// The site list as it is to be.
    pub after: SiteList,
    /// The sites as they were last applied.
    pub applied: SiteList,
    /// The sites that are to be applied.
    pub wanted: SiteList,
}

impl WishLists {
    /// Reads them.
    ///
    /// # Errors
    /// For a list that is none.
    pub fn read(wish: &Wish) -> Result<Self, ListError> {
        let read = |text: &str| SiteList::parse(text, None);
        Ok(Self {
            before: read(&wish.before)?,
            after: read(&wish.after)?,
            applied: read(&wish.applied)?,
            wanted: read(&wish.wanted)?,
        })
    }

    /// The sites of each list.
    pub fn all(&self) -> impl Iterator<Item = &Site> {
        [&self.before, &self.after, &self.applied, &self.wanted].into_iter().flat_map(|list| &list.sites)
    }

    /// The sites that are wanted, or in the list that is wanted.
    pub fn known(&self) -> SiteList {
        let unwanted = self.after.sites.iter().filter(|site| self.wanted.site(&site.name).is_none());
        SiteList { sites: self.wanted.sites.iter().chain(unwanted).cloned().collect() }
    }

    fn changed(&self) -> impl Iterator<Item = &Site> {
        self.wanted.sites.iter().filter(|site| self.applied.site(&site.name) != Some(site))
    }
}

/// A way to read a wish: which command it may come from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reading {
    /// Sites come, change and go: `map`, `unmap`, `undo`.
    Changes,
    /// Everything is brought in line with the list: `settle`.
    Settled {
        /// Whether lines that were edited by hand are restored.
        puts_back: bool,
        /// Whether sites that are not in the list are removed.
        orphans: Orphans,
    },
}

impl Reading {
    /// Every way, the most frequent first.
    pub const ALL: [Self; 5] = [
        Self::Changes,
        Self::Settled { puts_back: false, orphans: Orphans::Removed },
        Self::Settled { puts_back: true, orphans: Orphans::Removed },
        Self::Settled { puts_back: false, orphans: Orphans::Kept },
        Self::Settled { puts_back: true, orphans: Orphans::Kept },
    ];

    /// The sites that the plan is about.
    pub fn sites(self, lists: &WishLists) -> Vec<&Site> {
        match self {
            Self::Changes => lists.changed().collect(),
            Self::Settled { .. } => lists.after.sites.iter().collect(),
        }
    }

    /// Plans what the lists say on a machine as it was observed. Steps that are not root's are in the plan,
    /// too: they are for the caller to leave out.
    ///
    /// # Errors
    /// As [`map_sites`] and [`settle`].
    pub fn plan(
        self,
        observed: &mut Observed,
        lists: &WishLists,
        server: ServerId,
        fresh: &mut dyn Fresh,
    ) -> Result<ChangeSet, PlanFailure> {
        observed.applied = Applied::of(lists.applied.clone());
        let after = &lists.after;
        match self {
            Self::Changes => changes(observed, lists, fresh),
            Self::Settled { puts_back, orphans } => {
                if puts_back {
                    observed.wishes.put_back = after.sites.iter().map(|site| site.name.clone()).collect();
                }
                settle(observed, after, server, orphans, fresh).map(|settlement| settlement.set)
            }
        }
    }
}

fn changes(observed: &mut Observed, lists: &WishLists, fresh: &mut dyn Fresh) -> Result<ChangeSet, PlanFailure> {
    let mut all = ChangeSet::default();
    let applied = observed.applied.clone();
    let renamed = applied.renamed(&lists.wanted);
    let is_kept =
        |site: &Site| lists.wanted.site(&site.name).is_some() || renamed.iter().any(|(old, _)| old.name == site.name);
    let gone: Vec<&Site> = lists.applied.sites.iter().filter(|site| !is_kept(site)).collect();
    let mut list = lists.before.clone();
    if !gone.is_empty() {
        let set = unmap_sites(observed, &gone).map_err(|error| PlanFailure::of(None, error))?;
        observed.advance(&set);
        all.merge(set);
        list.sites.retain(|site| gone.iter().all(|gone| gone.name != site.name));
    }
    for (old, new) in &renamed {
        let set = rename_site(observed, &list, &old.name, new, fresh)
            .map_err(|error| PlanFailure::of(Some(&new.name), error))?;
        observed.advance(&set);
        all.merge(set);
        list = list.replaced(&old.name, new);
    }
    let changed = lists.changed().filter(|site| renamed.iter().all(|(_, new)| new.name != site.name));
    all.merge(map_sites(observed, &list, changed, fresh)?);
    Ok(all)
}

impl Observed {
    /// Whether a server that yandro writes configuration for was found.
    pub fn has_server(&self, id: ServerId) -> bool {
        self.configured_as(Some(id)).is_some()
    }

    /// Whether a step changes the hosts file, or a file or link of a server that was observed.
    pub fn is_systems(&self, step: &Step) -> bool {
        let path = step.path();
        matches!(step.change, Change::File(_) | Change::Link(_))
            && (*path == self.places.hosts
                || matches!(step.role, Role::Resolver(_))
                || self.is_pool(path)
                || self.server_of(path).is_some())
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use crate::config::{ServerTraits, SiteFiles, Variable, site_file};
    use crate::server_path::ServerPath;
    use crate::site::{ServerKind, Site, SiteList};
    use crate::tables::quoted;

    /// Text that could end an argument, a line or a section.
    const SNIPPETS: &[&str] = &[
        "/srv/a",
        "a.test",
        " ",
        "\"",
        "'",
        "\\",
        "\n",
        "\r",
        "\t",
        "\0",
        ";",
        "{",
        "}",
        "#",
        "|",
        "%",
        "$",
        "${HOME}",
        "<",
        ">",
        "/",
        "..",
        "*",
        "?",
        "[",
        "http://127.0.0.1:1",
        "http://a.test",
        ":",
        "@",
        "[::1]",
        "unix:",
        "/run/x.sock",
        "|/bin/sh",
        "\nInclude /tmp/evil.conf\n",
        "</VirtualHost>\nLoadModule e /tmp/e.so\n",
        "} include /etc/shadow; {",
        "\" \"|touch /tmp/x\" \"",
        "é",
        "\u{85}",
        "\u{2028}",
        "prg:/bin/sh",
        "%{ENV:X}",
        "index.php",
    ];

    fn hostile() -> impl Strategy<Value = String> {
        prop::collection::vec(prop::sample::select(SNIPPETS), 0..5).prop_map(|parts| parts.concat())
    }

    /// A path, a URL or a name, with something hostile in it or not.
    fn value(usual: &'static str) -> impl Strategy<Value = String> {
        (hostile(), 0..3_u8).prop_map(move |(hostile, how)| match how {
            0 => hostile,
            1 => format!("{usual}{hostile}"),
            _ => usual.to_owned(),
        })
    }

    fn files(site: &Site, kind: ServerKind) -> SiteFiles {
        let variable = if kind == ServerKind::Apache { Variable::Braced } else { Variable::Plain };
        SiteFiles {
            list: None,
            document_root: site.document_root().map(Into::into),
            certificate: "/home/ada/c/fullchain.pem".into(),
            key: "/home/ada/c/key.pem".into(),
            extra: None,
            logs: site.serving.logs.folder().map(Into::into),
            server: ServerTraits {
                log_folder: "/var/log/server".into(),
                log_format: "combined".into(),
                variable,
                ..ServerTraits::default()
            },
        }
    }

    proptest! {
        #![proptest_config(crate::tests::cases(4000))]

        /// Whatever a site list says: what comes of it for a server are yandro's own directives, its logs are where
        /// they are to be, and it names no file but those of the site.
        #[test]
        fn no_site_hands_over_control(
            (folder, below, upstream, is_upstream) in (value("/srv/a"), value("public"), value("http://127.0.0.1:3000"), any::<bool>()),
            (alias, index, fallback, php) in (value("b.test"), value("index.html"), value("/index.php"), value("/run/php.sock")),
            logs in value("/var/log/server/mine"),
        ) {
            let content = if is_upstream {
                format!("upstream = {}", quoted(&upstream))
            } else {
                format!("folder = {}\ndocument-root = {}\nphp = {}", quoted(&folder), quoted(&below), quoted(&php))
            };
            let text = format!(
                "[[site]]\nname = \"a.test\"\naliases = [{}]\nindex = [{}]\nfallback = {}\nlogs = {}\n{content}\n",
                quoted(&alias), quoted(&index), quoted(&fallback), quoted(&logs),
            );
            let Ok(list) = SiteList::parse(&text, None) else { return Ok(()) };
            let site = &list.sites[0];
            for &kind in ServerKind::ALL {
                let (files, dialect) = (files(site, kind), kind.software().dialect());
                if files.check(&site.serving).is_err() {
                    continue;
                }
                let written = site_file(dialect, None, None, (site, &files)).unwrap();
                let shown = String::from_utf8_lossy(&written).into_owned();
                prop_assert_eq!(kind.foreign_directives(&written), Some(Vec::new()), "{}", shown);
                let tree = dialect.parse(&written).unwrap();
                prop_assert_eq!(tree.nodes.len(), 2, "one for each port: {}", shown);
                for host in tree.all(dialect.host()) {
                    for name in ["CustomLog", "ErrorLog", "access_log", "error_log"] {
                        for log in host.directives(name) {
                            let path = log.values().next().unwrap_or_default();
                            let folder = files.logs.as_ref().map_or("/var/log/server", ServerPath::as_str);
                            let is_there = path == "/dev/null" || path == "off" || path.starts_with(&format!("{folder}/a.test-"));
                            prop_assert!(is_there, "{}: {}", path, shown);
                        }
                    }
                }
            }
        }
    }
}
