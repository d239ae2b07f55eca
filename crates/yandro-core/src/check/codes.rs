//! The table of findings: each stable code with its facts, its severity, how `check` and `map` treat it, and its page in
//! the docs. To add a finding, add a row here and its sentence in `words::cause`.

use core::net::{IpAddr, SocketAddr};

use camino::Utf8PathBuf;
use serde::Serialize;
use time::OffsetDateTime;

use super::cause::{
    CertificateFault, ConfigurationRefusal, DeniedBy, FileFault, Forbidden, HostsFault, IndexFault, OverrideRefusal,
    RequestedPage, SilenceReason, SourceReason, UnexpectedFolder, Unresolved, UpstreamFault,
};
use super::circumstances::PortHolder;
use super::traits::{Patience, SafeFix, Traits};
use crate::name::HostName;
use crate::site::Scheme;
use crate::site::{Content, ServerId};
use crate::system::{Cache, Hidden, ResolverPlace};

/// How bad a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// The site works, but will not for long, or not as well as it could.
    Warning,
    /// The site doesn't work.
    Error,
}

/// One row for each code: facts, severity, traits, meaning, general fix.
macro_rules! codes {
    ($(
        $name:ident { $($field:ident: $type:ty),* } $severity:ident [$($trait:ident)*]
            $meaning:literal, $remedy:literal;
    )*) => {
        /// Stable codes: a program may rely on them.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
        #[serde(rename_all = "kebab-case")]
        #[non_exhaustive]
        pub enum Code {
            $(#[doc = $meaning] $name,)*
        }

        /// A cause, with the facts that its sentence names. Two causes are equal if their sentences are.
        #[derive(Clone, Debug, PartialEq, Eq)]
        #[allow(missing_docs, reason = "each field is named after what it holds")]
        pub enum Cause {
            $(#[doc = $meaning] $name { $($field: $type),* },)*
        }

        impl Cause {
            /// Its stable code.
            pub fn code(&self) -> Code {
                match self { $(Self::$name { .. } => Code::$name),* }
            }
        }

        impl Code {
            /// Every code, in the order in which a browser depends on what they are about.
            pub const ALL: &[Self] = &[$(Self::$name),*];

            /// How bad it is once it has come.
            pub fn severity(self) -> Severity {
                match self { $(Self::$name => Severity::$severity),* }
            }

            /// The meaning, in one sentence.
            pub fn meaning(self) -> &'static str {
                match self { $(Self::$name => $meaning),* }
            }

            /// The general fix; a finding has the exact command. Empty where only
            /// the user can find it.
            pub fn remedy(self) -> &'static str {
                match self { $(Self::$name => $remedy),* }
            }

            /// How it is looked into, waited for and fixed.
            pub(super) fn traits(self) -> Traits {
                match self { $(Self::$name => Traits::NONE$(.$trait())*),* }
            }
        }
    };
}

