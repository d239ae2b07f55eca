//! `yandro authority export --to-device`: the root certificate, for a phone on the same network.

use std::collections::BTreeMap;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use qrcode::render::unicode::Dense1x2;
use qrcode::{EcLevel, QrCode};
use yandro_core::{Authority, mobile_profile};
use yandro_machine::{files, network, observe};
use yandro_serve::{Offered, offer};

use super::{files_fingerprint, none_yet};
use crate::context::Context;
use crate::error::CommandError;
use crate::signals;
use crate::view::{DIM, Data, Outcome, STRONG, Tone, Ui, count, data};

/// The page that a phone shows. `{…}` is filled in.
const PAGE: &str = include_str!("device.html");
/// Dark on light whatever the terminal's own colours are: cameras want it so.
const INK: Tone = Tone::INK;
/// The form in which Android, Windows and most others take a root certificate.
const CERTIFICATE: &str = "application/x-x509-ca-cert";

pub(super) fn offer_root<'c>(
    context: &'c Context,
    listen: Option<IpAddr>,
    minutes: u16,
    ui: &mut Ui,
) -> Result<Outcome<'c>, CommandError> {
    let certificates = observe::authority_certificates(&context.machine)?.ok_or_else(none_yet)?;
    let authority = Authority::read(&certificates).map_err(CommandError::not_made)?;
    let address = chosen(listen)?;
    let pages = pages(&authority, &certificates.root, None);
    let runtime = signals::runtime()?;
    runtime.block_on(async {
        let at = |error| CommandError::not_made(format!("nothing can be offered at {address}: {error}"));
        let listener = tokio::net::TcpListener::bind(SocketAddr::new(address, 0)).await.map_err(at)?;
        let port = listener.local_addr().map_err(at)?.port();
        let url = format!("http://{}/", SocketAddr::new(address, port));
        let lines = code(&url)?;
        // Before the command ends, for the page is there as long as it runs.
        let offer_data = OfferData { url: url.clone(), minutes };
        Outcome::new(offer_data, |_, ui| {
            ui.say(&lines);
            ui.say(&format!("\n{STRONG}{url}{STRONG:#}"));
            ui.say(&format!(
                "Point the phone's camera at the code, or type the address there: the root certificate and what to do\nwith it. It is there for {}, to everybody on your network, and no key with it. Ctrl-C ends it.",
                count(usize::from(minutes), "minute")
            ));
            ui.say(&format!("{DIM}SHA-256 {}{DIM:#}", files_fingerprint(authority.root())));
        })
        .show(ui);
        let (told, mut fetches) = tokio::sync::mpsc::unbounded_channel();
        let tell = async {
            while let Some((path, who)) = fetches.recv().await {
                ui.say(&format!("{who} fetched {path}"));
            }
        };
        let work = async { tokio::join!(offer(listener, pages, told), tell) };
        let limited = tokio::time::timeout(Duration::from_secs(u64::from(minutes) * 60), work);
        _ = signals::unless_interrupted(limited).await;
        Ok(Outcome::printed())
    })
}

data! {
    /// Data of `yandro authority export --to-device`.
    struct OfferData {
        /// The address of the page.
        url: String,
        /// How long it is there.
        minutes: u16,
    }
}

impl Data for OfferData {}

/// An address as the code that a camera reads, in lines.
pub(in crate::commands) fn code(url: &str) -> Result<String, CommandError> {
    let code = QrCode::with_error_correction_level(url.as_bytes(), EcLevel::L).map_err(CommandError::not_made)?;
    let picture = code.render::<Dense1x2>().dark_color(Dense1x2::Dark).light_color(Dense1x2::Light).build();
    Ok(picture.lines().map(|line| format!("{INK}{line}{INK:#}")).collect::<Vec<_>>().join("\n"))
}

/// The address to offer it at: the one that is asked for, or the only one that others can reach.
pub(in crate::commands) fn chosen(listen: Option<IpAddr>) -> Result<IpAddr, CommandError> {
    if let Some(address) = listen {
        return if network::is_own(address) {
            Ok(address)
        } else {
            Err(CommandError::usage(format!("{address} is not an address of this machine")).hint(listed()))
        };
    }
    match &reachable()[..] {
        [] => Err(CommandError::not_made("this machine has no address that another device could reach").hint(
            "connect it to the network of the device; or copy the file there: yandro authority export --out FILE",
        )),
        [only] => Ok(*only),
        _ => Err(CommandError::usage("this machine has several addresses: say at which the device can reach it")
            .hint(listed())),
    }
}

fn reachable() -> Vec<IpAddr> {
    let is_link_local = |address: &IpAddr| matches!(address, IpAddr::V6(own) if own.is_unicast_link_local());
    let v4_first = |address: &IpAddr| address.is_ipv6();
    let mut found: Vec<IpAddr> = network::addresses().into_iter().map(|own| own.address).collect();
    found.retain(|address| !address.is_loopback() && !is_link_local(address));
    found.sort_by_key(v4_first);
    // A machine with both families has one network more often than two.
    if found.iter().filter(|address| address.is_ipv4()).count() == 1 {
        found.truncate(1);
    }
    found
}

/// The part of the page that leads to a lent site. Names and addresses need no escaping: host names have no such letters.
fn of_site((name, url): (&str, &str)) -> String {
    format!(
        "<h2>The site</h2>\n<p>The developer lends you <em>{name}</em> for a while. Once this device trusts the certificate:</p>\n<p><a class=\"file\" href=\"{url}\">Open {url}</a></p>\n<p>If the name isn't found, this device knows no multicast DNS, or is in another network.</p>\n"
    )
}

fn listed() -> String {
    let listed: Vec<String> = reachable().iter().map(|address| format!("--listen {address}")).collect();
    format!("choose another one: {}", listed.join(", "))
}

/// The page with the files that it leads to. `site` is the name and the address of a site that is lent beside it.
pub(in crate::commands) fn pages(
    authority: &Authority,
    root_pem: &str,
    site: Option<(&str, &str)>,
) -> BTreeMap<&'static str, Offered> {
    let subject = authority.title();
    let escaped = subject.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
    let fingerprint = files_fingerprint(authority.root());
    let page = PAGE
        .replace("{subject}", &escaped)
        .replace("{whose}", if site.is_some() { ", or its owner is somebody whom you trust" } else { "" })
        .replace("{site}", &site.map(of_site).unwrap_or_default())
        .replace("{fingerprint}", &fingerprint.replace(':', ":<wbr>"))
        .replace("{suffixes}", &authority.constraints().suffixes_in_words().replace('`', ""));
    let profile = mobile_profile(subject, root_pem, &files::sha256(authority.root()));
    let file = |media, saved_as, content| Offered { media, saved_as, content };
    BTreeMap::from([
        ("/", file("text/html; charset=utf-8", None, page.into_bytes())),
        ("/root.crt", file(CERTIFICATE, Some("root.crt"), authority.root().to_vec())),
        ("/root.pem", file("application/x-pem-file", Some("root.pem"), root_pem.as_bytes().to_vec())),
        (
            "/root.mobileconfig",
            file("application/x-apple-aspen-config", Some("root.mobileconfig"), profile.into_bytes()),
        ),
    ])
}
