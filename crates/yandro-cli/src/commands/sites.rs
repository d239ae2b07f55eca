//! `yandro sites`.

use std::collections::{BTreeMap, HashSet};

use camino::Utf8Path;
use serde_json::json;
use yandro_core::{HostName, HostsFile, Layout, OPTIONS, ServerId, Site, SiteList, TomlValue};
use yandro_machine::files;

use crate::context::Context;
use crate::error::CommandError;
use crate::view::{COMMAND, Cell, DIM, Data, GOOD, Outcome, STRONG, Table, Ui, WARN, count, data};

pub(crate) fn run(context: &Context) -> Result<Outcome<'_>, CommandError> {
    let (_, list) = context.list()?;
    let written = SitesWritten::read(context)?;
    let missing: Vec<Vec<&'static str>> = list.sites.iter().map(|site| written.missing(site)).collect();
    let data = SiteRows {
        sites: list.sites.iter().zip(&missing).map(|(site, missing)| site_data(context, site, missing)).collect(),
    };
    Ok(Outcome::new(data, move |_, ui| show(context, &list, &missing, ui)))
}

fn show(context: &Context, list: &SiteList, missing: &[Vec<&'static str>], ui: &mut Ui) {
    if list.sites.is_empty() {
        ui.say("No site is mapped yet. Map one: yandro map NAME FOLDER");
        return;
    }
    let mut table = Table::new(&["SITE", "SERVER", "ROOT OR UPSTREAM", "STATUS"]).least(&["SERVER"]);
    for (site, missing) in list.sites.iter().zip(missing) {
        let status = if site.disabled {
            Cell::new("disabled", DIM)
        } else if missing.is_empty() {
            Cell::new("mapped", GOOD)
        } else {
            Cell::new(missing.join(", "), WARN)
        };
        let server = Cell::plain(site.server.as_ref().map_or("any", ServerId::word));
        let url = shown_url(context, site, &site.name);
        table.row(vec![Cell::new(url, STRONG), server, Cell::plain(site.content.to_string()), status]);
        for alias in &site.aliases {
            table.row(vec![Cell::new(format!("  {}", shown_url(context, site, alias)), DIM)]);
        }
        if site.serving.tenants {
            let url = shown_url(context, site, &site.name).replacen("://", "://*.", 1);
            table.row(vec![Cell::new(format!("  {url}"), DIM)]);
        }
    }
    ui.table(&table);
    let incomplete: Vec<&Site> =
        list.sites.iter().zip(missing).filter(|(_, missing)| !missing.is_empty()).map(|(site, _)| site).collect();
    let disabled = list.sites.iter().filter(|site| site.disabled).count();
    let hint = match &incomplete[..] {
        [] if disabled == list.sites.len() => {
            let these = if disabled == 1 { list.sites[0].name.as_str() } else { "--all" };
            format!("bring back into use: {COMMAND}yandro enable {these}{COMMAND:#}")
        }
        [] => format!("prove that they answer: {COMMAND}yandro check{COMMAND:#}"),
        [one] => format!("1 is incomplete; write it again: {COMMAND}yandro map {}{COMMAND:#}", one.name),
        many => format!("{} are incomplete; write them again: {COMMAND}yandro settle{COMMAND:#}", many.len()),
    };
    ui.say(&format!("\n{}; {hint}", count(list.sites.len(), "site")));
}

/// A name's URL, as a browser's address bar shows it, with the form on the wire if that is another.
fn shown_url(context: &Context, site: &Site, name: &HostName) -> String {
    let url = context.url_of(site, name);
    let unicode = name.to_unicode();
    if unicode == name.as_str() { url } else { format!("{} ({name})", url.replace(name.as_str(), &unicode)) }
}

/// The files of all sites on this machine, read once.
struct SitesWritten {
    /// Every name of the hosts file.
    names: HashSet<String>,
    /// Every folder of certificates.
    certificates: HashSet<String>,
    /// Every file in the folders in which the servers read sites' files, by server.
    enabled: Vec<(ServerId, Layout, HashSet<String>)>,
}

impl SitesWritten {
    fn read(context: &Context) -> Result<Self, CommandError> {
        let bytes = files::read_if_there(&context.machine.places.hosts)?.unwrap_or_default();
        let file = HostsFile::parse(&bytes);
        let mut names = HashSet::new();
        for entry in file.entries() {
            names.extend(file.names_of(&entry).map(|name| String::from_utf8_lossy(name).to_ascii_lowercase()));
        }
        Ok(Self {
            names,
            certificates: entries(&context.machine.places.certificates()),
            enabled: context
                .present()
                .all()
                .iter()
                .map(|found| (found.id, found.layout.clone(), entries(found.layout.read_folder())))
                .collect(),
        })
    }

    /// The missing parts of a site, in words; empty for a complete one.
    fn missing(&self, site: &Site) -> Vec<&'static str> {
        let mut missing = Vec::new();
        if site.disabled {
            return missing;
        }
        let is_known = |name: &HostName| site.server.is_some_and(|server| site.is_known_by_itself(name, server));
        if site.names().any(|name| !self.names.contains(name.as_str()) && !is_known(name)) {
            missing.push("not in the hosts file");
        }
        if site.https.is_on() && !self.certificates.contains(site.name.as_str()) {
            missing.push("no certificate");
        }
        let is_enabled = |name: &HostName, id: ServerId| {
            self.enabled.iter().any(|(own, layout, names)| {
                *own == id && layout.site_file(name).file_name().is_some_and(|file| names.contains(file))
            })
        };
        let configured = site.server.filter(|server| server.is_configured());
        if configured.is_some_and(|server| !is_enabled(&site.name, server)) {
            missing.push("no virtual host");
        }
        if site.document_root().is_some_and(|root| !root.is_dir()) {
            missing.push("folder gone");
        }
        missing
    }
}

