//! Knowledge about Apache httpd.

use std::sync::Arc;

use super::model::HttpdModel;
use super::overrides::project_rules;
use super::read::HttpdConfiguration;
use super::switches::is_switching;
use super::syntax::ApacheSyntax;
use super::{HttpdShared, KNOWN, ModuleFiles, USUAL_FOLDERS, required_modules, run};
use crate::adopt::{BlockReading, HandBlock};
use crate::config::{Dialect, Files, KnownLayout, Layout};
use crate::plan::ServerModel;
use crate::servers::{Configuration, ControlProgram, Image, ProjectRules, Seeing, ServerReport, Software, Start};
use crate::site::{Content, Site};

/// Apache httpd.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Httpd;

/// Modules that are built into every server.
const BUILT_IN: [&str; 3] = ["core.c", "mod_so.c", "http_core.c"];
/// A version that is taken for granted where no server can be asked.
const USUAL_VERSION: [u32; 3] = [2, 4, 62];

impl Software for Httpd {
    fn word(&self) -> &'static str {
        "apache"
    }

    fn title(&self) -> &'static str {
        "Apache httpd"
    }

    fn dialect(&self) -> &'static dyn Dialect {
        &ApacheSyntax
    }

    fn layouts(&self) -> &'static [KnownLayout] {
        KNOWN
    }

    fn site_folders(&self) -> &'static [&'static str] {
        USUAL_FOLDERS
    }

    fn main_files(&self) -> &'static [&'static str] {
        &["httpd.conf", "apache2.conf"]
    }

    fn controls(&self) -> &'static [ControlProgram] {
        const fn of(program: &'static str) -> ControlProgram {
            ControlProgram { program, test: &["-t"], reload: &["-k", "graceful"] }
        }
        // Debian's script has the environment that its configuration needs; images that have that themselves, the program.
        const ALL: [ControlProgram; 4] = [of("apache2ctl"), of("httpd"), of("apachectl"), of("apache2")];
        &ALL
    }

    fn questions(&self) -> &'static [&'static [&'static str]] {
        &[&["-V"], &["-l"]]
    }

    fn report(&self, answers: &[String]) -> Option<ServerReport> {
        let [version, modules] = answers else { return None };
        let report = run::read_report(version, modules);
        (!report.main.as_str().is_empty()).then_some(report)
    }

    fn usual_report(&self, known: &KnownLayout) -> ServerReport {
        let built_in = BUILT_IN.iter().chain(known.built_in).map(|source| (*source).to_owned()).collect();
        ServerReport { version: USUAL_VERSION, built_in, ..ServerReport::default() }
    }

    /// Any Apache httpd 2.4 that a distribution packages with links to its modules reads the same.
    fn always_names_index(&self) -> bool {
        false
    }

    fn knows_built_in(&self, layout: &Layout) -> bool {
        layout.links.is_some()
    }

    /// Upstreams are written in the way that the version knows.
    fn depends_on_version(&self, site: &Site, _: bool) -> bool {
        matches!(site.content, Content::Upstream(_))
    }

    fn run(&self, start: &Start, files: &dyn Files) -> Arc<dyn Configuration> {
        Arc::new(HttpdConfiguration::new(run::HttpdRun::run(start, files)))
    }

    fn observe(&self, seeing: Seeing<'_>) -> Box<dyn ServerModel> {
        let Seeing { own, start, files, owner_of, loopback6 } = seeing;
        let mut model = HttpdModel { shared: HttpdShared::of(start, files, owner_of), ..HttpdModel::new(own) };
        if let Some(links) = model.own.layout.links.clone() {
            let there = |path| model.own.view.there_or_same(path);
            let (available, enabled) = (there(&links.modules), there(&links.enabled_modules));
            for name in files.list(&available).unwrap_or_default() {
                let Some(module) = name.strip_suffix(".load") else { continue };
                let load = files.read(&available.join(&name)).unwrap_or_default();
                let load = String::from_utf8_lossy(&load).into_owned();
                let has_conf = files.exists(&available.join(format!("{module}.conf")));
                model.available_modules.insert(module.to_owned(), ModuleFiles { load, has_conf });
            }
            model.module_links = files.list(&enabled).unwrap_or_default().into_iter().collect();
            let loads = model.module_links.iter().filter_map(|name| name.strip_suffix(".load").map(str::to_owned));
            model.enabled_modules = loads.collect();
        }
        model.listens_on_v6 = loopback6.is_some_and(|loopback| model.would_listen_on(loopback));
        Box::new(model)
    }

    fn override_file(&self) -> Option<&'static str> {
        Some(".htaccess")
    }

    fn project_rules(&self, text: &[u8]) -> ProjectRules {
        project_rules(text)
    }

    fn is_switching(&self, before: &[u8], after: &[u8], is_safe: &dyn Fn(&str) -> bool) -> bool {
        is_switching(before, after, is_safe)
    }

    fn read_host(&self, block: &HandBlock<'_>) -> BlockReading {
        super::adopt::read(block)
    }

    fn image(&self) -> Image {
        Image {
            name: "httpd:2.4",
            virtual_hosts: "/usr/local/apache2/conf/yandro",
            main: Some("/usr/local/apache2/conf/httpd.conf"),
        }
    }

    fn image_modules(&self, site: &Site) -> Option<(&'static str, String)> {
        let mut text = String::from("# What the site needs beyond what the image has switched on\n");
        let mut needed = required_modules(site);
        if needed.contains(&"ssl") {
            needed.push("socache_shmcb");
        }
        for module in needed {
            text += &format!(
                "<IfModule !{module}_module>\n\tLoadModule {module}_module modules/mod_{module}.so\n</IfModule>\n"
            );
        }
        let ports = site.http_ports(80).into_iter().filter(|port| *port != 80).chain(site.https_ports(443));
        Some(("0-modules.conf", ports.fold(text, |text, port| text + &format!("Listen {port}\n"))))
    }
}
