//! One file a command. Each reads like the four steps: observe, plan, carry out, prove.

mod apply;
pub(crate) mod authority;
pub(crate) mod cert;
pub(crate) mod check;
mod consent;
pub(crate) mod demo;
pub(crate) mod history;
pub(crate) mod hosts;
pub(crate) mod map;
pub(crate) mod pack;
pub(crate) mod ports;
mod prove;
mod reach;
mod real_names;
pub(crate) mod serve;
pub(crate) mod servers;
pub(crate) mod settle;
pub(crate) mod sites;
pub(crate) mod undo;
pub(crate) mod unmap;
pub(crate) mod vhosts;
