//! The output of `nginx -V`.

use crate::server_path::ServerPath;

use crate::servers::ServerReport;

/// Default prefix.
const PREFIX: &str = "/usr/local/nginx";

/// Reads what the program prints; `None` if that isn't nginx's.
pub(super) fn read_report(words: &str) -> Option<ServerReport> {
    let text = words.split("nginx version:").nth(1)?.split('/').nth(1)?;
    let number = text.split(|c: char| c.is_whitespace() || c == '-').next()?;
    let mut numbers = number.split('.').map(|part| part.parse().unwrap_or(0));
    let version = [numbers.next()?, numbers.next().unwrap_or(0), numbers.next().unwrap_or(0)];
    let option = |name: &str| {
        let value = words.split_whitespace().find_map(|word| word.strip_prefix(name)?.strip_prefix('='));
        value.map(|value| value.trim_matches('\''))
    };
    let prefix = &ServerPath::new(option("--prefix").unwrap_or(PREFIX));
    let at = |name: &str, usual: &str| prefix.join(option(name).unwrap_or(usual));
    Some(ServerReport {
        version,
        root: prefix.to_owned(),
        main: at("--conf-path", "conf/nginx.conf"),
        pid_file: Some(at("--pid-path", "logs/nginx.pid")),
        built_in: Vec::new(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_as_it_was_built_or_below_its_prefix() {
        let debian = "nginx version: nginx/1.22.1\nbuilt with OpenSSL 3.0.15\nTLS SNI support enabled\nconfigure arguments: --with-cc-opt='-g -O2' --prefix=/usr/share/nginx --conf-path=/etc/nginx/nginx.conf --pid-path=/run/nginx.pid\n";
        let read = read_report(debian).unwrap();
        assert_eq!(
            (read.version, read.main.as_str(), read.pid_file.as_ref().unwrap().as_str()),
            ([1, 22, 1], "/etc/nginx/nginx.conf", "/run/nginx.pid")
        );
        let own =
            read_report("nginx version: ferries/1.27.1.2\nconfigure arguments: --prefix=/opt/ferries/nginx\n").unwrap();
        assert_eq!((own.version, own.main.as_str()), ([1, 27, 1], "/opt/ferries/nginx/conf/nginx.conf"));
        assert_eq!(read_report("Server version: Apache/2.4.62 (Debian)"), None);
    }
}
