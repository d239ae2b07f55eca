//! The part of yandro that touches the machine: it observes, applies and probes. The core draws the conclusions.
//!
//! | to do | begin with |
//! |---|---|
//! | find out whose machine it is and where everything is kept | [`Machine`] |
//! | read what planning needs | [`observe::Observer`] |
//! | find servers, test and reload them | [`servers::Registry`], [`servers::Present`], [`servers::Control`] |
//! | apply a change set whole or not at all, and undo it | [`changes::carry_out()`], [`changes::done_steps`] |
//! | look at sites as a browser would, and around those that are not well | [`looking::look`] |
//! | ask and change trust stores | [`trust`], [`trust::stores`] |
//!
//! # Known limitations
//!
//! - It runs on Linux, on Windows under Wine, and compiles for macOS. What differs is in `os`; see `docs/platforms.md`.
//! - Lock and record are for one machine. On a folder that several machines share (NFS), one does not see the other's.
//! - [`caller`] takes the rights of the user who called sudo for a thread. It must not be held across an `await`.

pub mod as_caller;
pub mod caches;
pub mod caller;
pub mod certificates;
pub mod changes;
pub mod circumstances;
mod confine;
pub mod container;
pub mod database;
pub mod files;
mod fresh;
pub mod interrupt;
mod keys;
mod looking;
pub mod low_ports;
mod machine;
pub mod markers;
pub mod multicast;
pub mod network;
pub mod observe;
pub mod openssl;
mod os;
pub mod pack;
pub mod permissions;
pub mod php;
pub mod ports;
mod probe;
pub mod process;
pub mod project;
mod reading;
pub mod resolver;
pub mod servers;
pub mod settings;
pub mod site_steps;
#[cfg(test)]
mod tests;
mod traced;
pub mod trust;

pub use changes::{
    CarriedOut, CarryOutError, ControlError, Escalate, HistoryEntry, Keep, Lock, LockError, PutBackError, Reach,
    Refusal, ServerAction, ServerControl, StepFailure, Tools,
};
pub use files::FileError;
pub use fresh::SystemFresh;
pub use keys::Keys;
pub use looking::{AddressLook, Closeness, HostFacts, LookError, Progress, Scene, UrlLook, look, look_at_url};
pub use machine::{Environment, Machine, MachineError, system_description};
pub use observe::{ObserveError, Observer};
pub use openssl::OpensslError;
pub use os::UserId;
pub use ports::Holder;
pub use probe::{Limit, NotShown, PageRequest, WholeAnswer, whole_answers};
pub use process::{ProgramError, RunAs};
pub use servers::{Control, Disk, Found, Present, Registry};
pub use settings::{NamedServer, Settings, SettingsError};
