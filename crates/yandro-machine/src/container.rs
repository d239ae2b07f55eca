//! Containers, asked for at their engine by the command line that podman and others share.

use std::collections::BTreeMap;
use std::io;

use camino::{Utf8Path, Utf8PathBuf};
use serde::Deserialize;
use yandro_core::{ControlProgram, PathPair, PathView, PublishedPort, ServerKind, ServerPath};

use crate::process::{self, RunAs};

/// Names of engines' programs, the likeliest first.
pub const ENGINES: [&str; 3] = ["podman", "docker", "nerdctl"];
/// An engine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Engine {
    program: Utf8PathBuf,
}

/// A container as its engine describes it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Container {
    /// Whether it runs.
    pub is_running: bool,
    /// The folders of this machine that are mounted into it.
    pub mounts: Vec<PathPair>,
    /// Its published ports.
    pub ports: Vec<PublishedPort>,
}

/// A container that can't be asked for.
#[derive(Debug, thiserror::Error)]
pub enum ContainerError {
    /// The engine's program can't be started.
    #[error("{program} can't be started: {source}")]
    Engine {
        /// The program.
        program: Utf8PathBuf,
        /// The system's words.
        #[source]
        source: io::Error,
    },
    /// The engine has no such container, or doesn't answer; its own words.
    #[error("{0}")]
    Refused(String),
    /// The description is none.
    #[error("the engine's description of the container can't be read: {0}")]
    Unreadable(#[from] serde_json::Error),
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Described {
    state: DescribedState,
    #[serde(default)]
    mounts: Vec<DescribedMount>,
    #[serde(default)]
    network_settings: DescribedNetwork,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct DescribedState {
    running: bool,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct DescribedMount {
    #[serde(default)]
    source: String,
    destination: String,
}

#[derive(Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
struct DescribedNetwork {
    ports: Option<BTreeMap<String, Option<Vec<DescribedPort>>>>,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct DescribedPort {
    host_port: String,
}

impl Engine {
    /// The engine with this program, absolute.
    pub fn new(program: Utf8PathBuf) -> Self {
        Self { program }
    }

    /// A command of its command line, as words that start with a program's absolute path.
    pub fn words(&self, rest: &[&str]) -> Vec<String> {
        std::iter::once(self.program.as_str()).chain(rest.iter().copied()).map(str::to_owned).collect()
    }

    /// The same as a person types it.
    pub fn typed<'a>(&'a self, rest: &[&'a str]) -> Vec<&'a str> {
        let name = self.program.file_name().unwrap_or(self.program.as_str());
        std::iter::once(name).chain(rest.iter().copied()).collect()
    }

    /// An engine without root finds its containers by its user's environment.
    fn run(&self, rest: &[&str]) -> Result<process::Ran, ContainerError> {
        process::run_with_environment(&self.program, rest, RunAs::unless(false))
            .map_err(|source| ContainerError::Engine { program: self.program.clone(), source })
    }

    /// A container by its name or number.
    ///
    /// # Errors
    /// When the engine doesn't know it, or can't be asked.
    pub fn container(&self, name: &str) -> Result<Container, ContainerError> {
        // The format keeps warnings on standard error apart from the description.
        let ran = self.run(&["inspect", "--type", "container", name])?;
        if !ran.succeeded {
            // What is before the words is an empty list.
            return Err(ContainerError::Refused(ran.words.trim_start_matches("[]").trim_start().to_owned()));
        }
        read(&ran.words)
    }

    /// Which server is in a running container, of the kind that is said or of any, and what controls it there. `None` if
    /// none is found.
    ///
    /// # Errors
    /// When the engine can't be started.
    pub fn server(
        &self,
        name: &str,
        kind: Option<ServerKind>,
    ) -> Result<Option<(ServerKind, ControlProgram)>, ContainerError> {
        for kind in ServerKind::ALL.iter().copied().filter(|own| kind.is_none_or(|kind| kind == *own)) {
            for control in kind.software().controls() {
                if self.run(&["exec", name, control.program, "-v"])?.succeeded {
                    return Ok(Some((kind, *control)));
                }
            }
        }
        Ok(None)
    }
}

fn read(text: &str) -> Result<Container, ContainerError> {
    let start = text.find('[').unwrap_or(0);
    let mut stream = serde_json::Deserializer::from_str(&text[start..]).into_iter::<Vec<Described>>();
    let described = stream.next().transpose()?.and_then(|all| all.into_iter().next());
    let described = described.ok_or_else(|| ContainerError::Refused("the engine describes no container".to_owned()))?;
    let pair = |mount: &DescribedMount| PathPair::parse(&format!("{}={}", mount.source, mount.destination)).ok();
    let folders = described.mounts.iter().filter(|mount| Utf8Path::new(&mount.source).is_dir());
    let mut mounts: Vec<PathPair> = folders.filter_map(pair).collect();
    // The engine's own order changes.
    mounts.sort_by(|one, other| one.there.as_str().cmp(other.there.as_str()));
    let mut ports: Vec<PublishedPort> = Vec::new();
    for (inside, published) in described.network_settings.ports.unwrap_or_default() {
        let Some(inside) = inside.strip_suffix("/tcp") else { continue };
        // One for each family of addresses, as a rule with the same number.
        let published = published.and_then(|all| all.into_iter().next());
        let port = published.and_then(|own| PublishedPort::parse(&format!("{}:{inside}", own.host_port)).ok());
        ports.extend(port);
    }
    ports.sort_by_key(|port| port.there);
    Ok(Container { is_running: described.state.running, mounts, ports })
}

/// The main file of a kind of server in one of these folders, or else the folder of its sites' files.
pub fn configuration(kind: ServerKind, mounts: &[PathPair]) -> Option<Utf8PathBuf> {
    let (view, layouts) = (PathView::Pairs(mounts.to_vec()), kind.software().layouts());
    let here = |path: &str| view.here(&ServerPath::from(path.to_owned()));
    let main = layouts.iter().filter_map(|known| here(known.main)).find(|path| path.is_file());
    let folder = || {
        let sites = |known: &yandro_core::KnownLayout| known.links.as_ref().map_or(known.sites, |links| links.sites);
        layouts.iter().filter_map(|known| here(sites(known))).find(|path| path.is_dir())
    };
    main.or_else(folder)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_description_is_read_with_what_counts() {
        let folder = tempfile::tempdir().unwrap();
        let here = Utf8Path::from_path(folder.path()).unwrap().canonicalize_utf8().unwrap();
        std::fs::create_dir_all(here.join("conf.d")).unwrap();
        std::fs::write(here.join("one.conf"), "").unwrap();
        let text = format!(
            r#"[{{"Id": "c0", "State": {{"Running": true, "Pid": 7}},
                "Mounts": [{{"Type": "bind", "Source": "{here}/conf.d", "Destination": "/etc/nginx/conf.d", "RW": false}},
                    {{"Type": "bind", "Source": "{here}/one.conf", "Destination": "/etc/one.conf"}},
                    {{"Type": "tmpfs", "Source": "", "Destination": "/tmp"}}],
                "NetworkSettings": {{"Ports": {{"80/tcp": [{{"HostIp": "127.0.0.1", "HostPort": "8080"}},
                    {{"HostIp": "::1", "HostPort": "8080"}}], "443/tcp": null, "53/udp": [{{"HostIp": "", "HostPort": "53"}}]}}}}}}]
            a warning"#
        );
        let container = read(&text).unwrap();
        assert!(container.is_running);
        assert_eq!(container.mounts, [PathPair::parse(&format!("{here}/conf.d=/etc/nginx/conf.d")).unwrap()]);
        assert_eq!(container.ports, [PublishedPort::parse("8080:80").unwrap()]);
        let nginx = ServerKind::parse("nginx").unwrap();
        assert_eq!(configuration(nginx, &container.mounts), Some(here.join("conf.d")));
        assert_eq!(configuration(ServerKind::parse("apache").unwrap(), &container.mounts), None);
        for bad in ["", "[]", "[{}]", "no such container"] {
            assert!(read(bad).is_err(), "{bad}");
        }
    }
}
