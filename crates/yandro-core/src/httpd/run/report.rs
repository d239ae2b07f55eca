//! What the server says of itself.

use camino::Utf8PathBuf;

/// From `httpd -V` and `httpd -l`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ServerReport {
    /// Its version, such as 2.4.66.
    pub version: [u32; 3],
    /// The folder that it starts from (`HTTPD_ROOT`).
    pub root: Utf8PathBuf,
    /// Its main file (`SERVER_CONFIG_FILE`), absolute.
    pub main: Utf8PathBuf,
    /// The modules that are built in, by the names of their sources.
    pub built_in: Vec<String>,
}

impl ServerReport {
    /// Reads what the two options print; what is not said stays empty.
    pub fn read(version: &str, modules: &str) -> Self {
        let quoted = |key: &str| {
            let line =
                version.lines().find_map(|line| line.trim().strip_prefix("-D ")?.strip_prefix(key)?.strip_prefix('='));
            Utf8PathBuf::from(line.unwrap_or_default().trim_matches('"'))
        };
        let number = version
            .lines()
            .find_map(|line| line.strip_prefix("Server version:")?.split_once('/').map(|(_, rest)| rest));
        let number = number.unwrap_or_default().split_whitespace().next().unwrap_or_default();
        let root = quoted("HTTPD_ROOT");
        Self {
            version: numbers(number),
            main: root.join(quoted("SERVER_CONFIG_FILE")),
            root,
            built_in: modules
                .lines()
                .skip(1)
                .map(|line| line.trim().to_owned())
                .filter(|line| !line.is_empty())
                .collect(),
        }
    }
}

/// Three numbers; those that aren't said are 0.
pub(super) fn numbers(text: &str) -> [u32; 3] {
    let mut parts = text.split('.').map(|part| part.parse().unwrap_or(0));
    [parts.next().unwrap_or(0), parts.next().unwrap_or(0), parts.next().unwrap_or(0)]
}
