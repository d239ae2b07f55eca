//! The evidence that the answers of a site are compared with.

use yandro_core::{Content, Expected, Proof, Upstream};

use super::proof::ProofFile;

/// The evidence that a site's answers are compared with.
pub(super) enum ProofEvidence {
    /// A file under the document root; gone when dropped.
    File(ProofFile),
    /// The upstream itself is asked.
    Upstream(Upstream),
    /// No evidence is possible.
    None(Proof),
}

impl ProofEvidence {
    pub(super) async fn prepare(expected: &Expected) -> Self {
        let root = match &expected.site.content {
            // The handshake has proven that it holds the site's key.
            Content::Upstream(upstream) if upstream.is_secure() => return Self::None(Proof::Given),
            // Its address means something else on the server's machine.
            Content::Upstream(_) if !expected.is_here && expected.server.is_configured() => {
                return Self::None(Proof::UpstreamUnseen);
            }
            Content::Upstream(upstream) => return Self::Upstream(upstream.clone()),
            Content::Folder { .. } => expected.site.document_root().expect("a folder has a document root"),
        };
        let put = tokio::task::spawn_blocking(move || ProofFile::put(&root)).await;
        match put.expect("writing the proof file does not panic") {
            Ok(file) => Self::File(file),
            Err(why) => Self::None(why),
        }
    }
}
