//! A site's first page: the answer, where its redirects lead, what it says of itself, and the proof
//! that it comes from the site's own folder or upstream. All over one connection, where that holds.

use std::time::{Duration, Instant};

use yandro_core::{
    Answer, Failure, FailureKind, HostName, Page, Proof, RedirectSource, RedirectTarget, Site, Timed, Trail, Upstream,
    UpstreamHost, redirect_target,
};

use super::http::{self, Fetched, HttpSession};
use super::proof::ProofFile;
use super::{BODY_LIMIT, Limit, ProofEvidence};

/// How many redirects are followed: as many as browsers do.
const LONGEST_TRAIL: usize = 20;
/// Most redirects that a project may put before every file.
const LONGEST_DETOUR: usize = 3;
/// The endings of files that projects let through which list those that they do.
const PLAIN_ENDINGS: [&str; 3] = ["txt", "html", "css"];
/// How much of a page is read, in bytes.
const PAGE_LIMIT: usize = 1 << 16;

/// The page to request, and the evidence for its answer.
pub(super) struct AskedPage<'a> {
    pub(super) name: &'a HostName,
    pub(super) site: &'a Site,
    pub(super) scheme: &'static str,
    /// The port that is asked, and the others on which the site answers.
    pub(super) ports: &'a [u16],
    pub(super) evidence: &'a ProofEvidence,
    /// Whether the proof is enough, and the page itself was seen at another address.
    pub(super) is_brief: bool,
    pub(super) within: Limit,
}

impl AskedPage<'_> {
    /// The `Host` field.
    fn host(&self) -> String {
        host_field(self.name, self.scheme, self.ports.first().copied().unwrap_or_default())
    }

    /// Reads a redirect of one of its pages.
    fn target(&self, location: &str, path: &str) -> RedirectTarget {
        let names: Vec<HostName> = self.site.names().cloned().collect();
        let (name, scheme, ports) = (self.name, self.scheme, self.ports);
        redirect_target(location, RedirectSource { names: &names, name, scheme, ports, path })
    }
}

/// A name with its port, unless that is the scheme's own (RFC 9110 section 7.2).
pub(super) fn host_field(name: &HostName, scheme: &str, port: u16) -> String {
    let usual = if scheme == "https" { 443 } else { 80 };
    if port == usual { name.to_string() } else { format!("{name}:{port}") }
}

/// The answers.
#[derive(Default)]
pub(super) struct Pages {
    pub(super) answer: Option<Timed<Result<Answer, Failure>>>,
    pub(super) trail: Option<Timed<Trail>>,
    pub(super) page: Page,
    pub(super) proof: Option<Timed<Proof>>,
}

/// A connection to a site, with another in its place where the server ends it: it may do so between two requests
/// whenever it likes (RFC 9112 section 9.5), and that is not a fault of the site.
struct RequestLine<'a, A> {
    asked: &'a AskedPage<'a>,
    session: HttpSession,
    anew: A,
    is_used: bool,
}

impl<A, F> RequestLine<'_, A>
where
    A: Fn() -> F,
    F: Future<Output = Result<HttpSession, Failure>>,
{
    async fn get(&mut self, path: &str, cookies: &[String], limit: usize) -> Result<Fetched, Failure> {
        let host = &self.asked.host();
        let fetched = self.session.get(host, path, cookies, limit).await;
        let is_used = std::mem::replace(&mut self.is_used, true);
        match fetched {
            Err(failure) if is_used && failure.kind != FailureKind::TimedOut => {
                let Ok(other) = (self.anew)().await else { return Err(failure) };
                self.session = other;
                self.session.get(host, path, cookies, limit).await
            }
            fetched => fetched,
        }
    }

    /// Whether the proof file comes back. Many projects have rules for every request: hidden files are
    /// forbidden, all names redirect to one, all requests redirect to a page. So a redirect is
    /// followed, and a failed request is repeated under a name that is not hidden.
    async fn prove(&mut self, file: &ProofFile) -> Proof {
        let first = self.led_to(file, &file.url_path()).await;
        if !matches!(first, Proof::Status(_) | Proof::OtherContent) {
            return first;
        }
        for ending in PLAIN_ENDINGS {
            let Some(plain) = file.put_plain(ending) else { return first };
            match self.led_to(file, &plain.url_path()).await {
                second @ (Proof::Given | Proof::LeadsTo(_)) => return second,
                // Not a matter of the name.
                Proof::Failed(_) | Proof::PutOff(_) => break,
                _ => {}
            }
        }
        first
    }

    /// The answer to a path, at the end of its redirects.
    async fn led_to(&mut self, file: &ProofFile, path: &str) -> Proof {
        let mut here = path.to_owned();
        for _ in 0..=LONGEST_DETOUR {
            let fetched = match self.get(&here, &[], BODY_LIMIT).await {
                Ok(fetched) => fetched,
                Err(failure) => return Proof::Failed(failure.words),
            };
            let Some(location) = fetched.answer.redirect() else {
                return file.judge(&fetched);
            };
            here = match self.asked.target(location, &here) {
                RedirectTarget::Path(next) => next,
                RedirectTarget::OtherName(other, there) if there == path => return Proof::LeadsTo(other),
                RedirectTarget::OtherName(..) | RedirectTarget::Away => return Proof::Status(fetched.answer.status),
            };
        }
        Proof::OtherContent
    }

    /// Follows the redirects of a page on the same connection: where they end, and the last page. Cookies are kept
    /// on the way: a page that sets one and redirects to itself is not a loop.
    async fn follow(&mut self, first: &Fetched) -> (Option<Trail>, Option<Fetched>) {
        let mut way = vec!["/".to_owned()];
        let mut seen: Vec<(String, Vec<String>)> = Vec::new();
        let mut cookies: Vec<String> = Vec::new();
        let mut last: Option<Fetched> = None;
        loop {
            let answer = &last.as_ref().unwrap_or(first).answer;
            let Some(location) = answer.redirect().cloned() else {
                let trail = last.is_some().then_some(Trail::Ends(way.len() - 1));
                return (trail, last);
            };
            let here = way.last().map_or("/", String::as_str);
            let path = match self.asked.target(&location, here) {
                RedirectTarget::Path(path) => path,
                RedirectTarget::OtherName(other, path) => return (Some(Trail::LeadsTo(other, path, way.len())), last),
                RedirectTarget::Away => return (Some(Trail::Leaves(location)), last),
            };
            seen.push((here.to_owned(), cookies.clone()));
            take(&mut cookies, &last.as_ref().unwrap_or(first).cookies);
            way.push(path.clone());
            if seen.contains(&(path.clone(), cookies.clone())) || way.len() > LONGEST_TRAIL {
                return (Some(Trail::Loops(way)), last);
            }
            match self.get(&path, &cookies, PAGE_LIMIT).await {
                Ok(page) => last = Some(page),
                // A redirect that can't be followed is not a loop.
                Err(_) => return (None, last),
            }
        }
    }
}

