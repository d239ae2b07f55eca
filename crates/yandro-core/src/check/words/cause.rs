//! Each cause in one sentence, without a full stop.

use std::fmt::{self, Display, Formatter};

use super::listed;
use crate::check::cause::{
    CertificateFault, ConfigurationRefusal, DeniedBy, FileFault, Forbidden, HostsFault, IndexFault, OverrideRefusal,
    RequestedPage, SilenceReason, SourceReason, UnexpectedFolder, Unresolved, UpstreamFault,
};
use crate::check::codes::Cause;
use crate::check::finding::Diagnosis;
use crate::name::HostName;
use crate::pki::date;

impl Diagnosis {
    /// The cause, and when it counts if the server has yet to read its files.
    pub fn sentence(&self) -> String {
        match self.foretold_for {
            Some(server) if !self.cause.is_refusal() => {
                format!("{}; that counts once {server} is reloaded", self.cause)
            }
            _ => self.cause.to_string(),
        }
    }
}

impl Display for Cause {
    #[rustfmt::skip]
    #[allow(clippy::too_many_lines, reason = "one match over every cause")]
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Self::HostsMissing { file, host } => write!(f, "no line of {file} names `{host}`"),
            Self::HostsElsewhere { host, found, wanted } =>
                write!(f, "the hosts file points `{host}` to {found}, and the site is at {wanted}"),
            Self::HostsShadowed { file, host, found, is_first: true } =>
                write!(f, "the line of {file} for `{host}` is shadowed by another one, which points it to {found}"),
            Self::HostsShadowed { file, host, found, is_first: false } =>
                write!(f, "{file} points `{host}` to {found} as well: programs go there if the first address fails them"),
            Self::ResolverStale { answer, cache } => write!(f, "{answer}: {} holds an old answer", cache.title()),
            Self::ResolverOrder { answer, first } if first == "files" =>
                write!(f, "{answer}: the system doesn't read the hosts file"),
            Self::ResolverOrder { answer, first } =>
                write!(f, "{answer}: the system asks `{first}` before the hosts file"),
            Self::ResolverDiffers { answer } | Self::ResolverFails { answer } => answer.fmt(f),
            Self::ResponderDown { site, responder } =>
                write!(f, "nothing answers at {responder}, where yandro resolves the names below `{site}`"),
            Self::TenantsUnresolved { site, found, place } if found.is_empty() =>
                write!(f, "the system doesn't resolve names below `{site}`: {} should ask yandro's responder for them", place.title()),
            Self::TenantsUnresolved { site, found, place } =>
                write!(f, "the system points names below `{site}` to {}: {} should ask yandro's responder for them", listed(found, ", "), place.title()),
            Self::ResolverBypassed { host, browser } =>
                write!(f, "{browser} asks a server on the internet for `{host}`, past the hosts file"),
            Self::ProxyInTheWay { host, browser: None } =>
                write!(f, "programs that go by the environment ask a proxy for `{host}`, which doesn't know it"),
            Self::ProxyInTheWay { host, browser: Some(browser) } =>
                write!(f, "{browser} asks a proxy for `{host}`, which doesn't know it"),
            Self::AddressGone { address } =>
                write!(f, "no interface of this machine has the address {address} any more, which the site is at"),
            Self::ServerDown { server } => write!(f, "{server} doesn't run"),
            Self::ConfigurationBroken { server, refusal } =>
                write!(f, "{server} refuses its configuration and {refusal}"),
            Self::LogFolderMissing { server, refusal, folder } =>
                write!(f, "{server} refuses its configuration and {refusal}: the folder for logs {folder} isn't there"),
            Self::PortHeld { port, holder, server } =>
                write!(f, "port {port} is held by {}, and not by {server}", holder.words),
            Self::PortNotListened { port, server } =>
                write!(f, "no line of {server}'s configuration has it listen on port {port}"),
            Self::PortClosed { address, ports, server } => {
                let plural = if ports.len() > 1 { "s" } else { "" };
                write!(f, "nothing listens on port{plural} {} of {address}: ", listed(ports, " and "))?;
                match server {
                    None => f.write_str("the server there isn't running"),
                    Some(server) if ports.len() > 1 => write!(f, "{server} isn't running"),
                    Some(server) => write!(f, "{server} listens on another address, or not at all"),
                }
            }
            Self::FamilyHalf { host, silent } =>
                write!(f, "`{host}` has addresses of both families, and nothing answers on {silent}: some clients try it first"),
            Self::ServerSilent { server, reason } => match reason {
                SilenceReason::Stopped => write!(f, "{server}'s processes are stopped by a signal: connections wait"),
                SilenceReason::Full => write!(f, "all workers of {server} are busy: connections wait"),
                SilenceReason::Unknown =>
                    write!(f, "{server} takes connections and doesn't answer: it is busy, or hangs"),
            },
            Self::Unreachable { site, address } => write!(f, "the address {address} of `{site}` can't be reached"),
            Self::SiteFileMissing { site, file } => write!(f, "the virtual host file of `{site}` is gone: {file}"),
            Self::SiteNotEnabled { site, file } => write!(f, "the virtual host file of `{site}` is not enabled: {file}"),
            Self::SitesNotIncluded { server, file } =>
                write!(f, "{server} doesn't read {file}: no line includes its folder"),
            Self::NotReloaded { server, file: Some(file) } =>
                write!(f, "{server} was not reloaded since {file} was changed"),
            Self::NotReloaded { server, file: None } =>
                write!(f, "{server} was not reloaded since its files were changed"),
            Self::OtherSiteAnswers { host, port } =>
                write!(f, "another virtual host on port {port} has the name `{host}` as well, and answers first"),
            Self::DefaultAnswers { host, port } =>
                write!(f, "no virtual host on port {port} has the name `{host}`, and the default one answers"),
            Self::ModuleOff { server, refusal: None } =>
                write!(f, "{server} hasn't its module for TLS switched on"),
            Self::ModuleOff { server, refusal: Some(refusal) } =>
                write!(f, "{server} hasn't its module for TLS switched on, and {refusal}"),
            Self::HttpFails { host } => write!(f, "`http://{host}/` gives no proper answer"),
            Self::HttpsForced { host, suffix } =>
                write!(f, "browsers request names below `.{suffix}` only over HTTPS, and `{host}` has none"),
            Self::RedirectMissing { host, status } => write!(
                f,
                "`http://{host}/` answers {status} and doesn't lead to HTTPS: another virtual host answers, or its redirect is gone",
            ),
            Self::RedirectElsewhere { host, location } =>
                write!(f, "`http://{host}/` leads to `{location}`, which is not this site over HTTPS"),
            Self::RedirectLosesPath {} =>
                f.write_str("HTTP leads to HTTPS, and not to the path and query that were asked for"),
            Self::RedirectLoop { site } => write!(f, "the redirects of `{site}` lead in a circle"),
            Self::RedirectLeaves { site } => write!(f, "a redirect of `{site}` leaves the site"),
            Self::PageLeaves { site } => write!(f, "the page of `{site}` says that its address is another one"),
            Self::TlsFails { host } => write!(
                f,
                "the TLS handshake for `{host}` fails: the server has no certificate for this name, or TLS is off",
            ),
            Self::TlsVersion { host } =>
                write!(f, "the server speaks no version of TLS with `{host}` that browsers take"),
            Self::TlsPlain { port } => write!(f, "plain HTTP is spoken on port {port}, where TLS is expected"),
            Self::TlsOff { site } => write!(f, "the virtual host of `{site}` for HTTPS has TLS off"),
            Self::AuthorityMissing {} => f.write_str("this machine has no local authority"),
            Self::CertificateUnknown { host, fault }
            | Self::CertificateName { host, fault }
            | Self::CertificateExpired { host, fault } => certificate(f, host, fault),
            Self::CertificateEarly { host, start } =>
                write!(f, "the certificate of `{host}` is valid from {} on, which is to come", date(*start)),
            Self::ClockWrong { now, since } => write!(
                f,
                "by this machine's clock it is {}, and its own authority was made on {}", date(*now), date(*since)
            ),
            Self::CertificateEnds { host, end, days } =>
                write!(f, "the certificate of `{host}` ends on {}, in {days} days", date(*end)),
            Self::CertificateConstraints { host } =>
                write!(f, "the local authority can't issue for `{host}`, and clients refuse its certificate"),
            Self::CertificateOld { host } => write!(
                f,
                "the server sends another certificate for `{host}` than the one on disk: it was not reloaded since",
            ),
            Self::CertificateFile { file, fault } => {
                match fault {
                    FileFault::Missing => write!(f, "{file} is missing")?,
                    FileFault::Unreadable(words) => write!(f, "{file} can't be read ({words})")?,
                    FileFault::Damaged => write!(f, "{file} is damaged")?,
                }
                f.write_str(": without it the server can't start, or doesn't serve the site")
            }
            Self::KeyMismatch { site } =>
                write!(f, "the key of `{site}` on disk is not the one that its certificate is for"),
            Self::StoreUntrusting { store } =>
                write!(f, "{store} doesn't trust the authority, and others of this machine do"),
            Self::HttpsStatus { scheme, host, status } => {
                let why = match status {
                    500.. => "a fault within the server or the application",
                    403 => "the server can't read the folder, or it has neither an index page nor a listing",
                    _ => "the document root has no index page",
                };
                write!(f, "`{}://{host}/` answers {status}: {why}", scheme.word())
            }
            Self::HttpsFails { host, request: RequestedPage::Page } =>
                write!(f, "`https://{host}/` gives no proper answer"),
            Self::HttpsFails { host, request: RequestedPage::Proof } =>
                write!(f, "the request for the proof of `{host}` failed"),
            Self::IndexMissing { content, fault } => match fault {
                IndexFault::NoneThere => write!(f, "{content} has no index page, and folders are not listed"),
                IndexFault::OtherNames(wanted) => write!(
                    f, "the server looks for {} as index page, and {content} has another one", listed(wanted, ", ")
                ),
                IndexFault::Listed(page) => write!(f, "the server lists {content}, though it has {page}"),
            },
            Self::ClientCertificate { site } =>
                write!(f, "the server asks for client certificates at `{site}`: nothing is proven"),
            Self::AccessDenied { content, by } => match by {
                DeniedBy::Access => write!(f, "a line of the configuration forbids {content}"),
                DeniedBy::Status(444) =>
                    write!(f, "a line of the configuration closes the connection of requests for {content}"),
                DeniedBy::Status(status) =>
                    write!(f, "a line of the configuration answers requests for {content} with {status}"),
                DeniedBy::Links => write!(
                    f, "a line of the configuration keeps the server from the symbolic link that the index page of {content} is"
                ),
            },
            Self::OverrideFault { file, refusal: OverrideRefusal::CanRunPrograms } => write!(
                f,
                "the override file {file} has a line that is refused for a site without PHP, since such lines can run programs: allow it if you trust the project",
            ),
            Self::OverrideFault { file, refusal: OverrideRefusal::Faulty(server) } =>
                write!(f, "the override file {file} has a line that {server} can't take"),
            Self::FolderMissing { host, content } =>
                write!(f, "the folder of `{host}` is gone: {content}; map it again from where it is now"),
            Self::FolderForbidden { to } => match to {
                Forbidden::Content(content) =>
                    write!(f, "the server may not read {content}, or a rule there forbids it"),
                Forbidden::Folder { user, path } => write!(f, "the server's user `{user}` may not enter {path}"),
                Forbidden::Index { user, path } => write!(f, "the server's user `{user}` may not read {path}"),
            },
            Self::Confined { server, content } => write!(f, "the system's guard keeps {server} from {content}"),
            Self::Sandboxed { server, hidden } =>
                write!(f, "{} keeps {server} from {}: its sandbox has {}", hidden.unit, hidden.path, hidden.setting),
            Self::AnsweredElsewhere { host, by: UnexpectedFolder::NotFrom(content) } =>
                write!(f, "`{host}` is answered, but not from {content}"),
            Self::AnsweredElsewhere { host, by: UnexpectedFolder::Served { other, wanted } } =>
                write!(f, "the virtual host of `{host}` serves {other}, and not {wanted}"),
            Self::ProofIntercepted { content } => write!(
                f,
                "a rule of the project's own answers requests for files of {content}: nothing is proven"
            ),
            Self::ProofNotWritten { content } => write!(f, "the proof file could not be written below {content}"),
            Self::PhpSource { site, reason } => {
                write!(f, "`{site}` sends PHP files as text, with their source")?;
                match reason {
                    SourceReason::WithoutPhp => Ok(()),
                    SourceReason::ModuleOff => f.write_str(": the server's modules that pass them on are off"),
                    SourceReason::LinesGone =>
                        f.write_str(": the lines that pass them on are gone from its virtual host"),
                }
            }
            Self::PhpFault { message } => write!(f, "PHP ends with a fault: {message}"),
            Self::PhpDown { socket } => write!(f, "PHP is passed on to {socket}, and nothing answers there"),
            Self::HostsUnread { file, fault } => match fault {
                HostsFault::Missing => write!(f, "{file} is missing"),
                HostsFault::Dangling(target) => write!(f, "{file} is a link to {target}, which doesn't exist"),
                HostsFault::Unreadable => write!(f, "{file} can only be read by root: programs of other users ignore it"),
                HostsFault::Utf16 => write!(f, "{file} is encoded as UTF-16, of which resolvers read no line"),
            },
            Self::RedirectBack { site, to } => write!(
                f,
                "the application of `{site}` redirects to {to}, and the server back to HTTPS: tell the application that it is behind HTTPS (X-Forwarded-Proto says so)"
            ),
            Self::PageMixed { site, origin, places } => {
                let times = if *places == 1 { "in 1 place".to_owned() } else { format!("in {places} places") };
                write!(f, "the page of `{site}` loads from or sends to {origin} {times}: browsers block that, or it leads away")
            }
            Self::PhpForbidden { socket, user } =>
                write!(f, "the server's user `{user}` may not use the socket of PHP, {socket}"),
            Self::PhpBusy { socket, most: Some(1) } =>
                write!(f, "the only process of PHP at {socket} is at work: requests wait"),
            Self::PhpBusy { socket, most: Some(most) } =>
                write!(f, "all {most} processes of PHP at {socket} are at work: requests wait"),
            Self::PhpBusy { socket, most: None } => write!(f, "PHP at {socket} takes requests and doesn't answer"),
            Self::UpstreamFails { site, content, fault } => {
                write!(f, "the upstream of `{site}`, {content}, ")?;
                match fault {
                    UpstreamFault::OtherFamily(address) => write!(f, "listens at {address} only"),
                    UpstreamFault::SpeaksTls => f.write_str("speaks TLS on that port"),
                    UpstreamFault::Silent => f.write_str("accepts connections and sends no answer"),
                    UpstreamFault::Endless => f.write_str("begins an answer that doesn't end"),
                    UpstreamFault::Closes => f.write_str("closes connections without an answer"),
                    UpstreamFault::NotHttp => f.write_str("answers with something that is not HTTP"),
                }
            }
            Self::UpstreamDown { site, content, near: None } =>
                write!(f, "the upstream of `{site}` doesn't answer at {content}: start it"),
            Self::UpstreamDown { site, content, near: Some(near) } => write!(
                f,
                "the upstream of `{site}` doesn't answer at {content}, and {} listens on port {}", near.words, near.port
            ),
            Self::UpstreamRefusesHost { host, content } =>
                write!(f, "the upstream at {content} refuses requests under the name `{host}`"),
            Self::UpstreamDiffers { host, content } =>
                write!(f, "what `{host}` answers is not what {content} answers"),
        }
    }
}

