//! The pure part of yandro: bytes and values in, values out.
//!
//! | to do | begin with |
//! |---|---|
//! | read host names as browsers and certificate authorities do | [`name::HostName`] |
//! | read and edit a site list without changing anything else in it | [`site::SiteList`], [`site::set_site`] |
//! | read, check and edit a hosts file | [`hosts::HostsFile`], [`hosts::lint`], [`hosts::point`] |
//! | run through a server's configuration as the server does | [`servers::Software`], [`httpd::run`], [`nginx::run`] |
//! | issue and judge certificates | [`pki::Authority`], [`pki::objections`] |
//! | plan what a command changes, or take it back | [`plan::map_site`], [`plan::settle`], [`plan::undo`] |
//! | turn what was seen of a site into causes and remedies | [`check::judge`], [`check::explain`] |
//!
//! Nothing here reads the disk, the clock, the network or the environment, and nothing prints: these are arguments.
//! The lists in this crate's `clippy.toml` make the build fail where that is forgotten.
//!
//! # Known limitations
//!
//! - Paths and site lists are UTF-8. Hosts files and server configuration may hold any bytes; what is not UTF-8 in them
//!   is kept and matches nothing.
//! - Apache httpd is read as 2.4, nginx as 1.18 and later. Conditions that a request decides (`<If>`, `map`) are not
//!   evaluated.
//! - Certificates of others are judged by what Chromium, Firefox and Apple's systems document. Revocation isn't looked
//!   at.
//! - Windows and macOS are known as data (paths, stores, runtimes), and no plan was carried out there.

pub mod check;
pub mod config;
pub mod host_port;
pub mod hosts;
pub mod name;
pub mod network;
pub mod pack;
pub mod pki;
pub mod plan;
pub mod schedule;
pub mod servers;
pub mod shell;
pub mod site;
pub mod source;
pub mod system;
pub mod tables;

pub use servers::{httpd, nginx};
