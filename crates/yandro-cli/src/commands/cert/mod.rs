//! `yandro cert`.

mod dev_server;
mod issue;
mod renew;
mod show;
mod timer;

use yandro_core::{CertificateFiles, HostName, Site};

pub(super) use timer::{is_in_table, leave_table};

use crate::args::{CertArgs, CertCommand};
use crate::context::Context;
use crate::error::{CommandError, no_site};
use crate::view::{Outcome, Ui};

pub(crate) fn run<'c>(context: &'c Context, args: &'c CertArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    match &args.command {
        CertCommand::Show { what, paths, key } => show::show(context, what, *paths, key.as_deref()),
        CertCommand::Issue(args) => issue::issue(context, args, ui),
        CertCommand::Sign { request, days, out } => issue::sign(context, request, *days, out, ui),
        CertCommand::Renew(args) if args.install_timer => timer::install(context, args, ui),
        CertCommand::Renew(args) if args.remove_timer => timer::remove(context, ui),
        CertCommand::Renew(args) => renew::renew(context, args.within, ui),
        CertCommand::Env { name, format } => dev_server::env(context, name, *format),
    }
}

/// A site and where its certificate is.
struct HeldCertificate {
    site: Site,
    chain: camino::Utf8PathBuf,
    key: camino::Utf8PathBuf,
    root: camino::Utf8PathBuf,
}

impl HeldCertificate {
    /// The site that has this name, whose certificate is there.
    fn find(context: &Context, name: &str) -> Result<Self, CommandError> {
        let name = HostName::parse(name)?;
        let (_, list) = context.list()?;
        let site = list.owner(&name).ok_or_else(|| no_site(&name).hint(format!("map it: yandro map {name} FOLDER")))?;
        let places = &context.machine.places;
        let (chain, key) = (places.chain(&site.name), places.key(&site.name));
        if !chain.is_file() || !key.is_file() {
            let error = CommandError::not_made(format!("`{}` has no certificate", site.name));
            let https = if site.https.is_on() { "" } else { " --https only" };
            return Err(error.hint(format!("have it made: yandro map {}{https}", site.name)));
        }
        Ok(Self { site: site.clone(), chain, key, root: places.root_certificate() })
    }

    fn files(&self) -> CertificateFiles<'_> {
        CertificateFiles { name: &self.site.name, chain: &self.chain, key: &self.key, root: &self.root }
    }
}

#[cfg(test)]
pub(crate) mod schemas {
    pub(crate) use super::dev_server::VariableList;
    pub(crate) use super::issue::IssuedData;
    pub(crate) use super::renew::Renewed;
    pub(crate) use super::show::{CertificateData, PathsData};
    pub(crate) use super::timer::{Installed, Removed};
}
