//! The server's addresses.

use core::net::{IpAddr, Ipv6Addr};

use super::{Event, EventKind, HttpdRun, Place};
use crate::host_port::{HostPort, in_brackets};

/// A `Listen` directive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listen {
    /// The address; `None` for all of them, or for a host name.
    pub address: Option<IpAddr>,
    /// The port that it names.
    pub port: u16,
    /// File and line of the directive.
    pub place: Place,
}

impl Listen {
    /// Whether a request to this address and port gets there.
    pub fn takes_in(&self, address: IpAddr, port: u16) -> bool {
        let is_all = match self.address {
            None => true,
            // The unspecified address of one family means all of its addresses.
            Some(own) => own == address || own.is_unspecified() && own.is_ipv4() == address.is_ipv4(),
        };
        self.port == port && is_all
    }

    fn of(event: &Event) -> Option<Self> {
        let text = event.arguments.first()?;
        let (host, port) = match HostPort::split(text) {
            (host, Some(port)) => (host, port),
            (port, None) => ("*", port),
        };
        let address: Option<IpAddr> = in_brackets(host).unwrap_or(host).parse().ok();
        // `[::]` takes in IPv4, too, where the server has been built for that, as nearly all are.
        let address = address.filter(|address| *address != IpAddr::V6(Ipv6Addr::UNSPECIFIED));
        Some(Self { address, port: port.parse().ok()?, place: event.place.clone() })
    }
}

impl HttpdRun {
    /// Every `Listen` directive, in order.
    pub fn listens(&self) -> Vec<Listen> {
        let directives = self.events.iter().filter(|event| event.kind == EventKind::Directive && event.is("Listen"));
        directives.filter_map(Listen::of).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use core::net::Ipv4Addr;

    #[test]
    fn a_port_without_an_address_means_both_families() {
        let v4 = IpAddr::V4(Ipv4Addr::LOCALHOST);
        let v6 = IpAddr::V6(Ipv6Addr::LOCALHOST);
        for (argument, takes_v4, takes_v6) in [
            ("80", true, true),
            ("*:80", true, true),
            ("[::]:80", true, true),
            ("0.0.0.0:80", true, false),
            ("[::1]:80", false, true),
            ("127.0.0.1:80", true, false),
            ("127.0.0.1:81", false, false),
        ] {
            let event = Event {
                kind: EventKind::Directive,
                name: "listen".into(),
                arguments: vec![argument.into(), "http".into()],
                place: Place { file: "ports.conf".into(), line: 1 },
                guards: Vec::new(),
            };
            let listens = HttpdRun { events: vec![event], ..HttpdRun::default() }.listens();
            assert_eq!((listens[0].takes_in(v4, 80), listens[0].takes_in(v6, 80)), (takes_v4, takes_v6), "{argument}");
        }
    }
}
