//! The sites that a project's own file asks for: `yandro map` in its folder.

use std::fmt::Write as _;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{
    Access, ChangeSet, Content, HostName, OPTIONS, PROJECT_FILE, ProjectSite, Role, ServerFacts, ServerId, Site,
    SiteList, SitePatch, project_sites, site_steps, with_own_choices,
};
use yandro_machine::{files, php};

use super::super::consent;
use super::desired::refused;
use super::steps;
use crate::args::MapArgs;
use crate::context::Context;
use crate::error::CommandError;

/// A project's file, as it is and as it was agreed to last.
pub(super) struct Project {
    folder: Utf8PathBuf,
    text: String,
    sites: Vec<ProjectSite>,
    former: Vec<ProjectSite>,
    /// The file with the text that the user agreed to.
    agreed: Utf8PathBuf,
    agreed_text: Option<Vec<u8>>,
}

impl Project {
    /// The file of the current folder, if there is one.
    pub(super) fn here(context: &Context) -> Result<Option<Self>, CommandError> {
        let folder = context.current.clone();
        let path = folder.join(PROJECT_FILE);
        let Some(bytes) = files::read_if_there(&path)? else { return Ok(None) };
        let text = String::from_utf8_lossy(&bytes).into_owned();
        let sites = project_sites(&text, &folder).map_err(|error| {
            CommandError::usage(format!("{path}:{}: {error}", error.excerpt.position.line))
                .hint("correct that line of the project file and try again")
        })?;
        if sites.is_empty() {
            return Err(CommandError::usage(format!("{path} asks for no site"))
                .hint("begin one with `[[site]]` and its `name`; or name a site: yandro map NAME FOLDER"));
        }
        let agreed = context.machine.places.data.join("projects").join(files::sha256(folder.as_str().as_bytes()));
        let agreed_text = files::read_if_there(&agreed)?;
        let former = agreed_text.as_ref().map(|text| project_sites(&String::from_utf8_lossy(text), &folder));
        let former = former.and_then(Result::ok).unwrap_or_default();
        let project = Self { folder, text, sites, former, agreed, agreed_text };
        project.stays_within()?;
        Ok(Some(project))
    }

    /// The names of its sites.
    pub(super) fn names(&self) -> Vec<HostName> {
        self.sites.iter().map(|own| own.site.name.clone()).collect()
    }

    /// The text of its file.
    pub(super) fn text(&self) -> &str {
        &self.text
    }

    /// Refuses a project whose folders are links that lead out of it.
    fn stays_within(&self) -> Result<(), CommandError> {
        let real = |path: &Utf8Path| path.canonicalize_utf8().ok();
        let Some(own) = real(&self.folder) else { return Ok(()) };
        for ProjectSite { site, .. } in &self.sites {
            let extra = site.serving.extra.clone();
            let folder = match &site.content {
                Content::Folder { folder, .. } => Some(folder.clone()),
                Content::Upstream(_) => None,
            };
            let paths = [site.document_root(), folder, extra];
            let outside =
                paths.into_iter().flatten().find(|path| real(path).is_some_and(|path| !path.starts_with(&own)));
            if let Some(path) = outside {
                return Err(CommandError::usage(format!(
                    "{path} is a link that leads out of the project {}",
                    self.folder
                ))
                .hint("if you want that, map it yourself: yandro map NAME FOLDER"));
            }
        }
        Ok(())
    }

    /// Refuses options that belong to one site.
    pub(super) fn takes(&self, args: &MapArgs) -> Result<(), CommandError> {
        let is_for_one = !(args.aliases.is_empty() && args.no_alias.is_empty() && args.options.0.is_empty())
            || args.document_root.is_some()
            || args.https.is_some()
            || args.plain
            || args.address.is_some();
        let name = self.sites.first().map(|own| own.site.name.to_string()).unwrap_or_default();
        if !is_for_one {
            return Ok(());
        }
        Err(CommandError::usage(
            "those options belong to one site, and this folder's `yandro.toml` says what its sites need",
        )
        .hint(format!("map the project first: yandro map; then change the site: yandro map {name} …")))
    }

