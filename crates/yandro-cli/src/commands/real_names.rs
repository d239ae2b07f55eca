//! Names that somebody on the internet may own: asked about once, when they are first used.

use yandro_core::HostName;

use super::consent;
use crate::context::Context;
use crate::error::CommandError;

/// How many names a question shows.
const SHOWN: usize = 3;

/// Asks, on a terminal, whether those of `names` that can be real are meant. `names` are those that
/// were not pointed anywhere before; `asked` says that the user agreed, when the change is planned again.
pub(super) fn ask<'n>(
    context: &Context,
    is_meant: bool,
    names: impl Iterator<Item = &'n HostName>,
    asked: &mut bool,
) -> Result<(), CommandError> {
    let real: Vec<_> = names.filter(|name| name.can_be_real()).map(ToString::to_string).collect();
    if real.is_empty() || is_meant || *asked || context.preview {
        return Ok(());
    }
    let mut names = format!("`{}`", real[..real.len().min(SHOWN)].join("` and `"));
    if let Some(more) = real.len().checked_sub(SHOWN).filter(|more| *more > 0) {
        names += &format!(" and {more} more");
    }
    let fact = format!(
        "somebody on the internet may own {names}; while mapped, the real one can't be reached from this machine"
    );
    consent::ask(
        &fact,
        "Map it all the same?",
        "if that is what you want, say so: add `--hide-real`; or choose a name that nobody can own, such as one below `.test`",
    )?;
    *asked = true;
    Ok(())
}
