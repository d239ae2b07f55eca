//! The built-in web server: every mapped site over HTTP/1.1 and HTTP/2, with TLS by
//! SNI, from a folder, its PHP files, or an upstream.
//!
//! It is made for one developer's machine: it listens on loopback unless told
//! otherwise, and answers for the names of its sites only.
//!
//! Begin with [`Server`], which has the ports, and [`Sites`], which it answers for; [`offer`] shows a page once, for a
//! phone that is to take a root certificate; a [`Responder`] answers questions for the names below sites (DNS).
//!
//! # Known limitations
//!
//! - No HTTP/3, no WebSocket over HTTP/2; answers of upstreams are passed on as they are, without compression.
//! - Sites and certificates are values: whoever changes them hands [`Running`] new ones.
//! - PHP files are run by a `FastCGI` server that is there; this crate starts none.

mod answered;
mod body;
mod compress;
mod connections;
mod fastcgi;
mod folder;
mod lend;
mod names;
mod offer;
mod proxy;
mod respond;
mod server;
mod sites;
mod tls;
mod workers;

pub use answered::{Answered, OnAnswered, Report, Reports};
pub use lend::{LendError, Origin, Visit, lend};
pub use names::{Responder, Responding, TenantNames};
pub use offer::{Offered, offer};
pub use server::{Running, Server};
pub use sites::{Certificate, ServedSite, SiteError, Sites};
