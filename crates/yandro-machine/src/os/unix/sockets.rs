//! Linux: the sockets that listen for TCP connections, by `sock_diag(7)`; by proc(5) where the kernel has no such table.
//!
//! To read `/proc/net/tcp`, the kernel goes through all places for connections, which takes milliseconds on a machine with
//! much memory.

use core::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::collections::BTreeMap;
use std::fs;
use std::io;

use rustix::net::netlink::SOCK_DIAG;
use rustix::net::{AddressFamily, RecvFlags, SendFlags, SocketFlags, SocketType, recv, send, socket_with};

use super::ListeningSocket;
use super::linux::processes;

/// The kind of a question for the sockets of a family, and of each answer (`linux/sock_diag.h`).
const BY_FAMILY: u16 = 20;
/// The flags of a question for all there are (`linux/netlink.h`: `NLM_F_REQUEST`, `NLM_F_DUMP`).
const ALL: u16 = 0x301;
/// The kinds of messages that end the answers (`linux/netlink.h`).
const ERROR: u16 = 2;
const DONE: u16 = 3;
/// The state of a socket that listens, and the protocol (`linux/tcp.h`, `linux/in.h`).
const LISTEN: u32 = 10;
const TCP: u8 = 6;
/// The lengths of a message's head and of an answer behind it (`inet_diag_msg`).
const HEAD: usize = 16;
const ANSWER: usize = 72;

/// A listening socket and its inode.
type Found = (ListeningSocket, u64);

/// Every socket that listens for TCP connections; with `owners`, the processes that have them, which takes longer.
pub(crate) fn listening(owners: bool) -> Vec<ListeningSocket> {
    let found = asked().unwrap_or_else(|_| read());
    let pids = if owners && !found.is_empty() { socket_owners() } else { BTreeMap::new() };
    found.into_iter().map(|(socket, inode)| ListeningSocket { pid: pids.get(&inode).copied(), ..socket }).collect()
}

/// Asks the kernel.
fn asked() -> io::Result<Vec<Found>> {
    let asking = socket_with(AddressFamily::NETLINK, SocketType::RAW, SocketFlags::CLOEXEC, Some(SOCK_DIAG))?;
    let mut found = Vec::new();
    for family in [AddressFamily::INET, AddressFamily::INET6] {
        send(&asking, &question(family), SendFlags::empty())?;
        let mut buffer = vec![0; 32 * 1024];
        while {
            let (length, _) = recv(&asking, &mut buffer, RecvFlags::empty())?;
            take_answers(&buffer[..length], &mut found)?
        } {}
    }
    Ok(found)
}

/// The question for all sockets of a family that listen: a message's head, then an `inet_diag_req_v2`.
fn question(family: AddressFamily) -> [u8; 72] {
    let mut message = [0; 72];
    message[..4].copy_from_slice(&72_u32.to_ne_bytes());
    message[4..6].copy_from_slice(&BY_FAMILY.to_ne_bytes());
    message[6..8].copy_from_slice(&ALL.to_ne_bytes());
    message[HEAD] = u8::try_from(family.as_raw()).unwrap_or_default();
    message[HEAD + 1] = TCP;
    message[HEAD + 4..HEAD + 8].copy_from_slice(&(1_u32 << LISTEN).to_ne_bytes());
    message
}

/// Takes in the answers of one packet; whether more will come.
fn take_answers(mut packet: &[u8], found: &mut Vec<Found>) -> io::Result<bool> {
    let refused = || io::Error::from(io::ErrorKind::InvalidData);
    while let Some((head, _)) = packet.split_at_checked(HEAD) {
        let length = word(head, 0).and_then(|length| usize::try_from(length).ok()).ok_or_else(refused)?;
        match u16::from_ne_bytes([head[4], head[5]]) {
            DONE => return Ok(false),
            ERROR => return Err(refused()),
            _ => {}
        }
        let answer = packet.get(HEAD..length).ok_or_else(refused)?;
        found.push(of_answer(answer).ok_or_else(refused)?);
        // Each message begins at a multiple of four.
        packet = packet.get(length.next_multiple_of(4)..).unwrap_or_default();
    }
    Ok(true)
}

