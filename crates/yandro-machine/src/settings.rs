//! `settings.toml`.

use std::net::IpAddr;

use camino::Utf8PathBuf;
use serde::Deserialize;
use yandro_core::{
    PathPair, PathView, Published, PublishedPort, ServerKind, ServerName, System, TomlValue, remove_table, set_table,
    table_text,
};

use crate::files;
use crate::machine::Machine;
use crate::os;

/// The user's settings. Every key has a default.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct Settings {
    /// The built-in server's.
    pub built_in: BuiltInSettings,
    /// How much of the history is kept.
    pub history: HistorySettings,
    /// The engine of containers.
    pub containers: ContainerSettings,
    /// Servers that can't be found by looking.
    #[serde(rename = "server")]
    pub servers: Vec<NamedServer>,
}

/// A server that the person named.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct NamedServer {
    /// The person's own word for it.
    pub name: ServerName,
    /// Which software it is.
    pub kind: ServerKind,
    /// Its main file, or the folder of sites' files if only that is on this machine; absolute.
    pub config: Utf8PathBuf,
    /// Its program, absolute, if it is not the usual one.
    pub program: Option<Utf8PathBuf>,
    /// This machine's folders, and what they are to the server.
    #[serde(default, deserialize_with = "pairs")]
    pub paths: Vec<PathPair>,
    /// The address that it is reached at, if that is not this machine's own.
    pub address: Option<IpAddr>,
    /// The ports that it is reached at, if they are not its own.
    #[serde(default, deserialize_with = "ports")]
    pub ports: Vec<PublishedPort>,
    /// The command that tests the configuration, instead of the usual one: a program by
    /// its absolute path and its arguments, run without a shell.
    #[serde(default)]
    pub test: Vec<String>,
    /// The command that reloads it.
    #[serde(default)]
    pub reload: Vec<String>,
    /// The command that starts the server.
    #[serde(default)]
    pub start: Vec<String>,
    /// The command that stops it.
    #[serde(default)]
    pub stop: Vec<String>,
    /// Whether root named it, for every user of the machine.
    #[serde(skip)]
    pub is_systems: bool,
}

fn pairs<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<Vec<PathPair>, D::Error> {
    let texts = Vec::<String>::deserialize(deserializer)?;
    texts.iter().map(|text| PathPair::parse(text).map_err(serde::de::Error::custom)).collect()
}

fn ports<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<Vec<PublishedPort>, D::Error> {
    let texts = Vec::<String>::deserialize(deserializer)?;
    texts.iter().map(|text| PublishedPort::parse(text).map_err(serde::de::Error::custom)).collect()
}

impl NamedServer {
    /// A server of which only the configuration's path is known.
    pub fn new(name: ServerName, kind: ServerKind, config: Utf8PathBuf) -> Self {
        Self {
            name,
            kind,
            config,
            program: None,
            paths: Vec::new(),
            address: None,
            ports: Vec::new(),
            test: Vec::new(),
            reload: Vec::new(),
            start: Vec::new(),
            stop: Vec::new(),
            is_systems: false,
        }
    }

    /// Whether it is on another machine, or in a container: its processes are not this machine's.
    pub fn is_elsewhere(&self) -> bool {
        !self.paths.is_empty() || self.address.is_some() || !self.ports.is_empty()
    }

    /// How it sees this machine's files.
    pub fn view(&self, machine: &Machine) -> PathView {
        if self.paths.is_empty() {
            return machine.places.view();
        }
        let here = |pair: &PathPair| PathPair { here: machine.path(pair.here.as_str()), there: pair.there.clone() };
        PathView::Pairs(self.paths.iter().map(here).collect())
    }

    /// The ports that it is reached at.
    pub fn published(&self) -> Published {
        Published(self.ports.clone())
    }
}

/// The engine of containers.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct ContainerSettings {
    /// The program by which it is asked: a name or an absolute path; `None` for the first that is found.
    pub engine: Option<String>,
}

/// How much of the history is kept.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct HistorySettings {
    /// The most change sets.
    pub number: usize,
    /// The most days.
    pub days: u32,
}

impl Default for HistorySettings {
    fn default() -> Self {
        Self { number: 200, days: 365 }
    }
}

/// Ports of the built-in server.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct BuiltInSettings {
    /// Where it redirects to HTTPS.
    pub http_port: u16,
    /// Where it serves sites.
    pub https_port: u16,
}

impl Default for BuiltInSettings {
    fn default() -> Self {
        Self { http_port: 80, https_port: 443 }
    }
}

/// How a new file begins.
const HEAD: &str = "# Settings of yandro. Edit this file as you like.\n";

/// The text of the settings with a server in them.
pub fn with_server(text: &str, server: &NamedServer) -> String {
    let texts = |words: &[String]| (!words.is_empty()).then(|| TomlValue::Texts(words.to_vec()));
    let all = |values: Vec<String>| texts(&values);
    let text_of = |text: &dyn ToString| Some(TomlValue::Text(text.to_string()));
    let fields = [
        ("name", text_of(&server.name)),
        ("kind", text_of(&server.kind.word())),
        ("config", text_of(&server.config)),
        ("program", server.program.as_ref().and_then(|program| text_of(program))),
        ("paths", all(server.paths.iter().map(ToString::to_string).collect())),
        ("address", server.address.as_ref().and_then(|address| text_of(address))),
        ("ports", all(server.ports.iter().map(ToString::to_string).collect())),
        ("test", texts(&server.test)),
        ("reload", texts(&server.reload)),
        ("start", texts(&server.start)),
        ("stop", texts(&server.stop)),
    ];
    set_table(text, HEAD, "server", |table| table_text(table, "name") == Some(server.name.as_str()), &fields)
}

