//! `yandro sites`.

use std::collections::{BTreeMap, HashSet};

use camino::Utf8Path;
use serde_json::json;
use yandro_core::{HostName, HostsFile, Layout, OPTIONS, ServerId, Site, SiteList, TomlValue};
use yandro_machine::files;

use crate::context::Context;
use crate::error::CommandError;
use crate::view::{Cell, DIM, Data, GOOD, Outcome, STRONG, Table, Ui, WARN, both_ways, count, data};

pub(crate) fn run(context: &Context) -> Result<Outcome<'_>, CommandError> {
    let (_, list) = context.list()?;
    let written = SitesWritten::read(context)?;
    let stands: Vec<Vec<&'static str>> = list.sites.iter().map(|site| written.missing(site)).collect();
    let data = to_data(&list, &stands);
    Ok(Outcome::new(data, move |_, ui| show(&list, &stands, ui)))
}

fn show(list: &SiteList, stands: &[Vec<&'static str>], ui: &mut Ui) {
    if list.sites.is_empty() {
        ui.say("No site is mapped yet. Map one: yandro map NAME FOLDER");
        return;
    }
    let mut table = Table::new(&["SITE", "SERVER", "ROOT OR UPSTREAM", "STATUS"]);
    for (site, missing) in list.sites.iter().zip(stands) {
        let stands = if missing.is_empty() { Cell::new("mapped", GOOD) } else { Cell::new(missing.join(", "), WARN) };
        let server = Cell::plain(site.server.as_ref().map_or("any", ServerId::word));
        table.row(vec![
            Cell::new(both_ways(&site.name), STRONG),
            server,
            Cell::plain(site.content.to_string()),
            stands,
        ]);
        for alias in &site.aliases {
            table.row(vec![Cell::new(format!("  {}", both_ways(alias)), DIM)]);
        }
    }
    ui.table(&table);
    let hint = match stands.iter().filter(|missing| !missing.is_empty()).count() {
        0 => "prove that they answer: yandro check".to_owned(),
        1 => "1 is not whole; write a site again: yandro map NAME".to_owned(),
        many => format!("{many} are not whole; write a site again: yandro map NAME"),
    };
    ui.say(&format!("\n{}; {hint}", count(list.sites.len(), "site")));
}

/// What is written on this machine, read once for all sites.
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

    /// What is missing of a site, in words; nothing for one that is whole.
    fn missing(&self, site: &Site) -> Vec<&'static str> {
        let mut missing = Vec::new();
        if site.names().any(|name| !self.names.contains(name.as_str())) {
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
    /// Of `yandro sites`.
    struct SiteRows {
        sites: Vec<SiteData>,
    }

    /// A site of the list.
    struct SiteData {
        name: String,
        aliases: Vec<String>,
        /// The project's folder, or the upstream.
        content: String,
        /// Where its names point to.
        address: std::net::IpAddr,
        /// The server; none if any will do.
        server: Option<String>,
        /// Its other options that are not as usual, by their keys in the site list.
        options: BTreeMap<&'static str, serde_json::Value>,
        /// What of it is missing on this machine, in words.
        missing: Vec<&'static str>,
    }
}

impl Data for SiteRows {}

/// The options that have no field of their own.
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

fn to_data(list: &SiteList, stands: &[Vec<&'static str>]) -> SiteRows {
    SiteRows { sites: list.sites.iter().zip(stands).map(site_data).collect() }
}

fn site_data((site, missing): (&Site, &Vec<&'static str>)) -> SiteData {
    SiteData {
        name: site.name.to_string(),
        aliases: site.aliases.iter().map(HostName::to_string).collect(),
        content: site.content.to_string(),
        address: site.address,
        server: site.server.map(|server| server.word().to_owned()),
        options: options(site),
        missing: missing.clone(),
    }
}
