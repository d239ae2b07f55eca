//! `settings.toml`.

use camino::Utf8PathBuf;
use serde::{Deserialize, Serialize};

use crate::apache::Commands;
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
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct NamedServer {
    /// What it is called.
    pub name: String,
    /// What kind of server it is.
    pub kind: NamedKind,
    /// Its main file, absolute.
    pub config: Utf8PathBuf,
    /// Its program, absolute, if it is not the usual one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub program: Option<Utf8PathBuf>,
    /// Commands in the place of the usual ones.
    #[serde(default, skip_serializing_if = "Commands::is_empty")]
    pub commands: Commands,
}

/// The kinds of server that can be named.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
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
