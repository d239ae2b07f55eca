//! The answer to a question for a name (RFC 1034, 1035): a pure function of the names and the question's bytes.

use std::collections::HashMap;
use std::net::IpAddr;

use simple_dns::rdata::{A, AAAA, OPT, RData, SOA};
use simple_dns::{CLASS, Name, OPCODE, Packet, PacketFlag, QCLASS, QTYPE, RCODE, ResourceRecord, TYPE};

/// Seconds for which an answer may be kept: names come and go with their sites.
const KEPT: u32 = 5;
/// The largest answer over UDP that no network on the way splits (RFC 9715).
const LARGEST: u16 = 1232;
/// Bytes of a message's header.
const HEADER: usize = 12;

/// The names that a responder knows. It answers for nothing else.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TenantNames {
    /// Sites whose tenants are answered for, each with the addresses of these.
    zones: HashMap<String, Vec<IpAddr>>,
    /// All names of sites, with their own addresses.
    hosts: HashMap<String, Vec<IpAddr>>,
}

/// What there is at a name.
enum Found<'n> {
    /// Addresses, in the zone of this name.
    Addresses(&'n str, &'n [IpAddr]),
    /// Nothing, in that zone.
    Nothing(&'n str),
    /// It is in none of the zones.
    Foreign,
}

impl TenantNames {
    /// Answers for the names one label below `name` with these addresses.
    pub fn add_zone(&mut self, name: &str, addresses: &[IpAddr]) {
        self.zones.insert(name.to_owned(), addresses.to_vec());
    }

    /// Answers for a site's own name, if that is below one with tenants.
    pub fn add_host(&mut self, name: &str, addresses: &[IpAddr]) {
        self.hosts.insert(name.to_owned(), addresses.to_vec());
    }

    /// Whether there is nothing to answer for.
    pub fn is_empty(&self) -> bool {
        self.zones.is_empty()
    }

    /// What there is at a name in lower case, without its last dot: in the nearest zone above it.
    fn find(&self, name: &str) -> Found<'_> {
        let suffixes = std::iter::successors(Some(name), |name| name.split_once('.').map(|(_, rest)| rest));
        let Some((zone, addresses)) = suffixes.clone().find_map(|suffix| self.zones.get_key_value(suffix)) else {
            return Found::Foreign;
        };
        if let Some(own) = self.hosts.get(name) {
            return Found::Addresses(zone, own);
        }
        let label = name.strip_suffix(zone.as_str()).unwrap_or_default();
        if label.is_empty() || label.find('.') == Some(label.len() - 1) {
            return Found::Addresses(zone, addresses);
        }
        // A name on the way to a site that is deeper exists, too (RFC 8020).
        let is_above = |host: &String| host.strip_suffix(name).is_some_and(|rest| rest.ends_with('.'));
        if self.hosts.keys().any(is_above) { Found::Addresses(zone, &[]) } else { Found::Nothing(zone) }
    }

    /// The answer to a message; `None` for one that isn't a question. `is_whole` tells that an answer of any length can
    /// be sent.
    pub fn answer(&self, message: &[u8], is_whole: bool) -> Option<Vec<u8>> {
        // Too short, or itself an answer.
        if message.len() < HEADER || message[2] & 0x80 != 0 {
            return None;
        }
        let Ok(asked) = Packet::parse(message) else { return Some(unread(message)) };
        let mut reply = Packet::new_reply(asked.id());
        *reply.opcode_mut() = asked.opcode();
        if asked.has_flags(PacketFlag::RECURSION_DESIRED) {
            reply.set_flags(PacketFlag::RECURSION_DESIRED);
        }
        *reply.rcode_mut() = self.fill(&asked, &mut reply);
        if let Some(opt) = asked.opt() {
            *reply.opt_mut() = Some(OPT { opt_codes: Vec::new(), udp_packet_size: LARGEST, version: 0 });
            if opt.version != 0 {
                *reply.rcode_mut() = RCODE::BADVERS;
                reply.answers.clear();
                reply.name_servers.clear();
            }
        }
        let room = asked.opt().map_or(512, |opt| opt.udp_packet_size.clamp(512, LARGEST));
        let Ok(bytes) = reply.build_bytes_vec_compressed() else { return Some(unread(message)) };
        if is_whole || bytes.len() <= usize::from(room) {
            return Some(bytes);
        }
        reply.answers.clear();
        reply.name_servers.clear();
        reply.set_flags(PacketFlag::TRUNCATION);
        reply.build_bytes_vec_compressed().ok()
    }

    /// Puts the answer into a reply; gives its code.
    fn fill<'q>(&self, asked: &Packet<'q>, reply: &mut Packet<'q>) -> RCODE {
        if asked.opcode() != OPCODE::StandardQuery {
            return RCODE::NotImplemented;
        }
        let [question] = &asked.questions[..] else { return RCODE::FormatError };
        reply.questions.push(question.clone());
        if !matches!(question.qclass, QCLASS::CLASS(CLASS::IN) | QCLASS::ANY) {
            return RCODE::Refused;
        }
        if matches!(question.qtype, QTYPE::AXFR | QTYPE::IXFR) {
            return RCODE::Refused;
        }
        let name = question.qname.to_string().to_ascii_lowercase();
        let (zone, addresses, code) = match self.find(&name) {
            Found::Foreign => return RCODE::Refused,
            Found::Addresses(zone, addresses) => (zone, addresses, RCODE::NoError),
            Found::Nothing(zone) => (zone, &[][..], RCODE::NameError),
        };
        reply.set_flags(PacketFlag::AUTHORITATIVE_ANSWER);
        let record = |address: &IpAddr| {
            let data = match address {
                IpAddr::V4(address) => RData::A(A { address: (*address).into() }),
                IpAddr::V6(address) => RData::AAAA(AAAA { address: (*address).into() }),
            };
            ResourceRecord::new(question.qname.clone(), CLASS::IN, KEPT, data)
        };
        let is_asked = |address: &&IpAddr| match question.qtype {
            QTYPE::TYPE(TYPE::A) => address.is_ipv4(),
            QTYPE::TYPE(TYPE::AAAA) => address.is_ipv6(),
            QTYPE::ANY => true,
            _ => false,
        };
        reply.answers.extend(addresses.iter().filter(is_asked).map(record));
        let Some(start) = start_of(zone) else { return RCODE::ServerFailure };
        if name == zone && question.qtype == QTYPE::TYPE(TYPE::SOA) {
            reply.answers.push(start);
        } else if reply.answers.is_empty() {
            // How long it may be remembered that there is nothing (RFC 2308).
            reply.name_servers.push(start);
        }
        code
    }
}

