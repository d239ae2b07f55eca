//! `settings.toml`.

use camino::Utf8PathBuf;
use serde::Deserialize;
use yandro_core::tables::{self, Value};

use crate::files;
use crate::machine::Machine;

/// What a person can set. Every key has a default.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct Settings {
    /// The built-in server's.
    pub built_in: BuiltInSettings,
    /// How much of the history is kept.
    pub history: HistorySettings,
    /// Servers that can't be found by looking.
    #[serde(rename = "server")]
    pub servers: Vec<NamedServer>,
}

/// A server that the person named.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct NamedServer {
    /// What it is called.
    pub name: String,
    /// What kind of server it is.
    pub kind: NamedKind,
    /// Its main file, absolute.
    pub config: Utf8PathBuf,
    /// Its program, absolute, if it is not the usual one.
    pub program: Option<Utf8PathBuf>,
    /// The command that judges the configuration, in the place of the usual one: a program by
    /// its absolute path and its arguments, run without a shell.
    #[serde(default)]
    pub test: Vec<String>,
    /// The command that has it taken up.
    #[serde(default)]
    pub reload: Vec<String>,
    /// The command that starts the server.
    #[serde(default)]
    pub start: Vec<String>,
    /// The command that stops it.
    #[serde(default)]
    pub stop: Vec<String>,
}

/// The kinds of server that can be named.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum NamedKind {
    /// Apache httpd.
    Apache,
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

/// Where the built-in server listens.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct BuiltInSettings {
    /// Its port for HTTP.
    pub http_port: u16,
    /// Its port for HTTPS.
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
    let command = |words: &[String]| (!words.is_empty()).then(|| Value::Texts(words.to_vec()));
    let text_of = |text: &dyn ToString| Some(Value::Text(text.to_string()));
    let fields = [
        ("name", text_of(&server.name)),
        ("kind", text_of(&server.kind.word())),
        ("config", text_of(&server.config)),
        ("program", server.program.as_ref().and_then(|program| text_of(program))),
        ("test", command(&server.test)),
        ("reload", command(&server.reload)),
        ("start", command(&server.start)),
        ("stop", command(&server.stop)),
    ];
    tables::set(text, HEAD, "server", |table| tables::text_of(table, "name") == Some(&server.name), &fields)
}

/// The text of the settings without the server of this name.
pub fn without_server(text: &str, name: &str) -> String {
    tables::remove(text, "server", |table| tables::text_of(table, "name") == Some(name))
}

impl NamedKind {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Apache => "apache",
        }
    }
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
        /// What is wrong.
        message: String,
        /// The line that is meant.
        excerpt: yandro_core::source::Excerpt,
    },
}

/// Reads the settings; without a file, the defaults.
///
/// # Errors
/// When the file is there and can't be read or doesn't parse.
pub fn read(machine: &Machine) -> Result<Settings, SettingsError> {
    let path = machine.places.settings();
    let Some(bytes) = files::read_if_there(&path)? else { return Ok(Settings::default()) };
    let text = String::from_utf8_lossy(&bytes).into_owned();
    toml::from_str(&text).map_err(|error| SettingsError::Parse {
        path,
        message: error.message().to_owned(),
        excerpt: yandro_core::source::Excerpt::new(text.as_bytes(), &error.span().unwrap_or(0..0)),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_server_comes_and_goes_and_leaves_what_a_person_wrote() {
        let mine = "# mine\n[built-in]\nhttp-port = 8080 # not 80\n";
        let server = NamedServer {
            name: "ferries".into(),
            kind: NamedKind::Apache,
            config: "/opt/ferries/conf/httpd.conf".into(),
            program: None,
            test: Vec::new(),
            reload: vec!["/opt/ferries/ctl".into(), "say \"graceful\"".into()],
            start: Vec::new(),
            stop: Vec::new(),
        };
        let text = with_server(mine, &server);
        let read: Settings = toml::from_str(&text).unwrap();
        assert_eq!((read.servers.clone(), read.built_in.http_port), (vec![server.clone()], 8080));
        // Named again, it changes where it stands.
        let moved = NamedServer { config: "/opt/tides/httpd.conf".into(), reload: Vec::new(), ..server };
        let changed = with_server(&text, &moved);
        assert_eq!(toml::from_str::<Settings>(&changed).unwrap().servers, [moved]);
        assert_eq!(without_server(&changed, "ferries"), mine);
        assert_eq!(without_server(mine, "tides"), mine);
    }
}
