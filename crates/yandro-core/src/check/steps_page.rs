//! The steps of the answers: over plain HTTP, over HTTPS, and the proof.

use super::REDIRECT_PROBE;
use super::fault::Fault;
use super::finding::{Code, Severity};
use super::judge::Judge;
use super::observation::{Answer, OwnAddress, Proof, Trail};
use super::page::{Target, target};
use super::php_fault::php_fault_at;
use super::steps::{Judged, fail, seen};
use crate::name::{HostName, Suffix};
use crate::shell::word;
use crate::site::{Content, Https};

/// The host of an absolute address.
fn host_of(address: &str) -> &str {
    let rest = address.split_once("://").map_or(address, |(_, rest)| rest);
    rest.split(['/', '?', '#']).next().unwrap_or(rest)
}

impl Judge<'_> {
    pub(super) fn http(&self) -> Judged {
        let name = &self.seen.name;
        let answer = match seen(self.seen.http.as_ref()) {
            Some(Ok(answer)) => answer,
            Some(Err(failure)) => {
                let cause = format!("`http://{name}/` gives no proper answer");
                let mend = self.verbosely("http");
                return fail("no answer", Fault::error(Code::HttpFails, cause).seen(failure.words.clone()).mend(mend));
            }
            None => return Ok(String::new()),
        };
        if let (Https::Off, Suffix::ForcedHttps(suffix)) = (self.expected.site.https, name.suffix()) {
            let cause = format!("browsers ask for names below `.{suffix}` over HTTPS alone, and `{name}` is without");
            let site = &self.expected.site.name;
            let mend = format!("yandro authority widen {site} && yandro map {site} --https only");
            return fail("HTTPS forced", Fault::error(Code::HttpsForced, cause).mend(mend));
        }
        if self.expected.site.https != Https::Only {
            return self.page(answer, "http");
        }
        Ok(answer.status.to_string())
    }

    pub(super) fn redirect(&self) -> Judged {
        let name = &self.seen.name;
        let Some(Ok(answer)) = seen(self.seen.http.as_ref()) else { return Ok(String::new()) };
        let Some(location) = answer.location.as_ref().filter(|_| (300..400).contains(&answer.status)) else {
            let cause = format!(
                "`http://{name}/` answers {} and doesn't lead to HTTPS: another virtual host answers, or its redirect is gone",
                answer.status
            );
            return fail(answer.status.to_string(), Fault::warning(Code::RedirectMissing, cause).mend(self.put_back()));
        };
        let host =
            location.strip_prefix("https://").map(|rest| rest.split(['/', '?', '#', ':']).next().unwrap_or_default());
        if host.is_some_and(|host| self.expected.site.names().any(|own| host.eq_ignore_ascii_case(own.as_str()))) {
            if !location.ends_with(REDIRECT_PROBE) {
                let cause = "HTTP leads to HTTPS, and not to the path and query that were asked for".to_owned();
                let seen = format!("{REDIRECT_PROBE} leads to {location}");
                let fault = Fault::warning(Code::RedirectLosesPath, cause).seen(seen);
                return fail("path lost", fault.mend(self.put_back()));
            }
            return Ok(format!("{} to the same over HTTPS", answer.status));
        }
        let cause = format!("`http://{name}/` leads to `{location}`, which is not this site over HTTPS");
        fail(
            format!("{} elsewhere", answer.status),
            Fault::warning(Code::RedirectElsewhere, cause).mend(self.put_back()),
        )
    }

    pub(super) fn https(&self) -> Judged {
        let name = &self.seen.name;
        match seen(self.seen.https.as_ref()) {
            Some(Ok(answer)) => self.page(answer, "https"),
            Some(Err(failure)) => {
                let cause = format!("`https://{name}/` gives no proper answer");
                let mend = self.verbosely("https");
                fail("no answer", Fault::error(Code::HttpsFails, cause).seen(failure.words.clone()).mend(mend))
            }
            None => Ok(String::new()),
        }
    }

    /// The site's own first page.
    fn page(&self, answer: &Answer, scheme: &str) -> Judged {
        let name = &self.seen.name;
        let served_by = answer.server.as_ref().map(|server| format!("answered by `{server}`"));
        let is_folder = self.is_folder();
        // Where the proof tells the cause, the status is only its symptom.
        if answer.status >= 400
            && let Err(failed) = self.proof()
            && failed.1.severity == Severity::Error
        {
            return fail(answer.status.to_string(), failed.1);
        }
        let cause = match answer.status {
            500.. => {
                format!("`{scheme}://{name}/` answers {}: a fault within the server or the application", answer.status)
            }
            403 if is_folder => format!(
                "`{scheme}://{name}/` answers 403: the server may not read the folder, or there is no index page and no listing"
            ),
            404 if is_folder => format!("`{scheme}://{name}/` answers 404: the document root has no index page"),
            _ => return Ok(answer.status.to_string()),
        };
        let mut fault = Fault::warning(Code::HttpsStatus, cause);
        fault.evidence = served_by;
        fault.remedy = Some(self.verbosely(scheme));
        fail(answer.status.to_string(), fault)
    }

    /// What a page that is there leads to, and says of itself.
    pub(super) fn application(&self) -> Judged {
        // Told of the site, whichever of its names was asked for: one cause is one finding.
        let name = &self.expected.site.name;
        let circle = match self.seen.trail.as_ref().map(|trail| &trail.seen) {
            Some(Trail::Loops(way)) => Some(way.clone()),
            _ => self.circle_of_names(),
        };
        if let Some(way) = circle {
            let cause = format!("the redirects of `{name}` lead in a circle");
            let fault = Fault::error(Code::RedirectLoop, cause).seen(way.join(" -> "));
            return fail("circle", fault.mend(self.look_for("Redirect")));
        }
        if let Some(Trail::Leaves(there)) = self.seen.trail.as_ref().map(|trail| &trail.seen) {
            let cause = format!("a redirect of `{name}` leaves the site");
            let fault = Fault::warning(Code::RedirectLeaves, cause).seen(format!("it leads to {there}"));
            return fail("leaves", fault.mend(self.look_for(host_of(there))));
        }
        if self.seen.page.is_php_source {
            let cause = format!("`{name}` sends PHP files as text, with their source");
            let mend = format!("yandro map {} --php", self.expected.site.name);
            return fail("PHP source", Fault::warning(Code::PhpSource, cause).mend(mend));
        }
        if let Some((words, place)) = &self.seen.page.php_fault {
            return fail("PHP fault", php_fault_at(words, place));
        }
        if let Some(other) = self.seen.page.own_addresses.iter().find_map(|own| self.other_address(own)) {
            let cause = format!("the page of `{name}` says that its address is another one");
            let fault = Fault::warning(Code::PageLeaves, cause).seen(format!("it says {other}"));
            return fail("other address", fault.mend(self.look_for(host_of(other))));
        }
        Ok(match self.seen.trail.as_ref().map(|trail| &trail.seen) {
            Some(Trail::Ends(1) | Trail::LeadsTo(_, _, 1)) => "stays, after 1 redirect".into(),
            Some(Trail::Ends(steps) | Trail::LeadsTo(_, _, steps)) => format!("stays, after {steps} redirects"),
            _ => "stays".into(),
        })
    }

    /// The way of the first page from one of the site's names to the next, if it comes back to one of them.
    fn circle_of_names(&self) -> Option<Vec<String>> {
        let mut way = Vec::new();
        let mut here = self.seen;
        loop {
            let is_back = way.contains(&here.name.to_string());
            way.push(here.name.to_string());
            if is_back {
                return Some(way);
            }
            let Trail::LeadsTo(next, path, _) = &here.trail.as_ref()?.seen else { return None };
            here = self.all.iter().find(|other| other.name == *next && path == "/")?;
        }
    }

    /// An address that a page gives as its own and that leads away from the site. Where a search engine is to find
    /// the page once it is published is no fault of a name that is for this machine.
    fn other_address<'o>(&self, own: &'o OwnAddress) -> Option<&'o str> {
        let names: Vec<HostName> = self.expected.site.names().cloned().collect();
        let scheme = if self.expected.site.https.is_on() { "https" } else { "http" };
        let is_away = |address: &str| target(address, &names, &self.seen.name, scheme, "/") == Target::Away;
        match own {
            OwnAddress::Base(address) => Some(address.as_str()).filter(|own| is_away(own)),
            OwnAddress::Canonical(address) => {
                let host = host_of(address).split(':').next().unwrap_or_default();
                let is_published = address.to_ascii_lowercase().starts_with("https://")
                    && HostName::parse(host).is_ok_and(|host| host.can_be_real());
                Some(address.as_str()).filter(|own| is_away(own) && !is_published)
            }
        }
    }

    /// The same request by hand, with all that is said on the way: what breaks an answer off shows there.
    fn verbosely(&self, scheme: &str) -> String {
        let (expected, usual) = (self.expected, if scheme == "http" { 80 } else { 443 });
        let port = if scheme == "http" { expected.http_port } else { expected.https_port };
        let port = if port == usual { String::new() } else { format!(":{port}") };
        format!("curl --verbose {scheme}://{}{port}/", self.seen.name)
    }

    /// Where the words stand by which an application leaves its name: in its own files.
    fn look_for(&self, words: &str) -> String {
        let words = word(words);
        let folder = match &self.expected.site.content {
            Content::Folder { folder, .. } => folder.as_str(),
            // Where an upstream has its files it alone knows: in the folder that it is worked on in, as a rule.
            Content::Upstream(_) => ".",
        };
        format!("grep -rnFI -e {words} {}", word(folder))
    }

    fn forbidden(&self) -> Fault {
        let content = &self.expected.site.content;
        Fault::error(Code::FolderForbidden, format!("the server may not read {content}, or a rule there forbids it"))
            .seen("the proof file was answered with 403")
            .mend(format!("yandro map {} --fix-permissions", self.expected.site.name))
    }

    fn upstream_down(&self, words: &str) -> Fault {
        let (name, content) = (&self.expected.site.name, &self.expected.site.content);
        let cause = format!("the upstream of `{name}` doesn't answer at {content}: start it");
        // Only its person knows how: this tells them when it is there.
        Fault::error(Code::UpstreamDown, cause).seen(words).mend(format!("yandro check {name} --watch"))
    }

    pub(super) fn proof(&self) -> Judged {
        let name = &self.seen.name;
        let content = &self.expected.site.content;
        let Some(timed) = &self.seen.proof else { return Ok(String::new()) };
        match &timed.seen {
            Proof::Given => Ok("proven".into()),
            Proof::LeadsTo(other) => Ok(format!("leads to {other}")),
            Proof::Guarded => Ok(String::new()),
            Proof::UpstreamVaries => Ok("answers vary".into()),
            Proof::UpstreamUnseen => Ok("upstream not seen".into()),
            Proof::FolderMissing => {
                let site = &self.expected.site.name;
                let cause = format!("the folder of `{name}` is gone: {content}; map it again from where it is now");
                let fault = Fault::error(Code::FolderMissing, cause).mend(format!("yandro map {site} ."));
                fail("no folder", fault.or(format!("yandro map {site} --create")).or(format!("yandro unmap {site}")))
            }
            Proof::NotWritten(words) => {
                let cause = format!("the proof file could not be written below {content}");
                let mend = format!("ls -ld {}", word(&content.to_string()));
                fail("not written", Fault::warning(Code::ProofNotWritten, cause).seen(words.clone()).mend(mend))
            }
            Proof::Barred(barrier) => {
                let cause = format!("the server's user `{}` may not enter {}", barrier.user, barrier.folder);
                let fault =
                    Fault::error(Code::FolderForbidden, cause).seen(format!("its mode is {:04o}", barrier.mode));
                fail("forbidden", fault.mend(barrier.mend.clone()))
            }
            Proof::Status(403) => fail("forbidden", self.forbidden()),
            Proof::Status(status) => {
                let cause = format!("`{name}` is answered, but not from {content}");
                let fault = Fault::error(Code::AnsweredElsewhere, cause)
                    .seen(format!("a file put there a moment ago was answered with {status}"));
                fail("elsewhere", fault.mend(self.put_back()))
            }
            Proof::OtherContent if matches!(content, Content::Upstream(_)) => {
                let cause = format!("what `{name}` answers is not what {content} answers");
                fail("differs", Fault::warning(Code::UpstreamDiffers, cause).mend(self.put_back()))
            }
            Proof::OtherContent => {
                let cause = format!("`{name}` is answered, but not from {content}");
                let fault = Fault::error(Code::AnsweredElsewhere, cause)
                    .seen("a file put there a moment ago came back with other content");
                fail("elsewhere", fault.mend(self.put_back()))
            }
            Proof::UpstreamDown(words) => fail("upstream down", self.upstream_down(words)),
            Proof::UpstreamRefuses(status) => {
                let cause = format!("the upstream at {content} refuses requests under the name `{name}`");
                let seen = format!("{status} under that name, and none under its own address");
                let mend = format!("yandro map {} --upstream-host own", self.expected.site.name);
                fail("refused", Fault::error(Code::UpstreamRefusesHost, cause).seen(seen).mend(mend))
            }
            Proof::Failed(words) => {
                let cause = format!("the request for the proof of `{name}` failed");
                let mend = self.verbosely("https");
                fail("no answer", Fault::error(Code::HttpsFails, cause).seen(words.clone()).mend(mend))
            }
        }
    }
}
