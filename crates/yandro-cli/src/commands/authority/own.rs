//! The user's own authority.

use yandro_core::{Authority, nickname};
use yandro_machine::files;

use crate::error::CommandError;

/// Name of an authority's root in the trust stores.
pub(super) fn root_nickname(authority: &Authority) -> String {
    nickname(&files::sha256(authority.root()))
}

pub(in crate::commands) fn none_yet() -> CommandError {
    CommandError::not_made("no local authority exists yet").hint("the first `yandro map NAME FOLDER` makes it")
}
