//! Mapping each project of a folder: `yandro map --each`.

use std::fmt::Write as _;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{Content, DEFAULT_ADDRESS, HostName, PROJECT_FILE, ServerId, SiteList};
use yandro_machine::{observe, php};

use super::super::consent;
use super::desired::absolute;
use super::request::MapRequest;
use crate::args::MapArgs;
use crate::context::Context;
use crate::error::CommandError;
use crate::view::{Cell, DIM, GOOD, Table, WARN, count};

/// Folders that are parts of other projects.
const NO_PROJECTS: [&str; 3] = ["node_modules", "vendor", "venv"];

/// A folder's projects, as `--each` finds them.
pub(super) struct Each {
    folder: Utf8PathBuf,
    projects: Vec<Found>,
    /// Why PHP can't run, in a few words.
    no_php: Option<&'static str>,
}

/// A folder below it, with the site that it is to have, or the reason why it gets none.
struct Found {
    folder: Utf8PathBuf,
    site: Result<Wanted, String>,
}

struct Wanted {
    name: HostName,
    document_root: Option<Utf8PathBuf>,
    /// Whether its index is a PHP file.
    needs_php: bool,
}

impl Each {
    /// Looks at the folders directly below one.
    pub(super) fn of(context: &Context, args: &MapArgs, folder: &Utf8Path) -> Result<Self, CommandError> {
        refuse_options_of_one(args)?;
        let folder = absolute(&context.current, folder)?;
        let entries = folder.read_dir_utf8().map_err(|error| {
            CommandError::usage(format!("{folder} can't be listed: {error}"))
                .hint("name the folder that has your projects in it: yandro map --each FOLDER")
        })?;
        let is_project = |path: &Utf8PathBuf| {
            let name = path.file_name().unwrap_or_default();
            path.is_dir() && !name.starts_with('.') && !NO_PROJECTS.contains(&name)
        };
        let mut folders: Vec<Utf8PathBuf> =
            entries.flatten().map(|entry| entry.path().to_owned()).filter(is_project).collect();
        folders.sort();
        let (_, list) = context.list()?;
        let said = args.server.as_deref().map(ServerId::parse).transpose()?;
        let server = context.server_of(said, DEFAULT_ADDRESS)?;
        let no_php = if !(server.is_configured() && context.present().is_here(server)) {
            Some("not by this server")
        } else if php::find(&context.machine).is_none() {
            Some("no php-fpm runs")
        } else {
            None
        };
        let mut projects: Vec<Found> = Vec::new();
        for folder in folders {
            let site = wanted(args, &folder, &list).and_then(|wanted| {
                let has_name = |other: &&Found| other.site.as_ref().is_ok_and(|other| other.name == wanted.name);
                if let Some(other) = projects.iter().find(has_name) {
                    return Err(format!("{} would have the same name", file_name(&other.folder)));
                }
                match projects.iter().find(|other| is_same(&other.folder, &folder)) {
                    Some(other) => Err(format!("it is a link to {}", file_name(&other.folder))),
                    None => Ok(wanted),
                }
            });
            projects.push(Found { folder, site });
        }
        let each = Self { folder, projects, no_php };
        if each.wanted().next().is_none() {
            return Err(CommandError::usage(format!(
                "no folder in {} is left to map\n\n{}",
                each.folder,
                each.table()
            ))
            .hint("see the sites that you have: yandro sites")
            .hint("name another folder that has your projects in it: yandro map --each FOLDER"));
        }
        Ok(each)
    }

    fn wanted(&self) -> impl Iterator<Item = (&Utf8Path, &Wanted)> {
        self.projects.iter().filter_map(|found| Some((&*found.folder, found.site.as_ref().ok()?)))
    }

    /// Shows the sites, and asks.
    pub(super) fn agree(&self, context: &Context, args: &MapArgs) -> Result<(), CommandError> {
        if args.accept || context.preview {
            return Ok(());
        }
        let number = self.wanted().count();
        let folders = count(number, "folder");
        let fact = format!("{folders} of {} would become {}:\n\n{}", self.folder, count(number, "site"), self.table());
        let option = "to map them, add `--accept`; to leave one out, add `--except FOLDER`; to see every line that would be written: --preview";
        consent::ask(&fact, &format!("Map {}?", if number == 1 { "it" } else { "them" }), option)
    }

    /// The sites to map.
    pub(super) fn requests(&self) -> Vec<MapRequest> {
        let request = |(folder, wanted): (&Utf8Path, &Wanted)| MapRequest {
            name: wanted.name.clone(),
            target: Some(folder.to_string()),
            finds_php: wanted.needs_php && self.no_php.is_none(),
        };
        self.wanted().map(request).collect()
    }

