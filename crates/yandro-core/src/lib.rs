//! The pure part of yandro: bytes and values in, values out.
//!
//! Nothing here reads the disk, the clock, the network or the environment, and
//! nothing prints; `clippy.toml` of this crate holds that.

pub mod check;
pub mod config;
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
