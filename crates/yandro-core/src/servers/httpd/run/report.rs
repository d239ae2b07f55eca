//! The server's report about itself.

use crate::server_path::ServerPath;

use crate::servers::ServerReport;

/// Reads what `httpd -V` and `httpd -l` print; what is not said stays empty.
pub(in crate::servers) fn read_report(version: &str, modules: &str) -> ServerReport {
    let quoted = |key: &str| {
        let line =
            version.lines().find_map(|line| line.trim().strip_prefix("-D ")?.strip_prefix(key)?.strip_prefix('='));
        ServerPath::from(line.unwrap_or_default().trim_matches('"'))
    };
    let number =
        version.lines().find_map(|line| line.strip_prefix("Server version:")?.split_once('/').map(|(_, rest)| rest));
    let number = number.unwrap_or_default().split_whitespace().next().unwrap_or_default();
    let root = quoted("HTTPD_ROOT");
    ServerReport {
        version: numbers(number),
        pid_file: None,
        main: root.join(quoted("SERVER_CONFIG_FILE")),
        root,
        built_in: modules.lines().skip(1).map(|line| line.trim().to_owned()).filter(|line| !line.is_empty()).collect(),
    }
}

/// Three numbers; those that aren't said are 0.
pub(super) fn numbers(text: &str) -> [u32; 3] {
    let mut parts = text.split('.').map(|part| part.parse().unwrap_or(0));
    [parts.next().unwrap_or(0), parts.next().unwrap_or(0), parts.next().unwrap_or(0)]
}