    /// Shows what the project asks for, once for each content of its file, and asks.
    pub(super) fn agree(&self, context: &Context, args: &MapArgs) -> Result<(), CommandError> {
        let is_known = self.agreed_text.as_deref() == Some(self.text.as_bytes());
        if is_known || args.accept || context.preview {
            return Ok(());
        }
        let steps = site_steps(&self.text).unwrap_or_default();
        let mut fact = format!("{} asks for:", self.folder.join(PROJECT_FILE));
        for ProjectSite { site, has_php } in &self.sites {
            _ = write!(fact, "\n  {} -> {}", site.name, site.content);
            let php = has_php.then(|| ("php".to_owned(), "true".to_owned()));
            let told =
                OPTIONS.iter().filter(|option| !["name", "folder", "document-root", "upstream"].contains(&option.key));
            let told = told.filter_map(|option| Some((option.key.to_owned(), option.value(site)?.to_toml())));
            for (key, value) in told.chain(php) {
                _ = write!(fact, "\n      {key} = {value}");
            }
            let own = steps.iter().find(|(name, _)| *name == site.name);
            for line in own.iter().flat_map(|(_, steps)| steps::listed(steps)) {
                _ = write!(fact, "\n      {line}");
            }
            if let Some(extra) = &site.serving.extra {
                let lines = files::read_if_there(extra)?.unwrap_or_default();
                for line in String::from_utf8_lossy(&lines).lines().take(LINES) {
                    _ = write!(fact, "\n        | {line}");
                }
                fact += "\n      the server runs these directives with all its rights";
            }
        }
        let option = "if you trust this project, add `--accept`; to see every line that would be written: --preview";
        consent::ask(&fact, "Map this project's sites?", option)
    }

    /// The sites, with what the person has chosen otherwise in their own list.
    pub(super) fn desired(
        &self,
        context: &Context,
        args: &MapArgs,
        list: &SiteList,
    ) -> Result<Vec<Site>, CommandError> {
        self.sites.iter().map(|wanted| self.desired_site(context, args, list, wanted)).collect()
    }

    fn desired_site(
        &self,
        context: &Context,
        args: &MapArgs,
        list: &SiteList,
        wanted: &ProjectSite,
    ) -> Result<Site, CommandError> {
        let name = &wanted.site.name;
        if let Some(owner) = wanted.site.names().find_map(|name| list.owner(name)).filter(|owner| owner.name != *name) {
            return Err(CommandError::usage(format!("`{name}` already belongs to the site `{}`", owner.name))
                .hint(format!("take that one away first: yandro unmap {}", owner.name)));
        }
        let before = list.site(name);
        let former = self.former.iter().find(|former| former.site.name == *name);
        let mut site = with_own_choices(&wanted.site, former.map(|former| &former.site), before);
        let said = args.server.as_deref().map(ServerId::parse).transpose()?;
        let server = context.server_of(said.or(before.and_then(|before| before.server)), site.address)?;
        site.server = Some(server);
        site.disabled = false;
        if let Some(root) = site.document_root().filter(|root| !root.is_dir()) {
            return Err(CommandError::usage(format!("the project has no folder {root}"))
                .hint("build the project first, or correct its file"));
        }
        let found = if wanted.has_php { php::find(&context.machine) } else { None };
        let facts = ServerFacts {
            server,
            kind: context.server(server).map(|found| found.kind),
            is_here: context.present().is_here(server),
            published: context.present().published(server),
            php: found,
            php_version: php::usual_version(&context.machine),
            settings: context.machine.places.settings(),
        };
        let mut patch = SitePatch::default();
        let has_own = before.is_some_and(|before| before.serving.php.is_some());
        if let Some(option) = OPTIONS.iter().find(|option| option.key == "php").filter(|_| wanted.has_php && !has_own) {
            patch.change(option, vec![String::new()]);
        }
        patch.apply(&site, before, &facts).map_err(refused)
    }

    /// Keeps the text that was agreed to, with the change that it led to.
    pub(super) fn note(&self, context: &Context, set: &mut ChangeSet) {
        let content = (self.agreed_text.clone(), Some(self.text.clone().into_bytes()));
        if content.0 != content.1 {
            set.folder(Role::AppliedSites, context.machine.places.data.join("projects"), Access::Private);
            set.file(Role::ProjectConsent, self.agreed.clone(), content, Access::Private);
        }
    }
}

/// How many lines of a file with directives are shown.
const LINES: usize = 40;
