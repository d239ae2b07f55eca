//! The user's own authority.

use yandro_core::{Authority, nickname};
use yandro_machine::files;

use crate::error::CommandError;

/// What an authority's root is called in the trust stores.
pub(super) fn root_nickname(authority: &Authority) -> String {
    nickname(&files::sha256(authority.root()))
}

pub(in crate::commands) fn none_yet() -> CommandError {
    CommandError::not_made("there is no local authority yet").hint("the first `yandro map NAME FOLDER` makes it")
}
