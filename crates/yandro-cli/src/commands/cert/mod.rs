//! `yandro cert`.

mod dev_server;

use serde_json::json;
use yandro_core::name::HostName;
use yandro_core::pki::{CertificateFiles, Facts, date};
use yandro_core::site::Site;
use yandro_machine::files;

use crate::args::{CertArgs, CertCommand};
use crate::context::{Context, now};
use crate::error::{CommandError, Status};
use crate::view::change::labelled;
use crate::view::{COMMAND, STRONG, Ui};

pub(crate) fn run(context: &Context, args: &CertArgs, ui: &mut Ui) -> Result<Status, CommandError> {
    match &args.command {
        CertCommand::Show { name, paths } => show(context, name, *paths, ui),
        CertCommand::Env { name, format } => dev_server::env(context, name, *format, ui),
    }
}

/// A site and where its certificate is.
struct Held {
    site: Site,
    chain: camino::Utf8PathBuf,
    key: camino::Utf8PathBuf,
    root: camino::Utf8PathBuf,
}

impl Held {
    /// The site that has this name, whose certificate is there.
    fn find(context: &Context, name: &str) -> Result<Self, CommandError> {
        let name = HostName::parse(name)?;
        let (_, list) = context.list()?;
        let site = list.owner(&name).ok_or_else(|| {
            CommandError::usage(format!("there is no site `{name}`"))
                .hint(format!("map it: yandro map {name} FOLDER; or see which there are: yandro sites"))
        })?;
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

fn show(context: &Context, name: &str, is_paths: bool, ui: &mut Ui) -> Result<Status, CommandError> {
    let held = Held::find(context, name)?;
    let pem = files::read_if_there(&held.chain)?.unwrap_or_default();
    let chain = Facts::certificates(&pem).map_err(CommandError::not_made)?;
    let facts = Facts::read(&chain[0]).map_err(CommandError::not_made)?;
    if ui.json {
        ui.json(&json!({
            "version": 1, "site": held.site.name.as_str(), "certificate": held.chain, "key": held.key, "root": held.root,
            "names": facts.names, "addresses": facts.addresses, "issuer": facts.issuer,
            "not-before": date(facts.not_before), "not-after": date(facts.not_after), "days-left": facts.days_left(now()),
        }));
        return Ok(Status::Well);
    }
    let paths =
        [("certificate", held.chain.to_string()), ("key", held.key.to_string()), ("root", held.root.to_string())];
    if is_paths {
        ui.say(&labelled(&[&[("host name", held.site.name.to_string())], &paths[..]].concat()));
        return Ok(Status::Well);
    }
    ui.say(&format!("{STRONG}{}{STRONG:#}", held.site.name.to_unicode()));
    let days = facts.days_left(now());
    let valid = if days < 0 { "ended on" } else { "until" };
    let of_it = [
        ("covers", facts.names.join(", ")),
        ("valid", format!("{valid} {}, {days} days", date(facts.not_after))),
        ("issued by", facts.issuer.clone()),
    ];
    ui.say(&labelled(&[&of_it[..], &paths[..]].concat()));
    ui.say(&format!(
        "\nFor a dev server that speaks TLS itself: {COMMAND}yandro cert env {}{COMMAND:#}",
        held.site.name
    ));
    Ok(Status::Well)
}
