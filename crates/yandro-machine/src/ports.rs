//! Listening sockets and their processes.

use std::net::IpAddr;

use crate::os::{self, ListeningSocket};
use crate::permissions::user_name;

/// A process that listens on a port.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Holder {
    /// Its number; `None` for one of another user, whose files this user may not see.
    pub pid: Option<u32>,
    /// Its name.
    pub program: Option<String>,
    /// Owner of the socket.
    pub user: String,
    /// Whether that is this user.
    pub is_own: bool,
    /// The address that it listens on.
    pub address: IpAddr,
    /// The port that something listens on.
    pub port: u16,
}

/// The sockets that systemd opened for this process, which listen already (`sd_listen_fds(3)`).
///
/// # Errors
/// When one of them isn't for TCP.
pub fn opened_by_systemd() -> std::io::Result<Vec<std::net::TcpListener>> {
    os::opened_by_systemd()
}

/// The first port on which an ordinary user may listen.
pub fn first_of_users() -> u16 {
    os::first_of_users()
}

impl std::fmt::Display for Holder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match (&self.program, self.pid) {
            (Some(program), Some(pid)) => write!(f, "`{program}` (process {pid}, user {})", self.user),
            _ => write!(f, "a process of user {}", self.user),
        }
    }
}

/// The processes that listen on a port.
pub fn holders(port: u16) -> Vec<Holder> {
    // Which process has a socket takes long to find out.
    if listening(port).is_empty() {
        return Vec::new();
    }
    let mut all = all();
    all.retain(|holder| holder.port == port);
    all
}

/// Everybody who listens.
pub fn all() -> Vec<Holder> {
    let this = os::this_user();
    let holder = |socket: ListeningSocket| Holder {
        program: socket.pid.and_then(|pid| Some(os::process(pid.try_into().ok()?)?.name)),
        pid: socket.pid,
        user: user_name(socket.user),
        is_own: socket.user == this || os::is_root(),
        address: socket.address,
        port: socket.port,
    };
    os::listening(true).into_iter().map(holder).collect()
}

/// The addresses on which something listens on a port.
pub(crate) fn listening(port: u16) -> Vec<IpAddr> {
    os::listening(false).into_iter().filter(|socket| socket.port == port).map(|socket| socket.address).collect()
}

/// How many connections wait on a port to be taken by a program.
pub(crate) fn waiting(port: u16) -> usize {
    os::listening(false).iter().filter(|socket| socket.port == port).map(|socket| socket.waiting).sum()
}

/// Whether something listens on a port for other computers, too.
pub fn is_open_to_the_network(port: u16) -> bool {
    listening(port).iter().any(|address| !address.to_canonical().is_loopback())
}

/// The holder of a port that a server's message says is in use.
pub fn explain(words: &str) -> Option<String> {
    // As Apache httpd says it, and as nginx does.
    let after = ["could not bind to address ", "bind() to "].iter().find_map(|own| words.split(own).nth(1))?;
    let address = after.split_whitespace().next()?;
    let port = address.rsplit_once(':')?.1.trim_end_matches(|c: char| !c.is_ascii_digit()).parse().ok()?;
    let holder = holders(port).into_iter().next()?;
    Some(format!("port {port} is held by {holder}"))
}

#[cfg(test)]
mod tests {
    use std::net::Ipv4Addr;

    use super::*;

    #[test]
    fn this_very_process_is_found_by_its_port() {
        let listener = std::net::TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).unwrap();
        let port = listener.local_addr().unwrap().port();
        let found = holders(port);
        assert_eq!(found.len(), 1);
        assert_eq!((found[0].pid, found[0].address), (Some(std::process::id()), IpAddr::V4(Ipv4Addr::LOCALHOST)));
        let words =
            format!("(98)Address already in use: AH00072: make_sock: could not bind to address 127.0.0.1:{port}\nno");
        assert!(explain(&words).unwrap().starts_with(&format!("port {port} is held by `")));
        assert_eq!(explain("Syntax error"), None);
    }
}