/// The start of authority of a zone.
fn start_of<'a>(zone: &str) -> Option<ResourceRecord<'a>> {
    let name = Name::new(zone).ok()?.into_owned();
    let mailbox = Name::new("nobody.invalid").ok()?;
    let data =
        SOA { mname: name.clone(), rname: mailbox, serial: 1, refresh: 3600, retry: 600, expire: 86400, minimum: KEPT };
    Some(ResourceRecord::new(name, CLASS::IN, KEPT, RData::SOA(data)))
}

/// The answer to a message that can't be read: its number, and that it has a fault of format.
fn unread(message: &[u8]) -> Vec<u8> {
    let mut reply = vec![0; HEADER];
    reply[..2].copy_from_slice(&message[..2]);
    // An answer of the same kind, and FORMERR.
    reply[2] = 0x80 | message[2] & 0x79;
    reply[3] = 1;
    reply
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn names() -> TenantNames {
        let mut names = TenantNames::default();
        names.add_zone("saltmarsh.test", &["127.0.0.1".parse().unwrap(), "::1".parse().unwrap()]);
        names.add_zone("depot.saltmarsh.test", &["127.0.0.2".parse().unwrap()]);
        names.add_host("depot.saltmarsh.test", &["127.0.0.2".parse().unwrap()]);
        names.add_host("a.booking.saltmarsh.test", &["127.0.0.3".parse().unwrap()]);
        names
    }

    fn asked(name: &str, qtype: QTYPE) -> Vec<u8> {
        let mut packet = Packet::new_query(7);
        packet.set_flags(PacketFlag::RECURSION_DESIRED);
        let name = Name::new(name).unwrap();
        packet.questions.push(simple_dns::Question::new(name, qtype, QCLASS::CLASS(CLASS::IN), false));
        packet.build_bytes_vec().unwrap()
    }

    fn told(name: &str, qtype: QTYPE) -> String {
        let reply = names().answer(&asked(name, qtype), false).unwrap();
        let reply = Packet::parse(&reply).unwrap();
        assert!(
            reply.id() == 7
                && reply.has_flags(PacketFlag::RESPONSE)
                && !reply.has_flags(PacketFlag::RECURSION_AVAILABLE)
        );
        let data = |record: &ResourceRecord<'_>| match &record.rdata {
            RData::A(own) => std::net::Ipv4Addr::from(own.address).to_string(),
            RData::AAAA(own) => std::net::Ipv6Addr::from(own.address).to_string(),
            RData::SOA(_) => format!("SOA {}", record.name),
            other => format!("{other:?}"),
        };
        let all = |records: &[ResourceRecord<'_>]| records.iter().map(data).collect::<Vec<_>>().join(" ");
        let zone = all(&reply.name_servers);
        format!(
            "{:?} {}{}",
            reply.rcode(),
            all(&reply.answers),
            if zone.is_empty() { zone } else { format!("({zone})") }
        )
    }

    #[test]
    fn names_one_label_below_are_answered_and_nothing_else() {
        let (a, aaaa) = (QTYPE::TYPE(TYPE::A), QTYPE::TYPE(TYPE::AAAA));
        for (name, qtype, answer) in [
            ("any.saltmarsh.test", a, "NoError 127.0.0.1"),
            ("ANY.Saltmarsh.test", aaaa, "NoError ::1"),
            ("saltmarsh.test", a, "NoError 127.0.0.1"),
            ("any.saltmarsh.test", QTYPE::TYPE(TYPE::MX), "NoError (SOA saltmarsh.test)"),
            ("saltmarsh.test", QTYPE::TYPE(TYPE::SOA), "NoError SOA saltmarsh.test"),
            ("a.b.saltmarsh.test", a, "NameError (SOA saltmarsh.test)"),
            ("depot.saltmarsh.test", a, "NoError 127.0.0.2"),
            ("x.depot.saltmarsh.test", a, "NoError 127.0.0.2"),
            ("x.depot.saltmarsh.test", aaaa, "NoError (SOA depot.saltmarsh.test)"),
            ("a.booking.saltmarsh.test", a, "NoError 127.0.0.3"),
            ("b.booking.saltmarsh.test", a, "NameError (SOA saltmarsh.test)"),
            ("notsaltmarsh.test", a, "Refused "),
            ("test", a, "Refused "),
            ("saltmarsh.test", QTYPE::AXFR, "Refused "),
        ] {
            assert_eq!(told(name, qtype), answer, "{name} {qtype:?}");
        }
    }

    #[test]
    fn messages_that_are_no_questions_get_what_the_standard_says() {
        let question = asked("any.saltmarsh.test", QTYPE::TYPE(TYPE::A));
        let code = |message: &[u8]| names().answer(message, false).map(|reply| reply[3] & 15);
        let changed = |at: usize, byte: u8| {
            let mut message = question.clone();
            message[at] = byte;
            message
        };
        assert_eq!(code(&question[..11]), None, "not even a header");
        assert_eq!(code(&changed(2, 0x81)), None, "an answer");
        assert_eq!(code(&question[..20]), Some(1), "cut off");
        assert_eq!(code(&changed(5, 2)), Some(1), "two questions announced");
        assert_eq!(code(&changed(2, 0x28)), Some(4), "an update");
        let mut chaos = question.clone();
        *chaos.last_mut().unwrap() = 3;
        assert_eq!(code(&chaos), Some(5), "another class");
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(20_000))]

        /// Whatever comes, what goes out is an answer to it, and no larger than the asker can take.
        #[test]
        fn any_bytes_get_an_answer_or_none(
            bytes in prop::collection::vec(any::<u8>(), 0..80),
            patched in prop::collection::vec((0..60_usize, any::<u8>()), 0..4),
            is_question in any::<bool>(),
        ) {
            let mut message = if is_question { asked("a.saltmarsh.test", QTYPE::TYPE(TYPE::A)) } else { bytes };
            for (at, byte) in patched {
                if let Some(own) = message.get_mut(at) {
                    *own = byte;
                }
            }
            if let Some(reply) = names().answer(&message, false) {
                prop_assert_eq!(&reply[..2], &message[..2]);
                prop_assert!(reply[2] & 0x80 != 0 && reply.len() <= usize::from(LARGEST));
            }
        }
    }
}