/// The socket of an answer, an `inet_diag_msg`.
fn of_answer(answer: &[u8]) -> Option<Found> {
    let answer: &[u8; ANSWER] = answer.first_chunk()?;
    let address = &answer[8..24];
    let address = match AddressFamily::from_raw(answer[0].into()) {
        AddressFamily::INET => IpAddr::V4(Ipv4Addr::from(*address.first_chunk::<4>()?)),
        _ => IpAddr::V6(Ipv6Addr::from(*address.first_chunk::<16>()?)),
    };
    let socket = ListeningSocket {
        address,
        port: u16::from_be_bytes([answer[4], answer[5]]),
        // For a listening socket this is the length of its queue.
        waiting: usize::try_from(word(answer, 56)?).ok()?,
        user: word(answer, 64)?,
        pid: None,
    };
    Some((socket, word(answer, 68)?.into()))
}

/// The number at this place of a message.
fn word(message: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_ne_bytes(*message.get(at..)?.first_chunk()?))
}

/// Reads them from the tables of proc(5).
fn read() -> Vec<Found> {
    let mut found = Vec::new();
    for (table, is_v6) in [("/proc/net/tcp", false), ("/proc/net/tcp6", true)] {
        let text = fs::read_to_string(table).unwrap_or_default();
        found.extend(text.lines().skip(1).filter_map(|line| of_line(line, is_v6)));
    }
    found
}

/// The socket of a line, if it listens.
fn of_line(line: &str, is_v6: bool) -> Option<Found> {
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
    // The second number is the length of a listener's queue.
    let waiting = fields.get(4)?.split_once(':').and_then(|(_, queue)| usize::from_str_radix(queue, 16).ok());
    let socket = ListeningSocket {
        address,
        port: u16::from_str_radix(port, 16).ok()?,
        waiting: waiting.unwrap_or_default(),
        user: fields.get(7)?.parse().ok()?,
        pid: None,
    };
    Some((socket, fields.get(9)?.parse().ok()?))
}

/// The process that has each socket, by the socket's inode; the oldest of those that share one. What systemd opened for a
/// service is the service's.
fn socket_owners() -> BTreeMap<u64, u32> {
    let mut found = BTreeMap::new();
    let mut pids: Vec<u32> = processes().into_iter().filter_map(|pid| pid.try_into().ok()).collect();
    pids.sort_unstable();
    let is_manager = |pid: &u32| fs::read(format!("/proc/{pid}/comm")).is_ok_and(|name| name == b"systemd\n");
    let (managers, others): (Vec<u32>, Vec<u32>) = pids.into_iter().partition(is_manager);
    for pid in others.into_iter().chain(managers) {
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

#[cfg(test)]
mod tests {
    use std::net::TcpListener;

    use super::*;

    #[test]
    fn the_kernel_and_its_tables_say_the_same() {
        let held: Vec<TcpListener> =
            ["127.0.0.1:0", "0.0.0.0:0", "[::1]:0"].iter().filter_map(|at| TcpListener::bind(at).ok()).collect();
        let ports: Vec<u16> = held.iter().map(|own| own.local_addr().unwrap().port()).collect();
        let own = |mut found: Vec<Found>| {
            found.retain(|(socket, _)| ports.contains(&socket.port));
            found.sort_by_key(|(_, inode)| *inode);
            found
        };
        let read = own(read());
        assert_eq!(read.len(), held.len());
        // A kernel may have no such table.
        if let Ok(asked) = asked() {
            assert_eq!(own(asked), read);
        }
        assert!(listening(true).iter().any(|socket| socket.pid == Some(std::process::id())));
    }
}
