//! Findings: what a check found wrong, with its cause and the command that mends it.

use serde::Serialize;

use super::judge::Step;
use crate::name::HostName;

/// How bad it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// The site works, but will not for long, or not as well as it could.
    Warning,
    /// The site doesn't work.
    Error,
}

/// What is wrong, why, and what mends it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Finding {
    /// Which kind of finding.
    pub code: Code,
    /// How bad it is.
    pub severity: Severity,
    /// The step that it was found at.
    pub step: Step,
    /// The name that it is about.
    #[serde(serialize_with = "as_text")]
    pub name: HostName,
    /// The cause, in one sentence.
    pub cause: String,
    /// What was seen: lines, served values, the system's words.
    pub evidence: Option<String>,
    /// The command that mends it, ready to be pasted.
    pub remedy: Option<String>,
    /// Other ways to mend it, each a command as well.
    pub otherwise: Vec<String>,
}

impl Finding {
    /// The commands that mend it, the best first.
    pub fn remedies(&self) -> impl Iterator<Item = &str> {
        self.remedy.iter().chain(&self.otherwise).map(String::as_str)
    }
}

/// One row for each code: its name, how bad it usually is, what it means, what mends it.
macro_rules! codes {
    ($($name:ident, $severity:ident, $meaning:literal, $remedy:literal;)*) => {
        /// Stable codes: a program may rely on them.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
        #[serde(rename_all = "kebab-case")]
        #[non_exhaustive]
        pub enum Code {
            $(#[doc = $meaning] $name,)*
        }

        impl Code {
            /// Every code, in the order in which a browser depends on what they are about.
            pub const ALL: &[Self] = &[$(Self::$name),*];

            /// How bad it usually is.
            pub fn severity(self) -> Severity {
                match self { $(Self::$name => Severity::$severity),* }
            }

            /// What it means, in one sentence.
            pub fn meaning(self) -> &'static str {
                match self { $(Self::$name => $meaning),* }
            }

            /// What mends it, in general: a finding has the very command. Empty where that is for
            /// the person to find out.
            pub fn remedy(self) -> &'static str {
                match self { $(Self::$name => $remedy),* }
            }
        }
    };
}

