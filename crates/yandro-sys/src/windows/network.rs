//! Listening sockets and the addresses of interfaces.

use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::ptr;

use windows_sys::Win32::Foundation::ERROR_INSUFFICIENT_BUFFER;
use windows_sys::Win32::NetworkManagement::IpHelper::{
    GAA_FLAG_SKIP_ANYCAST, GAA_FLAG_SKIP_DNS_SERVER, GAA_FLAG_SKIP_MULTICAST, GetAdaptersAddresses,
    GetExtendedTcpTable, IP_ADAPTER_ADDRESSES_LH, TCP_TABLE_OWNER_PID_LISTENER,
};
use windows_sys::Win32::Networking::WinSock::{AF_INET, AF_INET6, AF_UNSPEC, SOCKADDR_IN, SOCKADDR_IN6};

#[link(name = "dnsapi")]
unsafe extern "system" {
    /// The call behind `ipconfig /flushdns`.
    fn DnsFlushResolverCache() -> i32;
}

/// Has the system's resolver forget its answers.
///
/// # Errors
/// When it refuses.
pub fn flush_names() -> io::Result<()> {
    // SAFETY: the call has no conditions.
    super::checked(unsafe { DnsFlushResolverCache() })
}

/// A socket that listens for TCP connections.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Listening {
    /// The address that it listens on.
    pub address: IpAddr,
    /// Its port.
    pub port: u16,
    /// The process that has it; 0 where the system doesn't tell.
    pub pid: u32,
}

/// Every socket that listens for TCP connections.
pub fn listening() -> Vec<Listening> {
    // As `MIB_TCPROW_OWNER_PID`: state, address, port, two of the remote end, process.
    let v4 = rows(AF_INET, 24).into_iter().filter_map(|row| {
        let address: [u8; 4] = row.get(4..8)?.try_into().ok()?;
        Some(Listening { address: Ipv4Addr::from(address).into(), port: port(&row, 8)?, pid: number(&row, 20)? })
    });
    // As `MIB_TCP6ROW_OWNER_PID`: address, scope, port, three of the remote end, state, process.
    let v6 = rows(AF_INET6, 56).into_iter().filter_map(|row| {
        let address: [u8; 16] = row.get(..16)?.try_into().ok()?;
        Some(Listening { address: Ipv6Addr::from(address).into(), port: port(&row, 20)?, pid: number(&row, 52)? })
    });
    v4.chain(v6).collect()
}

fn number(row: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_ne_bytes(row.get(at..at + 4)?.try_into().ok()?))
}

/// In the order of bytes of the network.
fn port(row: &[u8], at: usize) -> Option<u16> {
    Some(u16::from_be_bytes(row.get(at..at + 2)?.try_into().ok()?))
}

/// The rows of the system's table of listeners, each of so many bytes.
fn rows(family: u16, width: usize) -> Vec<Vec<u8>> {
    let mut table: Vec<u8> = Vec::new();
    let mut size = 0;
    // It may grow between two calls.
    for _ in 0..8 {
        let out = if table.is_empty() { ptr::null_mut() } else { table.as_mut_ptr().cast() };
        // SAFETY: the table has the length that is passed, or is none; it lives until the call returns.
        let code =
            unsafe { GetExtendedTcpTable(out, &raw mut size, 0, family.into(), TCP_TABLE_OWNER_PID_LISTENER, 0) };
        if code == ERROR_INSUFFICIENT_BUFFER {
            table = vec![0; size as usize + width * 16];
            size = super::length(&table);
        } else if code == 0 && !table.is_empty() {
            break;
        } else {
            return Vec::new();
        }
    }
    let count = number(&table, 0).unwrap_or(0) as usize;
    table.get(4..).unwrap_or_default().chunks_exact(width).take(count).map(<[u8]>::to_vec).collect()
}

/// The addresses of the interfaces, each with the name of its interface.
pub fn addresses() -> Vec<(String, IpAddr)> {
    const FLAGS: u32 = GAA_FLAG_SKIP_ANYCAST | GAA_FLAG_SKIP_MULTICAST | GAA_FLAG_SKIP_DNS_SERVER;
    // Aligned for the structures in it.
    let mut buffer = vec![0_u64; 4096];
    for _ in 0..4 {
        let mut size = u32::try_from(buffer.len() * 8).unwrap_or(u32::MAX);
        let out = buffer.as_mut_ptr().cast();
        // SAFETY: the buffer has the length that is passed, and lives until it returns.
        match unsafe { GetAdaptersAddresses(AF_UNSPEC.into(), FLAGS, ptr::null(), out, &raw mut size) } {
            0 => return of_adapters(out),
            // ERROR_BUFFER_OVERFLOW
            111 => buffer = vec![0; (size as usize).div_ceil(8) + 512],
            _ => return Vec::new(),
        }
    }
    Vec::new()
}

/// The addresses in a list that the system wrote.
fn of_adapters(first: *const IP_ADAPTER_ADDRESSES_LH) -> Vec<(String, IpAddr)> {
    let mut found = Vec::new();
    let mut next = first;
    // SAFETY: the list is of structures in the caller's buffer, the last with a null pointer to a next one.
    while let Some(adapter) = unsafe { next.as_ref() } {
        let name = name_of(adapter.FriendlyName);
        let mut unicast = adapter.FirstUnicastAddress.cast_const();
        // SAFETY: as above.
        while let Some(own) = unsafe { unicast.as_ref() } {
            let socket = own.Address.lpSockaddr;
            // SAFETY: the system's pointer to an address, which begins with its family.
            let family = unsafe { socket.as_ref() }.map_or(0, |socket| socket.sa_family);
            if family == AF_INET {
                // SAFETY: an address of this family is this structure.
                let v4 = unsafe { socket.cast::<SOCKADDR_IN>().read_unaligned() };
                // SAFETY: each reading of this union is four bytes.
                let number = unsafe { v4.sin_addr.S_un.S_addr };
                found.push((name.clone(), Ipv4Addr::from(number.to_ne_bytes()).into()));
            } else if family == AF_INET6 {
                // SAFETY: an address of this family is this structure.
                let v6 = unsafe { socket.cast::<SOCKADDR_IN6>().read_unaligned() };
                // SAFETY: each reading of this union is sixteen bytes.
                let bytes = unsafe { v6.sin6_addr.u.Byte };
                found.push((name.clone(), Ipv6Addr::from(bytes).into()));
            }
            unicast = own.Next;
        }
        next = adapter.Next;
    }
    found
}

/// A text of the system's with a zero at its end.
fn name_of(start: *const u16) -> String {
    if start.is_null() {
        return String::new();
    }
    // SAFETY: the text ends with a zero, and nothing after that is read.
    let length = (0..256).take_while(|at| unsafe { *start.add(*at) } != 0).count();
    // SAFETY: so many units were read just now.
    String::from_utf16_lossy(unsafe { std::slice::from_raw_parts(start, length) })
}
