//! Virtual hosts, whatever server has them, and which answers where.

use super::files::Place;

/// A virtual host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct VirtualHost {
    /// Its addresses, as they are compared: `*:80`, `10.0.0.1:*`, `[::1]:443`.
    pub addresses: Vec<String>,
    /// Its name without scheme and port; `None` if it has none.
    pub name: Option<String>,
    /// Its further names, wildcards among them.
    pub aliases: Vec<String>,
    /// The folder that it serves.
    pub document_root: Option<String>,
    /// Its upstream, or its redirect; `None` for one that
    /// serves files.
    pub instead: Option<String>,
    /// Whether it speaks TLS.
    pub tls: bool,
    /// Its opening tag.
    pub place: Place,
    /// The modules without which the server doesn't read it, as the configuration names them.
    pub guards: Vec<String>,
}

impl VirtualHost {
    /// Whether it is read only where this module is there.
    pub fn is_guarded_by(&self, module: &str) -> bool {
        is_guard(&self.guards, module)
    }
}

/// Whether a module is among those that sections ask for, by its identifier or by its source file.
pub(crate) fn is_guard(guards: &[String], module: &str) -> bool {
    let names = [format!("{module}_module"), format!("mod_{module}.c")];
    guards.iter().any(|guard| names.contains(guard))
}

/// The virtual hosts on one address, in the order in which names are compared.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answering<'c> {
    /// The address, such as `*:443`.
    pub address: String,
    /// In the order in which the server tries them.
    pub hosts: Vec<&'c VirtualHost>,
    /// Index of the default virtual host, for unknown host names.
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

/// The virtual hosts that are asked for a request to this address and port: those on the address
/// itself if there are any, else those on all addresses (Apache httpd manual, "An In-Depth Discussion
/// of Virtual Host Matching"; nginx manual, "How nginx processes a request").
pub fn asked_at<'a, 'c>(
    answering: &'a [Answering<'c>],
    address: core::net::IpAddr,
    port: u16,
) -> Option<&'a Answering<'c>> {
    let socket = core::net::SocketAddr::new(address, port).to_string();
    // One without a port, as Apache httpd allows it, comes after one with the port.
    let any_port = if address.is_ipv4() { format!("{address}:*") } else { format!("[{address}]:*") };
    let own = [socket, any_port].into_iter().find_map(|own| answering.iter().find(|at| at.address == own));
    let all = if address.is_ipv4() {
        vec![format!("*:{port}"), format!("0.0.0.0:{port}"), "*:*".to_owned()]
    } else {
        vec![format!("[::]:{port}"), format!("*:{port}"), "*:*".to_owned()]
    };
    own.or_else(|| all.iter().find_map(|wanted| answering.iter().find(|at| at.address == *wanted)))
}

/// The virtual host of Apache httpd that answers a name: the first that has it, as such or by a
/// pattern, or else the first. With it, whether it has the name.
pub(crate) fn first_that_has<'h>(at: &Answering<'h>, name: &str) -> Option<(&'h VirtualHost, bool)> {
    let has = |host: &VirtualHost| host.name.iter().chain(&host.aliases).any(|own| fits(own, name));
    let named = at.hosts.iter().find(|host| has(host));
    named.map(|host| (*host, true)).or_else(|| at.hosts.first().map(|host| (*host, false)))
}

/// Whether a pattern with `*` and `?` matches a name, whatever the case.
fn fits(pattern: &str, name: &str) -> bool {
    fn from(pattern: &[u8], name: &[u8]) -> bool {
        match (pattern.split_first(), name.split_first()) {
            (None, None) => true,
            (Some((b'*', rest)), _) => {
                from(rest, name) || name.split_first().is_some_and(|(_, later)| from(pattern, later))
            }
            (Some((b'?', rest)), Some((_, later))) => from(rest, later),
            (Some((own, rest)), Some((other, later))) => own.eq_ignore_ascii_case(other) && from(rest, later),
            _ => false,
        }
    }
    from(pattern.as_bytes(), name.as_bytes())
}
