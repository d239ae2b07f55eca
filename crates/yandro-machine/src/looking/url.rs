//! Looking at a URL, whatever answers it.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};

use tokio::task::JoinSet;
use yandro_core::{
    Answer, Authority, Connection, Failure, HostsAnswer, Place, ResolverAnswer, ServerId, VirtualHost, WebUrl, asked_at,
};

use super::{LookError, Scene};
use crate::caches;
use crate::ports::{self, Holder};
use crate::probe::{self, Limit, UrlAnswer};
use crate::{files, observe, servers};

/// The observations of a URL.
#[derive(Debug)]
pub struct UrlLook {
    /// As it was asked for.
    pub url: WebUrl,
    /// The hosts file's lines for its name; empty for an address.
    pub hosts: HostsAnswer,
    /// The resolver's answer for its name; [`ResolverAnswer::NotAsked`] for an address.
    pub resolver: ResolverAnswer,
    /// Each address, in the order in which clients try them.
    pub addresses: Vec<AddressLook>,
}

/// The observations at one address.
#[derive(Debug)]
pub struct AddressLook {
    /// An address that the name resolves to.
    pub address: IpAddr,
    /// Whether something accepts connections.
    pub connect: Result<(), Failure>,
    /// The TLS handshake; `None` for `http`, and without a connection.
    pub tls: Option<Result<Connection, Failure>>,
    /// The answer; `None` without a connection.
    pub answer: Option<Result<Answer, Failure>>,
    /// The process that listens there, as far as this user can see it.
    pub holder: Option<Holder>,
    /// The web server that it belongs to.
    pub server: Option<ServerId>,
    /// The virtual host that answers, by the server's configuration files.
    pub host: Option<HostFacts>,
}

/// A virtual host that answers a URL.
#[derive(Clone, Debug)]
pub struct HostFacts {
    /// File and line where it begins.
    pub place: Place,
    /// The folder that it serves, or what it does instead.
    pub serves: Option<String>,
    /// Whether it has the URL's name; otherwise it is the default one.
    pub is_named: bool,
}

/// Looks at a URL at each of its addresses, all at once.
///
/// # Errors
/// When the hosts file or the authority can't be read.
pub async fn look_at_url(scene: Scene<'_>, url: WebUrl, within: Limit) -> Result<UrlLook, LookError> {
    let hosts = files::read_if_there(&scene.machine.places.hosts)?.unwrap_or_default();
    let authority = observe::authority_certificates(scene.machine)?
        .map(|certificates| Authority::read(&certificates))
        .transpose()
        .map_err(LookError::Authority)?;
    let name = url.host_port.address().is_none().then(|| url.host_port.host());
    let (hosts, resolver) = match name {
        Some(name) => (
            probe::hosts_answer(&hosts, name, caches::multi(scene.machine)),
            probe::resolved(name, scene.machine.is_real(), within).await,
        ),
        None => (HostsAnswer::default(), ResolverAnswer::NotAsked),
    };
    let addresses = addresses(&url, &hosts, &resolver);
    let mut asking = JoinSet::new();
    for (turn, address) in addresses.iter().enumerate() {
        let (url, authority) = (url.clone(), authority.clone());
        let socket = SocketAddr::new(*address, url.host_port.port());
        asking.spawn(async move { (turn, probe::ask_url(&url, socket, authority.as_ref(), within).await) });
    }
    let mut answers: Vec<(usize, UrlAnswer)> = asking.join_all().await;
    answers.sort_by_key(|(turn, _)| *turn);
    let held = ports::holders(url.host_port.port());
    let look = |(address, (_, seen)): (IpAddr, (usize, UrlAnswer))| {
        let holder = holder_at(&held, address).filter(|_| seen.connect.is_ok());
        let (server, host) = holder.map_or((None, None), |holder| answering(scene, &url, address, holder));
        AddressLook {
            address,
            connect: seen.connect,
            tls: seen.tls,
            answer: seen.answer,
            holder: holder.cloned(),
            server,
            host,
        }
    };
    let addresses = addresses.into_iter().zip(answers).map(look).collect();
    Ok(UrlLook { url, hosts, resolver, addresses })
}

/// The addresses that clients try: the resolver's, or within a sysroot those of the hosts file.
fn addresses(url: &WebUrl, hosts: &HostsAnswer, resolver: &ResolverAnswer) -> Vec<IpAddr> {
    let mut addresses: Vec<IpAddr> = match (url.host_port.address(), resolver) {
        (Some(address), _) => vec![address],
        (None, ResolverAnswer::Addresses(all)) => all.clone(),
        // Clients that follow RFC 6761 don't ask for names below it.
        (None, ResolverAnswer::Failed(_)) if url.host_port.host().ends_with(".localhost") => {
            vec![Ipv4Addr::LOCALHOST.into(), Ipv6Addr::LOCALHOST.into()]
        }
        (None, ResolverAnswer::Failed(_)) => Vec::new(),
        (None, ResolverAnswer::NotAsked) => hosts.lines.iter().map(|(address, _)| *address).collect(),
    };
    let mut seen = Vec::new();
    addresses.retain(|address| {
        !seen.contains(address) && {
            seen.push(*address);
            true
        }
    });
    addresses
}

/// The socket that takes connections to an address: one of that address before one of all addresses.
fn holder_at(held: &[Holder], address: IpAddr) -> Option<&Holder> {
    let own = held.iter().find(|holder| holder.address.to_canonical() == address);
    let any = |holder: &&Holder| {
        // A socket of IPv6 for all addresses takes connections over IPv4 as well, unless it is told otherwise (ipv6(7)).
        holder.address.is_unspecified() && (holder.address.is_ipv4() == address.is_ipv4() || holder.address.is_ipv6())
    };
    own.or_else(|| held.iter().find(any))
}

/// The server that a socket belongs to, and its virtual host that answers the URL.
fn answering(
    scene: Scene<'_>,
    url: &WebUrl,
    address: IpAddr,
    holder: &Holder,
) -> (Option<ServerId>, Option<HostFacts>) {
    let Some(id) = scene.present.of_holder(scene.machine, holder) else { return (None, None) };
    let Some(found) = scene.present.get(id) else { return (Some(id), None) };
    let configuration = servers::configuration(scene.machine, found);
    let all = configuration.answering();
    let answered =
        asked_at(&all, address, url.host_port.port()).and_then(|at| configuration.answers(at, url.host_port.host()));
    let facts = |(host, is_named): (&VirtualHost, bool)| HostFacts {
        place: Place { file: here(found, &host.place.file), line: host.place.line },
        serves: host.instead.clone().or(host.document_root.clone()),
        is_named,
    };
    (Some(id), answered.map(facts))
}

fn here(found: &servers::Found, file: &str) -> String {
    found.view.here_or_same(&file.into()).into_string()
}