fn entries(folder: &Utf8Path) -> HashSet<String> {
    folder.read_dir_utf8().into_iter().flatten().filter_map(|entry| Some(entry.ok()?.file_name().to_owned())).collect()
}

data! {
    /// Data of `yandro sites`.
    struct SiteRows {
        sites: Vec<SiteData>,
    }

    /// A site of the list.
    struct SiteData {
        name: String,
        url: String,
        aliases: Vec<String>,
        /// The project's folder, or the upstream.
        content: String,
        /// Target of its names.
        address: std::net::IpAddr,
        /// The server; none if any will do.
        server: Option<String>,
        /// Whether it is out of use.
        disabled: bool,
        /// Its other options that are not as usual, by their keys in the site list.
        options: BTreeMap<&'static str, serde_json::Value>,
        /// Its missing parts on this machine, in words.
        missing: Vec<&'static str>,
    }
}

impl Data for SiteRows {}

/// The options that have no separate field.
fn options(site: &Site) -> BTreeMap<&'static str, serde_json::Value> {
    let others = OPTIONS.iter().filter(|option| option.argument.is_some() || option.key == "https");
    others.filter_map(|option| Some((option.key, to_json(option.value(site)?)))).collect()
}

fn to_json(value: TomlValue) -> serde_json::Value {
    match value {
        TomlValue::Text(text) => json!(text),
        TomlValue::Texts(texts) => json!(texts),
        TomlValue::Number(number) => json!(number),
        TomlValue::Numbers(numbers) => json!(numbers),
        TomlValue::Flag(flag) => json!(flag),
    }
}

fn site_data(context: &Context, site: &Site, missing: &[&'static str]) -> SiteData {
    SiteData {
        url: context.url_of(site, &site.name),
        name: site.name.to_string(),
        aliases: site.aliases.iter().map(HostName::to_string).collect(),
        content: site.content.to_string(),
        address: site.address,
        server: site.server.map(|server| server.word().to_owned()),
        disabled: site.disabled,
        options: options(site),
        missing: missing.to_vec(),
    }
}
