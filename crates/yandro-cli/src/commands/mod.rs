//! One file for each command. Each reads like the four steps: observe, plan, apply, prove.

pub(crate) mod adopt;
mod apply;
pub(crate) mod authority;
pub(crate) mod cert;
pub(crate) mod check;
mod consent;
pub(crate) mod database;
pub(crate) mod demo;
pub(crate) mod enable;
pub(crate) mod env;
mod follow;
pub(crate) mod history;
pub(crate) mod hosts;
mod jobs;
pub(crate) mod lend;
pub(crate) mod logs;
mod look;
pub(crate) mod map;
pub(crate) mod open;
pub(crate) mod pack;
pub(crate) mod ports;
mod prove;
mod reach;
pub(crate) mod readdress;
mod real_names;
pub(crate) mod rename;
pub(crate) mod serve;
pub(crate) mod servers;
pub(crate) mod settle;
pub(crate) mod setup;
pub(crate) mod sites;
pub(crate) mod support;
pub(crate) mod undo;
pub(crate) mod uninstall;
pub(crate) mod unmap;
pub(crate) mod vhosts;

/// The types of what commands give with `--json`.
#[cfg(test)]
pub(crate) mod schemas {
    pub(crate) use super::adopt::schemas::*;
    pub(crate) use super::authority::schemas::*;
    pub(crate) use super::cert::schemas::*;
    pub(crate) use super::check::url::CheckedUrls;
    pub(crate) use super::database::schemas::*;
    pub(crate) use super::enable::Disabled;
    pub(crate) use super::env::SiteEnvironment;
    pub(crate) use super::history::{HistoryRows, Originals, Restored};
    pub(crate) use super::hosts::edit::{LineDropped, PointedData};
    pub(crate) use super::hosts::exchange::{Imported, TextData};
    pub(crate) use super::hosts::lint::Lint;
    pub(crate) use super::hosts::list::Entries;
    pub(crate) use super::lend::Lending;
    pub(crate) use super::logs::LogLine;
    pub(crate) use super::map::{Mapped, MappedSites, Steps};
    pub(crate) use super::open::Opened;
    pub(crate) use super::pack::PackedData;
    pub(crate) use super::ports::Ports;
    pub(crate) use super::readdress::Readdressed;
    pub(crate) use super::serve::{Installed as ServiceInstalled, Removed as ServiceRemoved};
    pub(crate) use super::servers::schemas::*;
    pub(crate) use super::settle::Settled;
    pub(crate) use super::sites::SiteRows;
    pub(crate) use super::support::Support;
    pub(crate) use super::undo::Undone;
    pub(crate) use super::uninstall::Uninstalled;
    pub(crate) use super::unmap::Unmapped;
    pub(crate) use super::vhosts::VirtualHosts;
}
