//! One file a command. Each reads like the four steps: observe, plan, carry out, prove.

pub(crate) mod authority;
pub(crate) mod check;
pub(crate) mod demo;
pub(crate) mod map;
pub(crate) mod serve;
pub(crate) mod sites;
pub(crate) mod unmap;
