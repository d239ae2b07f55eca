//! The common part of all servers' configuration files: a tree of spans, and changing a file
//! without losing what the user wrote.

mod disabled;
mod files;
mod image;
mod include;
mod journal;
mod layout;
mod others;
mod path_view;
mod published;
mod site_file;
mod site_files;
mod tree;
mod virtual_host;
mod vocabulary;
mod want;

pub use disabled::brought_back;
pub(crate) use disabled::set_aside;
pub use files::{ConfigFault, Files, Place, Seen};
pub(crate) use image::FileImage;
pub(crate) use include::{files_of, matches_path};
pub use journal::{Journal, Switched};
pub(crate) use layout::PLAIN;
pub use layout::{FileOwner, KnownLayout, Layout, LayoutDisk, OTHERS};
pub use layout::{KnownLinks, Links};
pub(crate) use layout::{others_name, site_file_name};
pub use others::{Others, others_certificate};
pub(crate) use others::{listened_port, others_file};
pub use path_view::{PathPair, PathPairError, PathView};
pub use published::{Published, PublishedPort, PublishedPortError};
pub use site_file::Dialect;
pub(crate) use site_file::hand_edits;
pub(crate) use site_file::{SiteFile, head};
pub use site_file::{list_of, site_file};
pub use site_files::PathError;
pub use site_files::{ServerTraits, SiteFiles, Variable};
pub use tree::Node;
pub use tree::{Argument, Directive, ParseError, Section, Tree};
pub(crate) use virtual_host::first_that_has;
pub(crate) use virtual_host::is_guard;
pub use virtual_host::{Answering, VirtualHost, asked_at, by_address};
pub(crate) use vocabulary::foreign_directives;
pub(crate) use want::{FileText, escaped, found_in};
pub use want::{HandEdit, Syntax, Want};
