//! Findings: what a check found wrong, with its cause and the command that mends it.

use serde::Serialize;

use crate::name::HostName;

/// Stable codes: a program may rely on them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub enum Code {
    /// No line of the hosts file names the host.
    HostsMissing,
    /// The hosts file points the name elsewhere.
    HostsElsewhere,
    /// The resolver gives an old answer that something still holds.
    ResolverStale,
    /// Something is asked for names before the hosts file, or in its place.
    ResolverOrder,
    /// The resolver says something else than the hosts file.
    ResolverDiffers,
    /// The resolver knows no address.
    ResolverFails,
    /// No interface of this machine has the site's address any more.
    AddressGone,
    /// Nothing listens on the port.
    PortClosed,
    /// The address doesn't answer.
    Unreachable,
    /// No proper HTTP answer.
    HttpFails,
    /// HTTP doesn't lead to HTTPS.
    RedirectMissing,
    /// HTTP leads to another host.
    RedirectElsewhere,
    /// No TLS on the HTTPS port.
    TlsFails,
    /// Plain HTTP is spoken on the HTTPS port.
    TlsPlain,
    /// There is no authority.
    AuthorityMissing,
    /// The certificate isn't the authority's.
    CertificateUnknown,
    /// The certificate doesn't name the host.
    CertificateName,
    /// The certificate's time is over or not yet come.
    CertificateExpired,
    /// The certificate ends within 30 days.
    CertificateEnds,
    /// The certificate is beyond what the authority may vouch for.
    CertificateConstraints,
    /// The server sends an older certificate than the one on disk.
    CertificateOld,
    /// HTTPS answers with an error.
    HttpsStatus,
    /// No proper HTTPS answer.
    HttpsFails,
    /// The site's folder is gone.
    FolderMissing,
    /// The server may not read the folder.
    FolderForbidden,
    /// The name is answered from somewhere else.
    AnsweredElsewhere,
    /// The proof file could not be written.
    ProofNotWritten,
    /// The upstream is down.
    UpstreamDown,
    /// The upstream's answer doesn't come through.
    UpstreamDiffers,
}

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
    /// The name that it is about.
    #[serde(serialize_with = "as_text")]
    pub name: HostName,
    /// The cause, in one sentence.
    pub cause: String,
    /// What was seen: lines, served values, the system's words.
    pub evidence: Option<String>,
    /// The command that mends it, ready to be pasted.
    pub remedy: Option<String>,
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

fn as_text<S: serde::Serializer>(name: &HostName, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_str(name.as_str())
}
