//! Having the system ask yandro's responder for the names below sites (their tenants): by files of systemd-resolved
//! (resolved.conf(5)), of `NetworkManager`'s dnsmasq (dnsmasq(8)), of macOS (resolver(5)), or by resolv.conf(5).

use core::net::{IpAddr, Ipv4Addr, SocketAddr};

use camino::{Utf8Path, Utf8PathBuf};

use super::Cache;
use crate::name::HostName;
use crate::site::ListId;

/// The part of the system that passes questions for names on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ResolverPlace {
    /// systemd-resolved: a drop-in with routing domains.
    Resolved,
    /// The dnsmasq that `NetworkManager` runs: a file with a line for each domain.
    Dnsmasq,
    /// macOS: a file for each domain.
    MacOs,
    /// The list of name servers itself: the responder comes first, and refuses all other names, so that the next
    /// server is asked.
    ResolvConf,
    /// Windows: a rule of its name resolution policy, which no file holds.
    Windows,
}

/// The port for DNS (RFC 1035 section 4.2).
const DNS: u16 = 53;
/// The first of the ports that responders have where a port can be named: below those that systems give to programs.
const FIRST_PORT: u16 = 20_000;
const PORTS: u16 = 10_000;

impl ResolverPlace {
    /// Every place.
    pub const ALL: [Self; 5] = [Self::Resolved, Self::Dnsmasq, Self::MacOs, Self::ResolvConf, Self::Windows];

    /// Title for people.
    pub fn title(self) -> &'static str {
        match self {
            Self::Resolved => "systemd-resolved",
            Self::Dnsmasq => "the dnsmasq of NetworkManager",
            Self::MacOs => "macOS's resolver",
            Self::ResolvConf => "/etc/resolv.conf",
            Self::Windows => "Windows's name resolution policy",
        }
    }

    /// The address of the responder of a site list. Lists of several users, and several lists of one, have each their
    /// own.
    pub fn responder(self, list: &ListId) -> SocketAddr {
        let number = list.number();
        match self {
            Self::Resolved | Self::Dnsmasq | Self::MacOs => {
                SocketAddr::new(IpAddr::V4(Ipv4Addr::LOCALHOST), FIRST_PORT + number % PORTS)
            }
            Self::ResolvConf | Self::Windows => {
                let [high, low] = number.to_be_bytes();
                SocketAddr::new(IpAddr::V4(Ipv4Addr::new(127, 53, high, low)), DNS)
            }
        }
    }

    /// The file of a site list; for macOS the folder of the files of all domains. `None` where there is none.
    pub fn file(self, list: &ListId) -> Option<String> {
        match self {
            Self::Resolved => Some(format!("/etc/systemd/resolved.conf.d/yandro-{:05}.conf", list.number())),
            Self::Dnsmasq => Some(format!("/etc/NetworkManager/dnsmasq.d/yandro-{:05}.conf", list.number())),
            Self::MacOs => Some("/private/etc/resolver".to_owned()),
            Self::ResolvConf => Some("/etc/resolv.conf".to_owned()),
            Self::Windows => None,
        }
    }

    /// Whether the folder of a file, as the system itself sees it, is made for the file, and goes with it.
    pub fn makes_folder(file: &Utf8Path) -> bool {
        let folder = file.parent().unwrap_or(file);
        folder == "/etc/systemd/resolved.conf.d" || folder == "/private/etc/resolver"
    }

    /// What has to read the file again; `None` where it is read by itself.
    pub fn reload(self) -> Option<Cache> {
        match self {
            Self::Resolved => Some(Cache::ResolvedSettings),
            Self::Dnsmasq => Some(Cache::NetworkManager),
            Self::MacOs => Some(Cache::MacOs),
            Self::ResolvConf | Self::Windows => None,
        }
    }

    /// The files that have the system ask the responder of `list` for the names below these sites, besides those that
    /// are there; `now` is the content of a file. `below` is where [`Self::file`] is.
    pub fn wanted(
        self,
        list: &ListId,
        sites: &[&HostName],
        below: &Utf8Path,
        now: impl Fn(&Utf8Path) -> Option<Vec<u8>>,
    ) -> Vec<(Utf8PathBuf, Vec<u8>)> {
        if sites.is_empty() {
            return Vec::new();
        }
        let (responder, mark) = (self.responder(list), mark(list));
        let listed = |each: &dyn Fn(&HostName) -> String| sites.iter().map(|name| each(name)).collect::<String>();
        match self {
            Self::Resolved => {
                let domains = listed(&|name| format!(" ~{name}"));
                let text = format!("{mark}\n[Resolve]\nDNS={responder}\nDomains={}\n", domains.trim_start());
                vec![(below.to_owned(), text.into_bytes())]
            }
            Self::Dnsmasq => {
                let at = format!("{}#{}", responder.ip(), responder.port());
                let text = format!("{mark}\n{}", listed(&|name| format!("server=/{name}/{at}\n")));
                vec![(below.to_owned(), text.into_bytes())]
            }
            Self::MacOs => {
                let text = format!("{mark}\nnameserver {}\nport {}\n", responder.ip(), responder.port());
                sites.iter().map(|name| (below.join(name.as_str()), text.clone().into_bytes())).collect()
            }
            Self::ResolvConf => {
                let now = without_own(&now(below).unwrap_or_default(), list);
                vec![(below.to_owned(), with_own(&now, list))]
            }
            Self::Windows => Vec::new(),
        }
    }

    /// What stays of a file of this place once no site has tenants; `None` for a file of yandro's own.
    pub fn rest(self, list: &ListId, now: &[u8]) -> Option<Vec<u8>> {
        (self == Self::ResolvConf).then(|| without_own(now, list))
    }
}

