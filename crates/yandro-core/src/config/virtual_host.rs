//! Virtual hosts, whatever server has them, and which answers where.

use super::files::Place;

/// A virtual host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct VirtualHost {
    /// Its addresses, as they are compared: `*:80`, `10.0.0.1:*`, `[::1]:443`.
    pub addresses: Vec<String>,
    /// Its name without scheme and port; `None` if it has none of its own.
    pub name: Option<String>,
    /// Its further names, wildcards among them.
    pub aliases: Vec<String>,
    /// The folder that it serves.
    pub document_root: Option<String>,
    /// Where it passes every request on to, or what it does else, in a word; `None` for one that
    /// serves files.
    pub instead: Option<String>,
    /// Whether it speaks TLS.
    pub tls: bool,
    /// Its opening tag.
    pub place: Place,
}

/// The virtual hosts on one address, in the order in which names are compared.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answering<'c> {
    /// The address, such as `*:443`.
    pub address: String,
    /// The virtual hosts.
    pub hosts: Vec<&'c VirtualHost>,
    /// Which of them answers for names that none has.
    pub default: usize,
}

impl Answering<'_> {
    /// The names that more than one of these virtual hosts has: the first of them answers.
    pub fn collisions(&self) -> Vec<(String, &Place, &Place)> {
        let mut seen: Vec<(String, &Place)> = Vec::new();
        let mut found = Vec::new();
        for host in &self.hosts {
            for name in host.name.iter().chain(&host.aliases).map(|name| name.to_ascii_lowercase()) {
                match seen.iter().find(|(other, _)| *other == name) {
                    Some((_, first)) if **first != host.place => found.push((name, *first, &host.place)),
                    Some(_) => {}
                    None => seen.push((name, &host.place)),
                }
            }
        }
        found
    }
}

/// The virtual hosts by address, each address at its first place.
pub fn by_address(hosts: &[VirtualHost]) -> Vec<Answering<'_>> {
    let mut found: Vec<Answering<'_>> = Vec::new();
    for host in hosts {
        for address in &host.addresses {
            match found.iter_mut().find(|own| own.address == *address) {
                Some(own) if own.hosts.last().is_some_and(|last| std::ptr::eq(*last, host)) => {}
                Some(own) => own.hosts.push(host),
                None => found.push(Answering { address: address.clone(), hosts: vec![host], default: 0 }),
            }
        }
    }
    found
}
