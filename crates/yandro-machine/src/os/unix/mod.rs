//! Linux and macOS.

mod attributes;
mod files;
mod folder;
mod guarded;
mod helper;
mod identity;
#[cfg(target_os = "linux")]
mod linux;
#[cfg(target_os = "macos")]
mod macos;
mod output;
mod owner;
mod process;
mod rights;
mod roots;
mod signals;
#[cfg(target_os = "linux")]
mod sockets;

#[cfg(target_os = "linux")]
use linux as own;
#[cfg(target_os = "macos")]
use macos as own;

pub use attributes::Attributes;
pub(crate) use attributes::{circle_of_links, fewer_files, may_write, most_open_files};
pub(crate) use files::*;
pub(crate) use folder::Folder;
pub(crate) use guarded::{check_way, is_roots_alone, is_roots_file, path_parts};
pub(crate) use helper::{Elevated, helper_folder, helper_streams, make_guarded_folders, with_all_rights};
pub(crate) use identity::{
    Account, account, account_named, addresses, become_user, host_name, is_root, is_roots, this_user,
};
pub(crate) use output::{Output, clean_environment, end_group, own_group};
#[cfg(target_os = "macos")]
pub(crate) use own::listening;
pub(crate) use own::{
    FileRights, IMMUTABLE_BY, as_account, began, changeable_again, children, command_line, description, first_of_users,
    is_idle, is_immutable, keep_memory_to_itself, named_sockets, process, processes, program,
};
#[cfg(target_os = "linux")]
pub(crate) use own::{has_low_ports, set_low_ports, shares_processes};
pub(crate) use owner::{Owner, give_project};
pub(crate) use process::{
    become_program, connects, flush_names, is_socket, keep_streams_to_itself, leave_console, leave_session,
    opened_by_systemd, processes_named, send, service_of,
};
pub use rights::User;
pub(crate) use rights::{granting, is_person, mode, rights, rights_of, rights_with, set_rights};

pub(crate) use roots::{add_system_root, remove_system_root, system_roots};
pub(crate) use signals::{ENDING, Ending};
#[cfg(target_os = "linux")]
pub(crate) use sockets::listening;

use identity::this_group;
use own::{SEARCH, groups_of, init_groups};

use super::{FileId, HelperStreams, ListeningSocket, NamedSocket, Process, Signal, WayFault};

/// The number of a user.
pub type UserId = u32;