fn certificate(f: &mut Formatter<'_>, host: &HostName, fault: &CertificateFault) -> fmt::Result {
    match fault {
        CertificateFault::OtherIssuer => {
            write!(f, "the certificate served for `{host}` was not issued by the local authority")
        }
        CertificateFault::Refused => write!(f, "the certificate served for `{host}` is refused"),
        CertificateFault::OfUnknownNames => {
            write!(f, "the virtual host of `{host}` doesn't answer over HTTPS: the default one does")
        }
        CertificateFault::OtherNames => write!(f, "the certificate does not name `{host}`"),
        CertificateFault::OtherFile => {
            write!(f, "the virtual host of `{host}` names another certificate than the site's")
        }
        CertificateFault::Ended(end) => write!(f, "the certificate of `{host}` ended on {}", date(*end)),
    }
}

impl Display for Unresolved {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Self::Other { host, found, wanted } => write!(
                f,
                "the system resolves `{host}` to {}, though the hosts file says {wanted}",
                listed(found, ", ")
            ),
            Self::None { host } => {
                write!(f, "the system finds no address for `{host}`, though the hosts file has one")
            }
        }
    }
}

impl Display for ConfigurationRefusal {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::KeepsOld => "goes on with what it read before",
            Self::CannotStart => "can't start",
        })
    }
}
