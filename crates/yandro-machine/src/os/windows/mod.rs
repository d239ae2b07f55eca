//! Windows.

mod attributes;
mod files;
mod folder;
mod guarded;
mod helper;
mod identity;
mod output;
mod owner;
mod process;
mod replace;
mod rights;
mod roots;
mod signals;

pub use attributes::Attributes;
pub(crate) use attributes::{circle_of_links, fewer_files, may_write, most_open_files};
pub(crate) use files::*;
pub(crate) use folder::Folder;
pub(crate) use guarded::{check_way, is_roots_alone, is_roots_file, path_parts};
pub(crate) use helper::{Elevated, helper_folder, helper_streams, make_guarded_folders, with_all_rights};
pub use identity::UserId;
pub(crate) use identity::{
    Account, FileRights, account, account_named, addresses, as_account, become_user, host_name, is_root, is_roots,
    this_user,
};
pub(crate) use output::{Output, clean_environment, end_group, own_group};
pub(crate) use owner::{Owner, give_project};
pub(crate) use process::*;
pub(crate) use replace::{hard_link, remove_file, remove_folder, rename};
pub use rights::User;
pub(crate) use rights::{granting, is_person, mode, rights, rights_of, rights_with, set_rights};
pub(crate) use roots::{add_system_root, remove_system_root, system_roots};
pub(crate) use signals::{ENDING, Ending};

use super::{FileId, HelperStreams, ListeningSocket, NamedSocket, Process, Signal, WayFault};
