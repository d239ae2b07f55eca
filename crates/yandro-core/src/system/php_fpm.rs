//! Pools of php-fpm, by their configuration files (PHP manual, "FPM configuration").

use crate::config::Place;
use crate::shell::word;
use crate::site::FastCgi;

/// A pool: processes that run PHP, and the address that they answer on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PhpPool {
    /// Its name.
    pub name: String,
    /// The address that it listens on.
    pub address: FastCgi,
    /// The line that says so.
    pub place: Place,
    /// How many requests it answers at once (`pm.max_children`), and the line that says so.
    pub most: Option<(usize, Place)>,
    /// The line that names the owner of its socket (`listen.owner`).
    pub owner: Option<Place>,
    /// The user that runs its PHP files.
    pub user: Option<String>,
}

/// The pools of a configuration file. What php-fpm wouldn't take is left out.
pub fn php_pools(file: &str, text: &str) -> Vec<PhpPool> {
    let mut found: Vec<PhpPool> = Vec::new();
    let mut section = Section::default();
    for (number, line) in text.lines().enumerate() {
        let line = line.split(';').next().unwrap_or_default().trim();
        if let Some(name) = line.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
            found.extend(
                std::mem::replace(&mut section, Section { name: name.to_owned(), ..Section::default() }).pool(),
            );
            continue;
        }
        let Some((key, value)) = line.split_once('=') else { continue };
        let value = value.trim().trim_matches('"').replace("$pool", &section.name);
        let place = Place { file: file.to_owned(), line: number + 1 };
        match key.trim() {
            "listen" => section.listen = address(&value).map(|address| (address, place)),
            "user" => section.user = Some(value),
            "listen.owner" => section.owner = Some(place),
            "pm.max_children" => section.most = value.parse().ok().map(|most| (most, place)),
            _ => {}
        }
    }
    found.extend(section.pool());
    found
}

#[derive(Default)]
struct Section {
    name: String,
    listen: Option<(FastCgi, Place)>,
    most: Option<(usize, Place)>,
    owner: Option<Place>,
    user: Option<String>,
}

impl Section {
    fn pool(self) -> Option<PhpPool> {
        let (address, place) = self.listen?;
        Some(PhpPool { name: self.name, address, place, most: self.most, owner: self.owner, user: self.user })
    }
}

/// An address as a web server on the same machine reaches it: a bare port means all addresses.
fn address(value: &str) -> Option<FastCgi> {
    if value.starts_with('/') {
        return FastCgi::parse(value).ok();
    }
    let port = value.rsplit(':').next()?;
    let is_everywhere = value == port || value.starts_with("0.0.0.0:") || value.starts_with("[::]:");
    FastCgi::parse(&if is_everywhere { format!("127.0.0.1:{port}") } else { value.to_owned() }).ok()
}

impl PhpPool {
    /// The command that makes a user the owner of its socket, from its next start on.
    pub fn give_socket_to(&self, user: &str) -> String {
        let script = match &self.owner {
            Some(place) => format!("{}s/=.*/= {user}/", place.line),
            None => format!("{}a listen.owner = {user}", self.place.line),
        };
        format!("sudo sed -i {} {}", word(&script), word(&self.place.file))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pools_are_read_with_their_lines() {
        let text = "; php\n[global]\npid = /run/php.pid\n[www]\nuser = www-data\nlisten = /run/php/php8.2-fpm.sock\nlisten.owner = www-data ; who\n;pm.max_children = 9\npm.max_children = 5\n[tides]\nlisten = /run/php/$pool.sock\n[a]\nlisten = 9000\n[b]\nlisten = [::1]:9001\n[c]\nlisten = nothing\n";
        let found = php_pools("/etc/p.conf", text);
        let told: Vec<String> =
            found.iter().map(|own| format!("{} {} {}", own.name, own.address, own.place.line)).collect();
        assert_eq!(
            told,
            [
                "www /run/php/php8.2-fpm.sock 6",
                "tides /run/php/tides.sock 11",
                "a 127.0.0.1:9000 13",
                "b [::1]:9001 15"
            ]
        );
        assert_eq!(found[0].most.as_ref().map(|(most, place)| (*most, place.line)), Some((5, 9)));
        assert_eq!(found[0].give_socket_to("nginx"), "sudo sed -i '7s/=.*/= nginx/' /etc/p.conf");
        assert_eq!(found[1].give_socket_to("nginx"), "sudo sed -i '11a listen.owner = nginx' /etc/p.conf");
    }
}