codes! {
    HostsMissing, Error, "No line of the hosts file names the host.", "yandro map NAME";
    HostsElsewhere, Error, "The hosts file points the name to another address.", "yandro map NAME --take-over";
    HostsShadowed, Error, "The site's own line of the hosts file is there, and one above it that says otherwise is what counts.", "yandro map NAME --take-over";
    ResolverStale, Error, "Something still holds an old answer of the resolver.", "the command that has it forget, as shown";
    ResolverOrder, Error, "The system asks something else for names before the hosts file, or in its place.", "a command that puts `files` first in the `hosts:` line of /etc/nsswitch.conf";
    ResolverDiffers, Error, "The resolver says something else than the hosts file, and nothing that is known explains it.", "";
    ResolverFails, Error, "The resolver knows no address though the hosts file has one.", "";
    ResolverBypassed, Warning, "A browser is set to ask for names elsewhere, past the hosts file.", "the setting, as shown";
    ProxyInTheWay, Warning, "Variables of the environment send programs to a proxy for this name, which doesn't know it.", "export no_proxy=NAME";
    AddressGone, Error, "No interface of this machine has the site's address any more.", "yandro map NAME --address ADDRESS";
    ServerDown, Error, "The site's web server doesn't run.", "yandro servers start SERVER";
    ConfigurationBroken, Error, "The web server refuses its configuration: it wouldn't start, or goes on with what it read before.", "mend the line that is shown, then: yandro servers reload SERVER";
    LogFolderMissing, Error, "The web server refuses its configuration because a folder for logs isn't there.", "mkdir -p FOLDER && yandro servers reload SERVER";
    PortHeld, Error, "Another program has the port.", "stop it, or choose other ports: yandro map NAME --http-port PORT --https-port PORT";
    PortNotListened, Error, "The web server runs and its configuration has no line by which it listens on the port.", "yandro map NAME";
    PortClosed, Error, "Nothing listens on the port, and nothing that can be seen explains it.", "yandro map NAME";
    FamilyHalf, Warning, "The name has addresses of both families, and only one of them answers: some clients wait or fail.", "yandro map NAME";
    Unreachable, Error, "The address doesn't answer at all.", "";
    SiteFileMissing, Error, "The site's virtual host file is gone.", "yandro settle";
    SiteNotEnabled, Error, "The site's virtual host file is there and not enabled.", "yandro settle";
    SitesNotIncluded, Error, "No line of the server's configuration includes the folder of the virtual host files.", "yandro settle";
    NotReloaded, Error, "The web server was not reloaded since its files were changed.", "yandro servers reload SERVER";
    OtherSiteAnswers, Error, "By the configuration another virtual host that has the name as well answers.", "the editor, at the place where the other one has the name";
    DefaultAnswers, Error, "By the configuration no virtual host has the name, and the default one answers.", "yandro settle --put-back NAME";
    ModuleOff, Error, "The web server hasn't the module for TLS switched on.", "yandro map NAME";
    HttpFails, Error, "No proper HTTP answer.", "";
    HttpsForced, Error, "Browsers ask for the name over HTTPS alone, and the site is without.", "yandro authority widen NAME && yandro map NAME --https only";
    RedirectMissing, Warning, "HTTP doesn't lead to HTTPS.", "yandro settle --put-back NAME";
    RedirectElsewhere, Warning, "HTTP leads to another host.", "yandro settle --put-back NAME";
    RedirectLosesPath, Warning, "HTTP leads to HTTPS, and not to the same path and query.", "yandro settle --put-back NAME";
    RedirectLoop, Error, "The site's redirects lead in a circle.", "the editor, at the project's first rule, or a search for it";
    RedirectLeaves, Warning, "A redirect of the application leaves the site's name.", "a search for that address in the project's files";
    PageLeaves, Warning, "The page says that its address is another one.", "a search for that address in the project's files";
    TlsFails, Error, "The TLS handshake fails.", "yandro map NAME";
    TlsVersion, Error, "The server speaks no version of TLS that browsers take.", "yandro settle --put-back NAME";
    TlsPlain, Error, "Plain HTTP is spoken on the port for HTTPS.", "yandro map NAME";
    TlsOff, Error, "The site's virtual host for HTTPS has TLS off.", "yandro settle --put-back NAME";
    AuthorityMissing, Error, "There is no local authority.", "yandro map NAME";
    CertificateUnknown, Error, "The certificate isn't of the local authority.", "yandro map NAME";
    CertificateName, Error, "The certificate doesn't name the host.", "yandro map NAME";
    CertificateExpired, Error, "The certificate's time is over.", "yandro cert renew";
    CertificateEarly, Error, "The certificate's time has not yet come.", "yandro map NAME";
    ClockWrong, Error, "By this machine's clock its own authority was not yet made.", "sudo timedatectl set-ntp true";
    CertificateEnds, Warning, "The certificate ends within 30 days, or is in its last third.", "yandro cert renew";
    CertificateConstraints, Error, "The certificate is beyond what the authority may vouch for.", "yandro authority widen SUFFIX";
    CertificateOld, Warning, "The server sends an older certificate than the one on disk.", "yandro servers reload SERVER";
    KeyMismatch, Error, "The key on disk is not the certificate's.", "yandro check NAME --mend";
    StoreUntrusting, Warning, "Some of this machine's trust stores trust the authority, and this one doesn't.", "yandro authority trust";
    HttpsStatus, Warning, "The page answers with an error.", "";
    HttpsFails, Error, "No proper HTTPS answer.", "";
    IndexMissing, Warning, "The folder has no index page, and is not listed.", "yandro map NAME --listing on";
    AccessDenied, Error, "A line of the configuration forbids the folder.", "the editor, at the line that forbids it";
    OverrideFault, Error, "An override file of the project has a line that the server can't take.", "the editor, at the override file";
    FolderMissing, Error, "The site's folder is gone.", "yandro map NAME ., in the folder where it is now";
    FolderForbidden, Error, "The server's user may not enter the folder, or not read it or its index page.", "yandro map NAME --fix-permissions, or as shown";
    Confined, Error, "The system's own guard keeps the server from the folder.", "the label or the rule that lets it through";
    AnsweredElsewhere, Error, "The name is answered from somewhere else.", "yandro settle --put-back NAME";
    ProofIntercepted, Warning, "A rule of the project's own answers the request for the proof file, so that nothing is proven.", "the editor, at the rule: requests below /.well-known/ are to pass";
    ProofNotWritten, Warning, "The proof file could not be written.", "";
    PhpSource, Warning, "PHP files are sent as text, their source with them.", "yandro map NAME --php";
    PhpFault, Warning, "A fault in a PHP file ends the request.", "the editor, at the line";
    PhpDown, Error, "The server passes PHP on, and nothing answers there.", "another socket that answers, or the program to start";
    UpstreamDown, Error, "The upstream is down.", "yandro map NAME URL, if it is found at another port; else to start it";
    UpstreamRefusesHost, Error, "The upstream refuses requests under the site's name.", "yandro map NAME --upstream-host own";
    UpstreamDiffers, Warning, "The upstream's answer doesn't come through.", "yandro settle --put-back NAME";
}

impl Code {
    /// The code as it is written, in tables and in JSON.
    pub fn word(self) -> String {
        // One spelling for both: the one that serde derives.
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

/// The page that lists every code, in Markdown: `docs/findings.md`.
pub fn findings_page() -> String {
    let mut page = String::from(
        "# Findings\n\nWhat `yandro check` tells, by its stable code. This page is made from the code's own table.\nA finding itself has the cause in a sentence, what was seen (file and line, process, served value), and\nthe very command that mends it. An error stops the site; with a warning it works, but will not for\nlong, or not as well as it could.\n\n| code | severity | what it means | what mends it |\n|---|---|---|---|\n",
    );
    for code in Code::ALL {
        let severity = if code.severity() == Severity::Error { "error" } else { "warning" };
        let remedy = if code.remedy().is_empty() { "–" } else { code.remedy() };
        page += &format!("| `{}` | {severity} | {} | {remedy} |\n", code.word(), code.meaning());
    }
    page
}

fn as_text<S: serde::Serializer>(name: &HostName, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(name.as_str())
}