    /// The folders with their sites, and below those that are left out.
    fn table(&self) -> String {
        let mut table = Table::new(&["FOLDER", "SITE", "SERVES", "PHP"]);
        for (folder, wanted) in self.wanted() {
            table.row(vec![
                Cell::plain(file_name(folder)),
                Cell::new(wanted.name.to_unicode(), GOOD),
                Cell::plain(wanted.document_root.as_deref().map_or("all of it", Utf8Path::as_str)),
                match (wanted.needs_php, self.no_php) {
                    (false, _) => Cell::plain(""),
                    (true, None) => Cell::plain("yes"),
                    (true, Some(why)) => Cell::new(why, WARN),
                },
            ]);
        }
        let mut text = if self.wanted().next().is_some() { table.render(None) + "\n" } else { String::new() };
        for found in &self.projects {
            if let Err(why) = &found.site {
                _ = writeln!(text, "{DIM}left out: {}: {why}{DIM:#}", file_name(&found.folder));
            }
        }
        text.trim_end().to_owned()
    }
}

/// The site for a folder, or why it gets none.
fn wanted(args: &MapArgs, folder: &Utf8Path, list: &SiteList) -> Result<Wanted, String> {
    let own = file_name(folder);
    if args.except.iter().any(|except| except.trim_end_matches('/') == own) {
        return Err("as you said".into());
    }
    let has_folder = |content: &Content| matches!(content, Content::Folder { folder: own, .. } if is_same(own, folder));
    if let Some(site) = list.sites.iter().find(|site| has_folder(&site.content)) {
        return Err(format!("it is {} already", site.name));
    }
    if folder.join(PROJECT_FILE).is_file() {
        return Err(format!("it has a {PROJECT_FILE}: cd {own} && yandro map"));
    }
    if folder.read_dir_utf8().is_ok_and(|mut entries| entries.next().is_none()) {
        return Err("it is empty".into());
    }
    let name = name_of(own, &args.below)?;
    if let Some(owner) = list.owner(&name) {
        return Err(format!("the site {} has the name {name}", owner.name));
    }
    let document_root = observe::obvious_document_root(folder);
    let served = document_root.as_ref().map_or_else(|| folder.to_owned(), |root| folder.join(root));
    Ok(Wanted { name, document_root, needs_php: served.join("index.php").is_file() })
}

/// The name for a folder: its own if that is one with a dot, otherwise below the domain.
fn name_of(folder: &str, below: &str) -> Result<HostName, String> {
    if folder.contains('.')
        && let Ok(name) = HostName::parse(folder)
    {
        return Ok(name);
    }
    let label: String = folder.to_lowercase().chars().map(|c| if c.is_alphanumeric() { c } else { '-' }).collect();
    let label: Vec<&str> = label.split('-').filter(|part| !part.is_empty()).collect();
    HostName::parse(&format!("{}.{below}", label.join("-"))).map_err(|error| error.to_string())
}

/// Whether two paths lead to the same folder.
fn is_same(one: &Utf8Path, other: &Utf8Path) -> bool {
    one == other || one.canonicalize_utf8().is_ok_and(|one| other.canonicalize_utf8().is_ok_and(|other| one == other))
}

fn file_name(path: &Utf8Path) -> &str {
    path.file_name().unwrap_or_default()
}

fn refuse_options_of_one(args: &MapArgs) -> Result<(), CommandError> {
    let is_for_one = !(args.aliases.is_empty() && args.no_alias.is_empty())
        || args.document_root.is_some()
        || args.address.is_some()
        || args.options.0.iter().any(|(option, _)| option.key == "fallback");
    if is_for_one {
        return Err(CommandError::usage("aliases, a document root, an address and a fallback belong to one site")
            .hint("map the folders first: yandro map --each FOLDER; then change a site: yandro map NAME …"));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::name_of;

    #[test]
    fn names_come_from_folders() {
        let name = |folder: &str| name_of(folder, "test").map(|name| name.to_unicode());
        for (folder, expected) in [
            ("saltmarsh", "saltmarsh.test"),
            ("Tide_Tables (new)", "tide-tables-new.test"),
            ("fähre", "fähre.test"),
            ("depot.saltmarsh.test", "depot.saltmarsh.test"),
            ("v1.2", "v1-2.test"),
        ] {
            assert_eq!(name(folder).as_deref(), Ok(expected), "{folder}");
        }
        assert!(name("___").is_err());
        assert_eq!(name_of("crew", "ferries.test").unwrap().as_str(), "crew.ferries.test");
    }
}
