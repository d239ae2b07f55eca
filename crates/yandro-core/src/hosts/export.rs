//! Names for others: as a hosts file, or as a zone for a DNS server.

use core::net::IpAddr;
use std::fmt::Write as _;

use super::parse::HostsFile;
use super::takeover::is_local_name;
use crate::name::HostName;

/// A name and where it points to.
pub type Pointed = (HostName, IpAddr);

/// How long resolvers may keep an answer, in seconds: names of projects move.
const TTL: u32 = 300;

/// Every name of a file that other machines could use, in its order: those of the machine
/// itself are left out, and so are texts that are not names.
pub fn names_for_others(bytes: &[u8]) -> Vec<Pointed> {
    let file = HostsFile::parse(bytes);
    let mut found = Vec::new();
    for entry in file.entries() {
        let names = file.names_of(&entry).filter(|name| !is_local_name(name));
        let read = names.filter_map(|name| HostName::parse(std::str::from_utf8(name).ok()?).ok());
        found.extend(read.map(|name| (name, entry.address)));
    }
    found
}

/// Lines of a hosts file, one for each run of names with one address.
pub fn as_hosts(names: &[Pointed]) -> String {
    let mut text = String::new();
    for run in names.chunk_by(|(_, a), (_, b)| a == b) {
        // `hosts(5)` sets no limit, but some resolvers read short lines only.
        for line in run.chunks(8) {
            let names: Vec<&str> = line.iter().map(|(name, _)| name.as_str()).collect();
            _ = writeln!(text, "{}\t{}", line[0].1, names.join(" "));
        }
    }
    text
}

/// The longest suffix that all names have in common; `None` if they have none.
pub fn common_zone(names: &[Pointed]) -> Option<HostName> {
    let labels = |name: &HostName| name.as_str().rsplit('.').map(str::to_owned).collect::<Vec<_>>();
    let mut common = labels(&names.first()?.0);
    for (name, _) in names {
        let shared = labels(name).iter().zip(&common).take_while(|(a, b)| a == b).count();
        common.truncate(shared);
    }
    common.reverse();
    HostName::parse(&common.join(".")).ok()
}

/// A zone in the master file format (RFC 1035 section 5) with an address record for each name
/// at or below `origin`; and the names that are not.
///
/// `serial` has to grow from one export to the next (RFC 1982).
pub fn as_zone<'n>(names: &'n [Pointed], origin: &HostName, serial: u32) -> (String, Vec<&'n HostName>) {
    let mut text = format!(
        "$ORIGIN {origin}.\n$TTL {TTL}\n@\tIN\tSOA\tlocalhost. nobody.invalid. {serial} 3600 600 604800 {TTL}\n@\tIN\tNS\tlocalhost.\n"
    );
    let mut outside = Vec::new();
    let mut written: Vec<String> = Vec::new();
    for (name, address) in names {
        let owner = match name.as_str().strip_suffix(origin.as_str()) {
            Some("") => "@",
            Some(rest) if rest.ends_with('.') => &rest[..rest.len() - 1],
            _ => {
                outside.push(name);
                continue;
            }
        };
        let kind = if address.is_ipv4() { "A" } else { "AAAA" };
        let record = format!("{owner}\tIN\t{kind}\t{address}\n");
        if !written.contains(&record) {
            text += &record;
            written.push(record);
        }
    }
    (text, outside)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_given_to_others() {
        let file = b"127.0.0.1 localhost\n127.0.0.1 saltmarsh.test www.saltmarsh.test\n::1 saltmarsh.test http://x\n192.168.7.2 depot.saltmarsh.test\n";
        let names = names_for_others(file);
        insta::assert_snapshot!(as_hosts(&names), @r"
        127.0.0.1	saltmarsh.test www.saltmarsh.test
        ::1	saltmarsh.test
        192.168.7.2	depot.saltmarsh.test
        ");
        let origin = common_zone(&names).unwrap();
        assert_eq!(origin.as_str(), "saltmarsh.test");
        let (zone, outside) = as_zone(&names, &origin, 2_026_112_300);
        insta::assert_snapshot!(zone, @r"
        $ORIGIN saltmarsh.test.
        $TTL 300
        @	IN	SOA	localhost. nobody.invalid. 2026112300 3600 600 604800 300
        @	IN	NS	localhost.
        @	IN	A	127.0.0.1
        www	IN	A	127.0.0.1
        @	IN	AAAA	::1
        depot	IN	A	192.168.7.2
        ");
        assert!(outside.is_empty());
        let other = HostName::parse("depot.saltmarsh.test").unwrap();
        assert_eq!(as_zone(&names, &other, 1).1.len(), 3);
        let apart = [names[0].clone(), (HostName::parse("tides.internal").unwrap(), names[0].1)];
        assert_eq!(common_zone(&apart), None);
    }
}