/// The page and the proof. `anew` opens another connection if the server ends this one.
pub(super) async fn fetch<A, F>(session: HttpSession, asked: &AskedPage<'_>, anew: A) -> Pages
where
    A: Fn() -> F,
    F: Future<Output = Result<HttpSession, Failure>>,
{
    let mut pages = Pages::default();
    let mut line = RequestLine { asked, session, anew, is_used: false };
    let started = Instant::now();
    let limit = if matches!(asked.evidence, ProofEvidence::Upstream(_)) { BODY_LIMIT } else { PAGE_LIMIT };
    if let ProofEvidence::File(file) = asked.evidence {
        let seen = line.prove(file).await;
        let is_given = seen == Proof::Given;
        pages.proof = Some(Timed { took: started.elapsed(), seen });
        if asked.is_brief && is_given {
            return pages;
        }
    }
    let started = Instant::now();
    let page = line.get("/", &[], limit).await;
    let answer = page.as_ref().map(|page| page.answer.clone()).map_err(Clone::clone);
    pages.answer = Some(Timed { took: started.elapsed(), seen: answer });
    if let Ok(first) = &page {
        let started = Instant::now();
        let (trail, last) = line.follow(first).await;
        pages.trail = trail.map(|seen| Timed { took: started.elapsed(), seen });
        pages.page = last.as_ref().map_or_else(|| own_words(first), own_words);
    }
    match asked.evidence {
        ProofEvidence::File(_) => {}
        ProofEvidence::None(why) => pages.proof = Some(Timed { took: Duration::ZERO, seen: why.clone() }),
        ProofEvidence::Upstream(upstream) => {
            let started = Instant::now();
            let seen = compare(upstream, asked, page).await;
            pages.proof = Some(Timed { took: started.elapsed(), seen });
        }
    }
    pages
}

/// Addresses that a page gives as its own, if it is a page.
fn own_words(page: &Fetched) -> Page {
    if page.answer.status == 200 { Page::read(&page.body) } else { Page::default() }
}

/// Puts cookies to those that there are, each in the place of the one of its name.
fn take(cookies: &mut Vec<String>, new: &[String]) {
    let name = |cookie: &str| cookie.split('=').next().unwrap_or_default().to_owned();
    for own in new {
        match cookies.iter_mut().find(|other| name(other) == name(own)) {
            Some(other) => own.clone_into(other),
            None => cookies.push(own.clone()),
        }
    }
}

/// Whether the upstream's own answer is the one that came.
async fn compare(upstream: &Upstream, asked: &AskedPage<'_>, page: Result<Fetched, Failure>) -> Proof {
    let name = asked.host();
    let name = name.as_str();
    let own = upstream.host_port().to_string();
    let host = if asked.site.serving.upstream_host == UpstreamHost::Own { own.as_str() } else { name };
    let direct = || http::get_from(upstream, host, name, asked.scheme, asked.within);
    let first = match direct().await {
        Ok(answer) => answer,
        Err(failure) => return super::upstream::failed(upstream, failure).await,
    };
    let page = match page {
        Ok(page) => page,
        Err(failure) => return Proof::Failed(failure.words),
    };
    let status = first.answer.status;
    if matches!(status, 400 | 403 | 421)
        && http::get_from(upstream, &own, &own, "http", asked.within).await.is_ok_and(|own| own.answer.status < 400)
    {
        return Proof::UpstreamRefuses(status);
    }
    let alike = |other: &Fetched| other.answer.status == first.answer.status && other.body == first.body;
    if alike(&page) {
        return Proof::Given;
    }
    match direct().await {
        Ok(second) if !alike(&second) => Proof::UpstreamVaries,
        _ => Proof::OtherContent,
    }
}

#[cfg(test)]
mod tests;
