//! The built-in web server: every mapped site over HTTP/1.1 and HTTP/2, with TLS by
//! SNI, from a folder or an upstream.
//!
//! It is made for one developer's machine: it listens on loopback unless told
//! otherwise, and answers for the names of its sites only.

mod body;
mod connections;
mod files;
mod offer;
mod proxy;
mod respond;
mod server;
mod sites;
mod tls;

pub use offer::{Offered, offer};
pub use server::{Running, Server};
pub use sites::{Certificate, ServedSite, SiteError, Sites};
