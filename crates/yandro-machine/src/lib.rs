//! The part of yandro that touches the machine.

pub mod as_caller;
pub mod caches;
pub mod caller;
pub mod certificates;
pub mod changes;
pub mod circumstances;
mod confine;
pub mod files;
mod fresh;
pub mod interrupt;
pub mod keys;
pub mod looking;
mod machine;
pub mod network;
pub mod observe;
pub mod openssl;
pub mod pack;
pub mod permissions;
pub mod php;
pub mod ports;
pub mod probe;
pub mod process;
mod reading;
pub mod servers;
pub mod settings;
pub mod trust;

pub use fresh::SystemFresh;
pub use machine::{Environment, Machine, MachineError};