/// The beginning of the first line of a file of yandro's own.
const MARK: &str = "# Names below sites go to yandro's responder, for ";

/// The first line of a file of yandro's own.
fn mark(list: &ListId) -> String {
    format!("{MARK}{}. `yandro unmap` takes this away.", list.mark())
}

/// Whether a file is one that yandro wrote for this list.
pub(crate) fn is_of_responder(content: &[u8], list: &ListId) -> bool {
    content.split(|byte| *byte == b'\n').next() == Some(mark(list).as_bytes())
}

/// The name servers without the responder of a list.
fn without_own(text: &[u8], list: &ListId) -> Vec<u8> {
    let own = own_lines(list);
    let is_own = |line: &[u8]| own.iter().any(|own| line.trim_ascii_end() == own.as_bytes());
    text.split_inclusive(|byte| *byte == b'\n').filter(|line| !is_own(line)).flatten().copied().collect()
}

/// The responder of a list before all other name servers, and before what says whose they are.
fn with_own(text: &[u8], list: &ListId) -> Vec<u8> {
    let mut before = 0;
    for line in text.split_inclusive(|byte| *byte == b'\n') {
        if line.trim_ascii_start().starts_with(b"nameserver") || line.starts_with(MARK.as_bytes()) {
            break;
        }
        before += line.len();
    }
    let (first, rest) = text.split_at(before);
    let end: &[u8] = if first.is_empty() || first.ends_with(b"\n") { b"" } else { b"\n" };
    [first, end, (own_lines(list).join("\n") + "\n").as_bytes(), rest].concat()
}

