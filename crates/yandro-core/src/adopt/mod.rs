//! Sites that a person wrote by hand: found among a server's virtual hosts, and taken over.
//!
//! A line that says something that yandro writes, too, is written by yandro from then on: the names, the document root,
//! the certificate. Every other line stays word for word, where it stood, so that the site answers as before.

mod commented;
mod cut;
mod found;
mod hand;
mod reading;
mod written;

pub use cut::CutFile;
pub use found::hand_sites;
pub use hand::{HandServer, HandSite};
pub use reading::{BlockAddress, BlockReading, Fate, ReadLine};
pub(crate) use reading::{HandBlock, OWN_CERTIFICATE, OWN_TLS, is_name, upstream};
pub use written::Brought;