codes! {
    HostsMissing { file: Utf8PathBuf, host: HostName } Error [settle]
        "No line of the hosts file names the host.", "yandro map NAME";
    HostsUnread { file: Utf8PathBuf, fault: HostsFault } Error []
        "The hosts file is missing, unreadable or in a form of which resolvers read no line.",
        "sudo chmod 644 /etc/hosts, or the command that is shown";
    HostsElsewhere { host: HostName, found: IpAddr, wanted: IpAddr } Error []
        "The hosts file points the name to another address.", "yandro map NAME --take-over";
    HostsShadowed { file: Utf8PathBuf, host: HostName, found: IpAddr, is_first: bool } Error []
        "The site's own line of the hosts file is there, and another one says otherwise.", "yandro map NAME --take-over";
    ResolverStale { answer: Unresolved, cache: Cache } Error []
        "Something still holds an old answer of the resolver.", "the command that has it forget, as shown";
    ResolverOrder { answer: Unresolved, first: String } Error []
        "The system asks something else for names before the hosts file, or in its place.", "a command that puts `files` first in the `hosts:` line of /etc/nsswitch.conf";
    ResolverDiffers { answer: Unresolved } Error []
        "The resolver says something else than the hosts file, and nothing that is known explains it.", "";
    ResolverFails { answer: Unresolved } Error []
        "The resolver knows no address though the hosts file has one.", "";
    ResponderDown { site: HostName, responder: SocketAddr } Error [settle]
        "The program of yandro's that answers for the names below the site doesn't run.", "yandro settle";
    TenantsUnresolved { site: HostName, found: Vec<IpAddr>, place: ResolverPlace } Error [settle]
        "The system's resolver doesn't know the names below the site, or points them elsewhere.", "yandro settle, or the command that is shown";
    ResolverBypassed { host: HostName, browser: String } Warning []
        "A browser is set to resolve names without the hosts file.", "the setting, as shown";
    ProxyInTheWay { host: HostName, browser: Option<String> } Warning []
        "Variables of the environment send programs to a proxy for this name, which doesn't know it.", "export no_proxy=\"$no_proxy,NAME\"";
    AddressGone { address: IpAddr } Error []
        "No interface of this machine has the site's address any more.", "yandro map NAME --address ADDRESS";
    ServerDown { server: ServerId } Error [reload]
        "The site's web server doesn't run.", "yandro servers start SERVER";
    ConfigurationBroken { server: ServerId, refusal: ConfigurationRefusal } Error []
        "The web server refuses its configuration: it wouldn't start, or goes on with what it read before.", "correct the line that is shown, then: yandro servers reload SERVER";
    LogFolderMissing { server: ServerId, refusal: ConfigurationRefusal, folder: Utf8PathBuf } Error []
        "The web server refuses its configuration because a folder for logs isn't there.", "mkdir -p FOLDER && yandro servers reload SERVER";
    PortHeld { port: u16, holder: Box<PortHolder>, server: ServerId } Error []
        "Another program has the port.", "stop it, or choose other ports: yandro map NAME --http-port PORT --https-port PORT";
    PortNotListened { port: u16, server: ServerId } Error [settle]
        "The web server runs and its configuration has no line by which it listens on the port.", "yandro map NAME";
    PortClosed { address: IpAddr, ports: Vec<u16>, server: Option<ServerId> } Error [closed settle]
        "Nothing listens on the port, and nothing that can be seen explains it.", "yandro map NAME";
    FamilyHalf { host: HostName, silent: IpAddr } Warning []
        "The name has addresses of both families, and only one of them answers: some clients wait or fail.", "yandro map NAME";
    ServerSilent { server: ServerId, reason: SilenceReason } Error [silent]
        "The server takes connections and doesn't answer: it is stopped by a signal, all of its workers are busy, or it hangs.",
        "sudo kill -CONT PROCESS, or: yandro servers restart SERVER";
    Unreachable { site: HostName, address: IpAddr } Error []
        "The address doesn't answer at all.", "";
    SiteFileMissing { site: HostName, file: Utf8PathBuf } Error [settle]
        "The site's virtual host file is gone.", "yandro settle";
    SiteNotEnabled { site: HostName, file: Utf8PathBuf } Error [settle]
        "The site's virtual host file is there and not enabled.", "yandro settle";
    SitesNotIncluded { server: ServerId, file: Utf8PathBuf } Error [settle]
        "No line of the server's configuration includes the folder of the virtual host files.", "yandro settle";
    NotReloaded { server: ServerId, file: Option<Utf8PathBuf> } Error [reload]
        "The web server was not reloaded since its files were changed.", "yandro servers reload SERVER";
    OtherSiteAnswers { host: HostName, port: u16 } Error []
        "By the configuration another virtual host that has the name as well answers.", "the editor, at the place where the other one has the name";
    DefaultAnswers { host: HostName, port: u16 } Error [settle]
        "By the configuration no virtual host has the name, and the default one answers.", "yandro settle --put-back NAME";
    ModuleOff { server: ServerId, refusal: Option<ConfigurationRefusal> } Error [settle]
        "The web server hasn't the module for TLS switched on.", "yandro map NAME";
    HttpFails { host: HostName } Error [wrong logged]
        "No proper HTTP answer.", "";
    HttpsForced { host: HostName, suffix: String } Error []
        "Browsers request the name only over HTTPS, and the site has none.", "yandro authority widen NAME && yandro map NAME --https only";
    RedirectMissing { host: HostName, status: u16 } Warning [wrong settle]
        "HTTP doesn't lead to HTTPS.", "yandro settle --put-back NAME";
    RedirectElsewhere { host: HostName, location: String } Warning [wrong]
        "HTTP leads to another host.", "yandro settle --put-back NAME";
    RedirectLosesPath {} Warning []
        "HTTP leads to HTTPS, and not to the same path and query.", "yandro settle --put-back NAME";
    RedirectLoop { site: HostName } Error [circle]
        "The site's redirects lead in a circle.", "the editor, at the project's first rule, or a search for it";
    RedirectBack { site: HostName, to: String } Error [circle]
        "The application redirects HTTPS to HTTP, and the server redirects that to HTTPS: a circle.",
        "the setting that tells the application about HTTPS, or: yandro map NAME --https both";
    RedirectLeaves { site: HostName } Warning []
        "A redirect of the application leaves the site's name.", "yandro readdress NAME --from OLD";
    PageLeaves { site: HostName } Warning []
        "The page says that its address is another one.", "yandro readdress NAME --from OLD";
    PageMixed { site: HostName, origin: String, places: usize } Warning []
        "The page loads from, or sends forms to, an address without HTTPS or the application's old one: browsers block it.",
        "yandro readdress NAME --from OLD, or the search that is shown";
    TlsFails { host: HostName } Error [wrong logged settle]
        "The TLS handshake fails.", "yandro map NAME";
    TlsVersion { host: HostName } Error [wrong]
        "The server speaks no version of TLS that browsers take.", "yandro settle --put-back NAME";
    TlsPlain { port: u16 } Error [wrong settle]
        "Plain HTTP is spoken on the port for HTTPS.", "yandro map NAME";
    TlsOff { site: HostName } Error []
        "The site's virtual host for HTTPS has TLS off.", "yandro settle --put-back NAME";
    AuthorityMissing {} Error [settle]
        "The local authority is missing.", "yandro map NAME";
    CertificateUnknown { host: HostName, fault: CertificateFault } Error [wrong settle]
        "The certificate isn't of the local authority.", "yandro map NAME";
    CertificateName { host: HostName, fault: CertificateFault } Error [wrong settle]
        "The certificate doesn't name the host.", "yandro map NAME";
    CertificateExpired { host: HostName, fault: CertificateFault } Error [wrong settle]
        "The certificate has expired.", "yandro cert renew";
    CertificateEarly { host: HostName, start: OffsetDateTime } Error []
        "The certificate is not valid yet.", "yandro map NAME";
    ClockWrong { now: OffsetDateTime, since: OffsetDateTime } Error []
        "By this machine's clock its own authority was not yet made.", "sudo timedatectl set-ntp true";
    CertificateEnds { host: HostName, end: OffsetDateTime, days: i64 } Warning [settle no_wait]
        "The certificate ends within 30 days, or is in its last third.", "yandro cert renew";
    CertificateConstraints { host: HostName } Error []
        "The authority can't issue for a name of the certificate.", "yandro authority widen SUFFIX";
    CertificateOld { host: HostName } Warning [wrong reload]
        "The server sends an older certificate than the one on disk.", "yandro servers reload SERVER";
    CertificateFile { file: Utf8PathBuf, fault: FileFault } Error [settle]
        "The certificate's file or its key is missing, unreadable or damaged: the server won't reload or start.",
        "yandro map NAME";
    KeyMismatch { site: HostName } Error [settle]
        "The key on disk is not the certificate's.", "yandro check NAME --fix";
    StoreUntrusting { store: String } Warning []
        "Some of this machine's trust stores trust the authority, and this one doesn't.", "yandro authority trust";
    HttpsStatus { scheme: Scheme, host: HostName, status: u16 } Warning [status logged brief]
        "The page answers with an error.", "";
    HttpsFails { host: HostName, request: RequestedPage } Error [wrong logged]
        "No proper HTTPS answer.", "";
    IndexMissing { content: Content, fault: IndexFault } Warning [index]
        "The folder has no index page under the names that the server looks for, and is not listed.", "yandro map NAME --listing on";
    ClientCertificate { site: HostName } Warning []
        "The server asks for client certificates: nothing is proven.", "the editor, at the line that asks for it";
    AccessDenied { content: Content, by: DeniedBy } Error []
        "A line of the configuration forbids the folder, or answers in its place.", "the editor, at the line that forbids it";
    OverrideFault { file: Utf8PathBuf, refusal: OverrideRefusal } Error []
        "An override file of the project has a line that the server can't take.", "the editor, at the override file";
    FolderMissing { host: HostName, content: Content } Error []
        "The site's folder is gone.", "yandro map NAME ., in the folder where it is now";
    FolderForbidden { to: Forbidden } Error [status logged]
        "The server's user may not enter the folder, or not read it or its index page.", "yandro map NAME --fix-permissions, or as shown";
    Confined { server: ServerId, content: Content } Error []
        "The system's own guard keeps the server from the folder.", "the label or the rule that lets it through";
    Sandboxed { server: ServerId, hidden: Box<Hidden> } Error []
        "The sandbox of the server's unit (systemd) hides the folder, the certificate or the logs from it.",
        "the drop-in that lets it through, or a folder that isn't hidden";
    AnsweredElsewhere { host: HostName, by: UnexpectedFolder } Error [wrong logged]
        "The name is answered from somewhere else.", "yandro settle --put-back NAME";
    ProofIntercepted { content: Content } Warning []
        "A rule of the project's own answers the request for the proof file, so that nothing is proven.", "the editor, at the rule: requests below /.well-known/ are to pass";
    ProofNotWritten { content: Content } Warning [no_wait]
        "The proof file could not be written.", "";
    PhpSource { site: HostName, reason: SourceReason } Warning [php]
        "PHP files are sent as text, their source with them.", "yandro map NAME --php";
    PhpFault { message: String } Warning []
        "A fault in a PHP file ends the request.", "the editor, at the line";
    PhpDown { socket: String } Error []
        "The server passes PHP on, and nothing answers there.", "another socket that answers, or the program to start";
    PhpForbidden { socket: String, user: String } Error []
        "The server's user may not use the socket that PHP is passed on to.", "the command that makes the user its owner";
    PhpBusy { socket: String, most: Option<usize> } Error []
        "All processes of PHP are at work, and requests wait.", "the command that restarts PHP; then: a greater pm.max_children";
    UpstreamDown { site: HostName, content: Content, near: Option<Box<PortHolder>> } Error [status logged no_wait]
        "The upstream is down.", "yandro map NAME URL, if it is found at another port; else to start it";
    UpstreamFails { site: HostName, content: Content, fault: UpstreamFault } Error [status logged brief]
        "The upstream is there, but listens at another address, speaks TLS, or gives no proper answer.",
        "yandro map NAME URL";
    UpstreamRefusesHost { host: HostName, content: Content } Error []
        "The upstream refuses requests under the site's name.", "yandro map NAME --upstream-host own";
    UpstreamDiffers { host: HostName, content: Content } Warning [wrong]
        "The upstream's answer doesn't come through.", "yandro settle --put-back NAME";
}

