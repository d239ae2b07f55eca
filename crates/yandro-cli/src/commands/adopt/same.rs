//! The answers of a site before and after it is taken over.

use std::net::{IpAddr, Ipv4Addr, SocketAddr};

use yandro_core::{HandSite, Site};
use yandro_machine::{Found, Limit, PageRequest, WholeAnswer, whole_answers};

use super::super::prove::ProofFailed;
use crate::context::Context;
use crate::error::CommandError;
use crate::signals;

/// How many files of a folder are asked for.
const FILES: usize = 4;

/// A path that no site has.
const MISSING: &str = "/no-such-page-of-yandro";

/// Answers, each asked for twice: what differs between the two may differ afterwards, too.
#[derive(Debug, Default)]
pub(super) struct Answers(Vec<(Result<WholeAnswer, String>, Result<WholeAnswer, String>)>);

/// The outcome of a comparison.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Compared {
    /// How many requests are answered as before.
    pub(crate) same: usize,
}

/// The requests by which a site is compared: its front page, some files, a page that isn't there.
pub(super) fn requests(context: &Context, found: &Found, hand: &HandSite, site: &Site) -> Vec<PageRequest> {
    if !context.machine.is_real() || found.is_elsewhere() {
        return Vec::new();
    }
    let mut paths = vec!["/".to_owned(), MISSING.to_owned()];
    let entries = site.document_root().and_then(|root| root.read_dir_utf8().ok());
    let mut names: Vec<String> = entries
        .into_iter()
        .flatten()
        .flatten()
        .filter(|entry| !entry.file_name().starts_with('.'))
        .map(|entry| {
            let is_folder = entry.file_type().is_ok_and(|kind| kind.is_dir());
            format!("/{}{}", entry.file_name(), if is_folder { "/" } else { "" })
        })
        .filter(|path| path.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-._/".contains(&byte)))
        .collect();
    names.sort();
    paths.extend(names.into_iter().take(FILES));
    let mut requests = Vec::new();
    for (_, reading) in &hand.blocks {
        for own in &reading.addresses {
            let socket = SocketAddr::new(own.address.unwrap_or(IpAddr::V4(Ipv4Addr::LOCALHOST)), own.port);
            for host in site.names().map(ToString::to_string) {
                let request = |path: &String| PageRequest {
                    socket,
                    is_secure: own.is_secure,
                    host: host.clone(),
                    path: path.clone(),
                };
                requests.extend(paths.iter().map(request));
            }
        }
    }
    requests.dedup();
    requests
}

/// Asks for each page twice.
pub(super) fn ask(requests: &[PageRequest]) -> Result<Answers, CommandError> {
    let runtime = signals::runtime()?;
    let twice = runtime.block_on(async {
        let first = whole_answers(requests, Limit::default()).await;
        first.into_iter().zip(whole_answers(requests, Limit::default()).await).collect()
    });
    Ok(Answers(twice))
}

/// Asks once more, and compares.
pub(super) fn compare(requests: &[PageRequest], before: &Answers) -> Result<Compared, ProofFailed> {
    let runtime = signals::runtime()?;
    let now = runtime.block_on(whole_answers(requests, Limit::default()));
    let mut compared = Compared::default();
    let mut differences = Vec::new();
    for ((request, now), (first, second)) in requests.iter().zip(&now).zip(&before.0) {
        let (Ok(first), Ok(second)) = (first, second) else { continue };
        match difference(first, second, now) {
            None => compared.same += 1,
            Some(what) => differences.push(format!("\n  {}: {what}", shown(request))),
        }
    }
    if differences.is_empty() {
        return Ok(compared);
    }
    let error = CommandError::not_made(format!("the site would answer otherwise than before:{}", differences.concat()));
    Err(error.hint("leave the site as it is, or fix the listed differences by hand first").into())
}

fn shown(request: &PageRequest) -> String {
    let scheme = if request.is_secure { "https" } else { "http" };
    format!("{scheme}://{}:{}{}", request.host, request.socket.port(), request.path)
}

/// The differences of an answer from both earlier ones.
fn difference(first: &WholeAnswer, second: &WholeAnswer, now: &Result<WholeAnswer, String>) -> Option<String> {
    let now = match now {
        Ok(now) => now,
        Err(words) => return Some(format!("status {}, and now no answer ({words})", first.status)),
    };
    if first.status != now.status {
        return Some(format!("status {}, and now {}", first.status, now.status));
    }
    let is_steady = |header: &&(String, String)| second.headers.contains(header);
    let gone = first.headers.iter().filter(is_steady).find(|header| !now.headers.contains(header));
    if let Some((name, value)) = gone {
        let other = now.headers.iter().find(|(own, _)| own == name).map(|(_, value)| value.as_str());
        return Some(format!(
            "`{name}: {value}`, and now {}",
            other.map_or("none".to_owned(), |own| format!("`{own}`"))
        ));
    }
    let new = now.headers.iter().find(|(name, _)| first.headers.iter().all(|(own, _)| own != name));
    if let Some((name, value)) = new {
        return Some(format!("no `{name}`, and now `{value}`"));
    }
    (first.body == second.body && first.body != now.body).then(|| "another body".to_owned())
}
