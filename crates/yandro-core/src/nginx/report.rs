//! What nginx says of itself with `-V`.

use camino::{Utf8Path, Utf8PathBuf};

/// The parts of that which matter here.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ServerReport {
    /// The version.
    pub version: [u32; 3],
    /// The main file (`--conf-path`).
    pub main: Utf8PathBuf,
    /// The file of the main process's number (`--pid-path`).
    pub pid_file: Utf8PathBuf,
}

/// What it was built with where it says nothing else.
const PREFIX: &str = "/usr/local/nginx";

impl ServerReport {
    /// Reads what the program prints; `None` if that isn't nginx's.
    pub fn read(words: &str) -> Option<Self> {
        let text = words.split("nginx version:").nth(1)?.split('/').nth(1)?;
        let number = text.split(|c: char| c.is_whitespace() || c == '-').next()?;
        let mut numbers = number.split('.').map(|part| part.parse().unwrap_or(0));
        let version = [numbers.next()?, numbers.next().unwrap_or(0), numbers.next().unwrap_or(0)];
        let option = |name: &str| {
            let value = words.split_whitespace().find_map(|word| word.strip_prefix(name)?.strip_prefix('='));
            value.map(|value| value.trim_matches('\''))
        };
        let prefix = Utf8Path::new(option("--prefix").unwrap_or(PREFIX));
        let at = |name: &str, usual: &str| prefix.join(option(name).unwrap_or(usual));
        Some(Self { version, main: at("--conf-path", "conf/nginx.conf"), pid_file: at("--pid-path", "logs/nginx.pid") })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_as_it_was_built_or_below_its_prefix() {
        let debian = "nginx version: nginx/1.22.1\nbuilt with OpenSSL 3.0.15\nTLS SNI support enabled\nconfigure arguments: --with-cc-opt='-g -O2' --prefix=/usr/share/nginx --conf-path=/etc/nginx/nginx.conf --pid-path=/run/nginx.pid\n";
        let read = ServerReport::read(debian).unwrap();
        assert_eq!(
            (read.version, read.main.as_str(), read.pid_file.as_str()),
            ([1, 22, 1], "/etc/nginx/nginx.conf", "/run/nginx.pid")
        );
        let own =
            ServerReport::read("nginx version: ferries/1.27.1.2\nconfigure arguments: --prefix=/opt/ferries/nginx\n")
                .unwrap();
        assert_eq!((own.version, own.main.as_str()), ([1, 27, 1], "/opt/ferries/nginx/conf/nginx.conf"));
        assert_eq!(ServerReport::read("Server version: Apache/2.4.62 (Debian)"), None);
    }
}
