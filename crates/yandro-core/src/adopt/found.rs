//! Finding the sites that a person wrote by hand among a server's virtual hosts.

use std::collections::BTreeMap;

use super::commented::commented;
use super::cut::{CutFile, cut};
use super::hand::{HandServer, HandSite};
use super::reading::{BlockReading, HandBlock, is_name};
use super::written::Brought;
use crate::config::{Place, VirtualHost};
use crate::name::HostName;
use crate::server_path::ServerPath;
use crate::site::{Content, Https, Site};

/// The sites that a person wrote, in the order of the configuration, and those that are commented out.
pub fn hand_sites(server: &HandServer<'_>) -> Vec<HandSite> {
    let mut hosts: Vec<&VirtualHost> = Vec::new();
    let answering = server.configuration.answering();
    for host in answering.iter().flat_map(|at| at.hosts.iter().copied()) {
        let is_new = hosts.iter().all(|own| own.place != host.place);
        if is_new && !(server.is_own)(&host.place.file.as_str().into()) {
            hosts.push(host);
        }
    }
    let mut groups: Vec<(String, Vec<&VirtualHost>)> = Vec::new();
    for host in hosts {
        let name = name_of(host).unwrap_or_else(|| host.place.to_string());
        match groups.iter_mut().find(|(own, _)| *own == name) {
            Some((_, hosts)) => hosts.push(host),
            None => groups.push((name, vec![host])),
        }
    }
    let sites = groups.into_iter().map(|(name, hosts)| hand_site(server, name, &hosts));
    sites.chain(commented(server)).collect()
}

/// The first of a virtual host's names that a site can have.
fn name_of(host: &VirtualHost) -> Option<String> {
    let mut names = host.name.iter().chain(&host.aliases).filter(|name| is_name(name));
    names.find_map(|name| HostName::parse(name).ok()).map(|name| name.to_string())
}

fn hand_site(server: &HandServer<'_>, name: String, hosts: &[&VirtualHost]) -> HandSite {
    let mut found = HandSite {
        server: server.id,
        name,
        is_commented: false,
        site: Err(String::new()),
        blocks: Vec::new(),
        brought: Brought::default(),
        cuts: Vec::new(),
    };
    let mut by_file: BTreeMap<&str, Vec<&VirtualHost>> = BTreeMap::new();
    for host in hosts {
        by_file.entry(&host.place.file).or_default().push(host);
    }
    for (file, hosts) in by_file {
        if let Err(why) = take_file(server, &mut found, &file.into(), &hosts) {
            found.site = Err(why);
            return found;
        }
    }
    let readings: Vec<&BlockReading> = found.blocks.iter().map(|(_, reading)| reading).collect();
    found.site = site(server, &readings);
    found
}

/// Takes the virtual hosts of a site out of one file.
fn take_file(
    server: &HandServer<'_>,
    found: &mut HandSite,
    path: &ServerPath,
    hosts: &[&VirtualHost],
) -> Result<(), String> {
    let dialect = server.kind.software().dialect();
    if !path.is_absolute() {
        return Err(format!("a macro writes it: {path}"));
    }
    let text = server.files.read(path).ok_or_else(|| format!("{path} can't be read"))?;
    let tree = dialect.parse(&text).map_err(|error| format!("{path}: {}", error.message))?;
    let lines: Vec<usize> = hosts.iter().map(|host| host.place.line).collect();
    let (rest, cut_blocks, behind) = cut(dialect, &text, &tree, &lines);
    let sections = tree.all(dialect.host()).into_iter().filter(|section| lines.contains(&section.open.line));
    for (section, block) in sections.zip(cut_blocks) {
        let host = hosts.iter().find(|host| host.place.line == section.open.line);
        let root = host.and_then(|host| host.document_root.as_ref());
        let root = root.map(|root| server.configuration.root().join(root).to_string());
        let reading = server.kind.software().read_host(&HandBlock {
            source: &text,
            section,
            files: server.files,
            root: server.configuration.root(),
            document_root: root.as_deref(),
            log_folder: &server.log_folder,
        });
        found.blocks.push((Place { file: path.to_string(), line: section.open.line }, reading.clone()));
        found.brought.blocks.push((block, reading));
    }
    if found.brought.blocks.is_empty() {
        return Err(format!("there is no virtual host at {path}:{}", lines.first().copied().unwrap_or_default()));
    }
    found.brought.rest.extend(behind);
    found.cuts.push(CutFile { path: path.to_owned(), text: rest });
    Ok(())
}

/// The site that virtual hosts make together.
fn site(server: &HandServer<'_>, readings: &[&BlockReading]) -> Result<Site, String> {
    let serving: Vec<&&BlockReading> = readings.iter().filter(|reading| !reading.redirects).collect();
    let Some(main) = serving.iter().find(|own| is_secure(own)).or(serving.first()) else {
        return Err("it only redirects, and the site that it leads to isn't here".into());
    };
    if serving.iter().any(|own| own.content != main.content) {
        return Err("its virtual hosts serve different folders".into());
    }
    let mut names: Vec<HostName> = Vec::new();
    for text in main.names.iter().chain(readings.iter().flat_map(|own| &own.names)) {
        if text.contains('$') {
            return Err(format!("its name is written with a variable, `{text}`: write the name itself there"));
        }
        let name = HostName::parse(text).map_err(|error| format!("`{text}`: {error}"))?;
        if !names.contains(&name) {
            names.push(name);
        }
    }
    let mut names = names.into_iter();
    let name = names.next().ok_or("it has no name")?;
    let content = match main.content.clone() {
        Some(Content::Folder { folder, .. }) => {
            let here = (server.here)(&folder.as_path().into())
                .ok_or_else(|| format!("{folder} is not a folder of this machine"))?;
            Content::folder(here)
        }
        Some(upstream) => upstream,
        None => return Err("it serves no folder, and passes nothing on to one server".into()),
    };
    let mut site = Site::new(name, content);
    site.aliases = names.collect();
    site.server = Some(server.id);
    site.serving.clone_from(&main.serving);
    if matches!(site.content, Content::Folder { .. }) {
        site.serving.upstream_host = crate::site::UpstreamHost::default();
    } else {
        site.serving.index.clear();
        site.serving.fallback = None;
        site.serving.php = None;
    }
    addresses(&mut site, readings);
    Ok(site)
}

fn is_secure(reading: &BlockReading) -> bool {
    reading.addresses.iter().any(|own| own.is_secure)
}

/// Ports, address and protocols of a site.
fn addresses(site: &mut Site, readings: &[&BlockReading]) {
    let all: Vec<_> =
        readings.iter().flat_map(|reading| reading.addresses.iter().map(|own| (own, reading.redirects))).collect();
    let ports = |is_secure: bool, usual: u16| {
        let mut ports: Vec<u16> =
            all.iter().filter(|(own, _)| own.is_secure == is_secure).map(|(own, _)| own.port).collect();
        ports.sort_unstable();
        ports.dedup();
        if ports == [usual] { Vec::new() } else { ports }
    };
    (site.serving.http_ports, site.serving.https_ports) = (ports(false, 80), ports(true, 443));
    let has_tls = all.iter().any(|(own, _)| own.is_secure);
    let answers_plain = all.iter().any(|(own, redirects)| !own.is_secure && !redirects);
    site.https = if has_tls && !answers_plain { Https::Only } else { Https::Both };
    let single: Vec<_> = all.iter().filter_map(|(own, _)| own.address).collect();
    if let [first, rest @ ..] = &single[..]
        && single.len() == all.len()
        && rest.iter().all(|own| own == first)
    {
        site.address = *first;
        site.serving.by_address = true;
    }
}
