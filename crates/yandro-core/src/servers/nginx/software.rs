//! Knowledge about nginx.

use std::sync::Arc;

use crate::server_path::ServerPath;

use super::model::NginxModel;
use super::read::NginxConfiguration;
use super::report::read_report;
use super::syntax::NginxSyntax;
use super::{KNOWN, NginxShared, USUAL_FOLDERS, first_rule, run};
use crate::adopt::{BlockReading, HandBlock};
use crate::config::{Dialect, Files, KnownLayout, Layout, ServerTraits, Variable};
use crate::plan::ServerModel;
use crate::servers::{Configuration, ControlProgram, Image, ProjectRules, Seeing, ServerReport, Software, Start};
use crate::site::Site;

#[derive(Clone, Copy, Debug)]
pub(crate) struct Nginx;

/// The first version in which HTTP/2 is a directive.
const HTTP2_DIRECTIVE: [u32; 3] = [1, 25, 1];

impl Software for Nginx {
    fn word(&self) -> &'static str {
        "nginx"
    }

    fn title(&self) -> &'static str {
        "nginx"
    }

    fn dialect(&self) -> &'static dyn Dialect {
        &NginxSyntax
    }

    fn layouts(&self) -> &'static [KnownLayout] {
        KNOWN
    }

    fn site_folders(&self) -> &'static [&'static str] {
        USUAL_FOLDERS
    }

    fn main_files(&self) -> &'static [&'static str] {
        &["nginx.conf"]
    }

    fn controls(&self) -> &'static [ControlProgram] {
        &[ControlProgram { program: "nginx", test: &["-t"], reload: &["-s", "reload"] }]
    }

    fn questions(&self) -> &'static [&'static [&'static str]] {
        &[&["-V"]]
    }

    fn report(&self, answers: &[String]) -> Option<ServerReport> {
        read_report(answers.first()?)
    }

    fn usual_report(&self, _: &KnownLayout) -> ServerReport {
        ServerReport::default()
    }

    fn always_names_index(&self) -> bool {
        true
    }

    fn knows_built_in(&self, _: &Layout) -> bool {
        true
    }

    /// HTTP/2 is written in the way that the version knows.
    fn depends_on_version(&self, site: &Site, is_on_it: bool) -> bool {
        is_on_it && site.https.is_on()
    }

    fn run(&self, start: &Start, files: &dyn Files) -> Arc<dyn Configuration> {
        Arc::new(NginxConfiguration::new(run::NginxRun::run(&start.main, files), &start.main))
    }

    fn pid_file(&self, start: &Start, files: &dyn Files) -> Option<ServerPath> {
        run::NginxRun::pid_file_of(&start.main, files)
    }

    fn observe(&self, seeing: Seeing<'_>) -> Box<dyn ServerModel> {
        let Seeing { own, start, files, owner_of, loopback6 } = seeing;
        let shared = NginxShared::of(&start.main, files);
        let mut model = NginxModel::new(own, shared, owner_of);
        let is_one = |address: &&String| !address.starts_with("*:") && !address.starts_with("[::]:");
        model.traits = ServerTraits {
            log_folder: model.own.layout.known.logs.unwrap_or_default().to_owned(),
            listens_on_v6: loopback6.is_some_and(|loopback| loopback.is_there),
            has_http2_directive: start.report.version >= HTTP2_DIRECTIVE,
            specific: model.foreign_addresses.iter().filter(is_one).cloned().collect(),
            variable: Variable::Plain,
            ..ServerTraits::default()
        };
        Box::new(model)
    }

    fn override_file(&self) -> Option<&'static str> {
        None
    }

    fn project_rules(&self, text: &[u8]) -> ProjectRules {
        ProjectRules { rule: first_rule(text), ..ProjectRules::default() }
    }

    /// nginx's main file gets one `include` of files that only root can change, which no line of it can widen.
    fn is_switching(&self, _: &[u8], _: &[u8], _: &dyn Fn(&str) -> bool) -> bool {
        true
    }

    fn read_host(&self, block: &HandBlock<'_>) -> BlockReading {
        super::adopt::read(block)
    }

    fn image(&self) -> Image {
        Image { name: "nginx:stable", virtual_hosts: "/etc/nginx/conf.d", main: None }
    }

    fn image_modules(&self, _: &Site) -> Option<(&'static str, String)> {
        None
    }
}
