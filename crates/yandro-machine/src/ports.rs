//! Listening sockets and their processes, by proc(5).

use std::collections::BTreeMap;
use std::fs;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

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

/// The first port on which an ordinary user may listen (ip(7), `ip_unprivileged_port_start`).
pub fn first_of_users() -> u16 {
    let set = std::fs::read_to_string("/proc/sys/net/ipv4/ip_unprivileged_port_start");
    set.ok().and_then(|text| text.trim().parse().ok()).unwrap_or(1024)
}

impl std::fmt::Display for Holder {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match (&self.program, self.pid) {
            (Some(program), Some(pid)) => write!(f, "`{program}` (process {pid}, user {})", self.user),
            _ => write!(f, "a process of user {}", self.user),
        }
    }
}

/// A listening socket.
struct Socket {
    address: IpAddr,
    port: u16,
    /// How many connections wait to be taken.
    waiting: usize,
    uid: u32,
    inode: u64,
}

/// The processes that listen on a port.
pub fn holders(port: u16) -> Vec<Holder> {
    of(sockets().into_iter().filter(|socket| socket.port == port).collect())
}

/// Everybody who listens.
pub fn all() -> Vec<Holder> {
    of(sockets())
}

fn of(sockets: Vec<Socket>) -> Vec<Holder> {
    if sockets.is_empty() {
        return Vec::new();
    }
    let owners = owners();
    let this = rustix::process::geteuid().as_raw();
    let holder = |socket: Socket| {
        let pid = owners.get(&socket.inode).copied();
        Holder {
            program: pid.and_then(name_of),
            pid,
            user: user_name(socket.uid),
            is_own: socket.uid == this || this == 0,
            address: socket.address,
            port: socket.port,
        }
    };
    sockets.into_iter().map(holder).collect()
}

/// The addresses on which something listens on a port.
pub(crate) fn listening(port: u16) -> Vec<IpAddr> {
    sockets().into_iter().filter(|socket| socket.port == port).map(|socket| socket.address).collect()
}

/// How many connections wait on a port to be taken by a program.
pub(crate) fn waiting(port: u16) -> usize {
    sockets().iter().filter(|socket| socket.port == port).map(|socket| socket.waiting).sum()
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

/// Every socket that listens.
fn sockets() -> Vec<Socket> {
    let mut found = Vec::new();
    for (table, is_v6) in [("/proc/net/tcp", false), ("/proc/net/tcp6", true)] {
        let text = fs::read_to_string(table).unwrap_or_default();
        found.extend(text.lines().skip(1).filter_map(|line| socket(line, is_v6)));
    }
    found
}

fn socket(line: &str, is_v6: bool) -> Option<Socket> {
    let fields: Vec<&str> = line.split_whitespace().collect();
    let (local, state) = (fields.get(1)?, fields.get(3)?);
    if *state != "0A" {
        return None;
    }
    let (address, port) = local.split_once(':')?;
    // Words in the byte order of the machine.
    let word = |at: usize| u32::from_str_radix(address.get(at..at + 8)?, 16).ok().map(u32::to_ne_bytes);
    let address = if is_v6 {
        let bytes: Vec<u8> = [0, 8, 16, 24].map(word).into_iter().collect::<Option<Vec<_>>>()?.concat();
        IpAddr::V6(Ipv6Addr::from(<[u8; 16]>::try_from(bytes).ok()?))
    } else {
        IpAddr::V4(Ipv4Addr::from(word(0)?))
    };
    let port = u16::from_str_radix(port, 16).ok()?;
    // The second number is the length of a listener's queue (proc(5)).
    let waiting = fields.get(4)?.split_once(':').and_then(|(_, queue)| usize::from_str_radix(queue, 16).ok());
    Some(Socket {
        address,
        port,
        waiting: waiting.unwrap_or_default(),
        uid: fields.get(7)?.parse().ok()?,
        inode: fields.get(9)?.parse().ok()?,
    })
}

/// The process that has each socket, by the socket's inode; the oldest of those that share one.
fn owners() -> BTreeMap<u64, u32> {
    let mut found = BTreeMap::new();
    let processes = fs::read_dir("/proc").into_iter().flatten().flatten();
    let mut pids: Vec<u32> = processes.filter_map(|entry| entry.file_name().to_str()?.parse().ok()).collect();
    pids.sort_unstable();
    for pid in pids {
        for entry in fs::read_dir(format!("/proc/{pid}/fd")).into_iter().flatten().flatten() {
            let target = fs::read_link(entry.path()).unwrap_or_default();
            let inode = target.to_str().and_then(|text| text.strip_prefix("socket:[")?.strip_suffix(']')?.parse().ok());
            if let Some(inode) = inode {
                found.entry(inode).or_insert(pid);
            }
        }
    }
    found
}

fn name_of(pid: u32) -> Option<String> {
    Some(fs::read_to_string(format!("/proc/{pid}/comm")).ok()?.trim().to_owned())
}

#[cfg(test)]
mod tests {
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