impl Code {
    /// The code as it is written, in tables and in JSON.
    pub fn word(self) -> String {
        // Both use the spelling that serde derives.
        let mut word = String::new();
        for c in format!("{self:?}").chars() {
            if c.is_ascii_uppercase() && !word.is_empty() {
                word.push('-');
            }
            word.push(c.to_ascii_lowercase());
        }
        word
    }
}

impl Cause {
    /// The status of the answer that its sentence names.
    pub(super) fn status(&self) -> Option<u16> {
        match self {
            Self::HttpsStatus { status, .. } | Self::RedirectMissing { status, .. } => Some(*status),
            Self::FolderForbidden { .. } => Some(403),
            _ => None,
        }
    }

    /// Whether the server refuses its configuration. The files' meaning doesn't matter then.
    pub(super) fn is_refusal(&self) -> bool {
        matches!(
            self,
            Self::ConfigurationBroken { .. } | Self::LogFolderMissing { .. } | Self::ModuleOff { refusal: Some(_), .. }
        )
    }
}

impl Code {
    /// Whether a server writes something about it into its error log.
    pub fn is_logged(self) -> bool {
        self.traits().is_logged
    }

    /// A fix that needs no decision, if there is one.
    pub fn safe_fix(self) -> Option<SafeFix> {
        self.traits().fix
    }

    /// How long it may take to go away by itself, while a server takes its new configuration up.
    pub fn patience(self) -> Patience {
        self.traits().patience
    }
}