/// The text of the settings without the server of this name.
pub fn without_server(text: &str, name: ServerName) -> String {
    remove_table(text, "server", |table| table_text(table, "name") == Some(name.as_str()))
}

/// Why the settings can't be read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum SettingsError {
    /// The file can't be read.
    #[error(transparent)]
    File(#[from] files::FileError),
    /// The file doesn't parse.
    #[error("{path}:{}: {message}\n{excerpt}", .excerpt.position.line)]
    Parse {
        /// The file.
        path: camino::Utf8PathBuf,
        /// The fault.
        message: String,
        /// The line that is meant.
        excerpt: yandro_core::Excerpt,
    },
}

/// Reads the settings; without a file, the defaults.
///
/// # Errors
/// When the file is there and can't be read or doesn't parse.
pub fn read(machine: &Machine) -> Result<Settings, SettingsError> {
    let path = machine.places.settings();
    let Some(bytes) = files::read_if_there(&path)? else { return Ok(Settings::default()) };
    parse(path, &bytes)
}

/// The servers that root has named for every user of the machine, in a file of the form of the settings. On the real
/// machine it counts only while nobody else can change it.
///
/// # Errors
/// When the file is there and can't be read, doesn't parse, or others can change it.
pub fn system_servers(machine: &Machine) -> Result<Vec<NamedServer>, SettingsError> {
    let path = system_servers_file(machine);
    let Some(bytes) = files::read_if_there(&path)? else { return Ok(Vec::new()) };
    if machine.is_real() && !os::is_roots_file(&path) {
        let words = "others than root can change this file or its folder, so the servers in it don't count";
        return Err(files::FileError::at(&path)(std::io::Error::other(words)).into());
    }
    let servers = parse(path, &bytes)?.servers;
    Ok(servers.into_iter().map(|server| NamedServer { is_systems: true, ..server }).collect())
}

/// The file with the servers that root has named.
pub fn system_servers_file(machine: &Machine) -> Utf8PathBuf {
    machine.path(machine.system.system_servers())
}

/// Makes the folder of that file such that nobody else can change it. On Unix a change of root's makes it so by itself.
///
/// # Errors
/// When others can change the folder, so that a server in it wouldn't count; otherwise as the system says.
pub fn make_system_folder(machine: &Machine) -> std::io::Result<()> {
    let file = system_servers_file(machine);
    let Some(folder) = file.parent().filter(|_| machine.is_real()) else { return Ok(()) };
    if machine.system == System::Windows {
        os::make_guarded_folders(folder)?;
    }
    if os::is_roots_alone(&file) {
        return Ok(());
    }
    let root = machine.system.administrator();
    Err(std::io::Error::other(format!(
        "others than {root} can change {folder} or a folder above it, so that a server named there would not count; nothing was changed"
    )))
}

fn parse(path: Utf8PathBuf, bytes: &[u8]) -> Result<Settings, SettingsError> {
    let text = String::from_utf8_lossy(bytes).into_owned();
    toml::from_str(&text).map_err(|error| SettingsError::Parse {
        path,
        message: error.message().to_owned(),
        excerpt: yandro_core::Excerpt::new(text.as_bytes(), &error.span().unwrap_or(0..0)),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_server_comes_and_goes_and_leaves_what_a_person_wrote() {
        let mine = "# mine\n[built-in]\nhttp-port = 8080 # not 80\n";
        let server = NamedServer {
            name: ServerName::parse("ferries").unwrap(),
            kind: ServerKind::Apache,
            config: "/opt/ferries/conf/httpd.conf".into(),
            program: None,
            paths: vec![PathPair::parse("/home/ada/saltmarsh=/srv/www").unwrap()],
            address: Some([10, 0, 0, 2].into()),
            ports: vec![PublishedPort::parse("8443:443").unwrap()],
            test: Vec::new(),
            reload: vec!["/opt/ferries/ctl".into(), "say \"graceful\"".into()],
            start: Vec::new(),
            stop: Vec::new(),
            is_systems: false,
        };
        let text = with_server(mine, &server);
        let read: Settings = toml::from_str(&text).unwrap();
        assert_eq!((read.servers.clone(), read.built_in.http_port), (vec![server.clone()], 8080));
        // Added again, it changes in its place.
        let moved = NamedServer { config: "/opt/tides/httpd.conf".into(), reload: Vec::new(), ..server };
        let changed = with_server(&text, &moved);
        assert_eq!(toml::from_str::<Settings>(&changed).unwrap().servers, [moved]);
        assert_eq!(without_server(&changed, ServerName::parse("ferries").unwrap()), mine);
        assert_eq!(without_server(mine, ServerName::parse("tides").unwrap()), mine);
    }
}