/// The lines of a list among the name servers: the mark, and the responder, whose address no other list has.
fn own_lines(list: &ListId) -> [String; 2] {
    [mark(list), format!("nameserver {}", ResolverPlace::ResolvConf.responder(list).ip())]
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn list() -> ListId {
        ListId::new("ada", Utf8Path::new("/home/ada/.config/yandro/sites.toml"))
    }

    fn written(place: ResolverPlace, now: &[u8]) -> String {
        let names = ["saltmarsh.test", "tides.test"].map(|name| HostName::parse(name).unwrap());
        let file = place.file(&list()).unwrap();
        let wanted =
            place.wanted(&list(), &names.iter().collect::<Vec<_>>(), Utf8Path::new(&file), |_| Some(now.to_vec()));
        // This test runs on Windows, too, where a path is joined by another sign.
        let shown = |(path, text): &(Utf8PathBuf, Vec<u8>)| {
            format!("{}:\n{}\n", path.as_str().replace('\\', "/"), String::from_utf8_lossy(text))
        };
        wanted.iter().map(shown).collect()
    }

    #[test]
    fn each_system_is_told_in_its_own_words() {
        let all: String = [ResolverPlace::Resolved, ResolverPlace::Dnsmasq, ResolverPlace::MacOs]
            .map(|place| written(place, b""))
            .concat();
        insta::assert_snapshot!(all.trim_end(), @"
        /etc/systemd/resolved.conf.d/yandro-58113.conf:
        # Names below sites go to yandro's responder, for ada, in /home/ada/.config/yandro/sites.toml. `yandro unmap` takes this away.
        [Resolve]
        DNS=127.0.0.1:28113
        Domains=~saltmarsh.test ~tides.test

        /etc/NetworkManager/dnsmasq.d/yandro-58113.conf:
        # Names below sites go to yandro's responder, for ada, in /home/ada/.config/yandro/sites.toml. `yandro unmap` takes this away.
        server=/saltmarsh.test/127.0.0.1#28113
        server=/tides.test/127.0.0.1#28113

        /private/etc/resolver/saltmarsh.test:
        # Names below sites go to yandro's responder, for ada, in /home/ada/.config/yandro/sites.toml. `yandro unmap` takes this away.
        nameserver 127.0.0.1
        port 28113

        /private/etc/resolver/tides.test:
        # Names below sites go to yandro's responder, for ada, in /home/ada/.config/yandro/sites.toml. `yandro unmap` takes this away.
        nameserver 127.0.0.1
        port 28113
        ");
        let now = b"# by hand\nsearch harbour.example\nnameserver 192.0.2.1\noptions edns0\n";
        insta::assert_snapshot!(written(ResolverPlace::ResolvConf, now).trim_end(), @"
        /etc/resolv.conf:
        # by hand
        search harbour.example
        # Names below sites go to yandro's responder, for ada, in /home/ada/.config/yandro/sites.toml. `yandro unmap` takes this away.
        nameserver 127.53.227.1
        nameserver 192.0.2.1
        options edns0
        ");
    }

    proptest! {
        /// The list of name servers comes back to the byte, whatever it holds, and whoever puts a responder first and
        /// takes it away again, in any order.
        #[test]
        fn name_servers_come_back(
            text in "((nameserver|search|#|options) [a-z0-9.:]{0,9}(\n|\r\n)){0,6}",
            turns in prop::collection::vec((0..3_usize, any::<bool>()), 0..8),
        ) {
            let lists = ["ada", "ben", "eve"].map(|user| ListId::new(user, Utf8Path::new(&format!("/home/{user}/sites.toml"))));
            let (name, file) = (HostName::parse("saltmarsh.test").unwrap(), Utf8Path::new("/etc/resolv.conf"));
            let place = ResolverPlace::ResolvConf;
            let before = text.clone().into_bytes();
            let (mut now, mut has) = (before.clone(), [false; 3]);
            for (user, comes) in turns.into_iter().chain([(0, false), (1, false), (2, false)]) {
                has[user] = comes;
                now = if comes {
                    place.wanted(&lists[user], &[&name], file, |_| Some(now.clone())).remove(0).1
                } else {
                    place.rest(&lists[user], &now).unwrap()
                };
                for (list, has) in lists.iter().zip(has) {
                    let own = own_lines(list);
                    let text = String::from_utf8_lossy(&now).into_owned();
                    prop_assert!(own.iter().all(|line| text.lines().filter(|other| other == line).count() == usize::from(has)), "{text}");
                }
            }
            prop_assert_eq!(now, before);
        }
    }
}
