//! Names that somebody on the internet may own: asked about once, when they are first mapped.

use yandro_core::site::{Site, SiteList};

use super::consent;
use crate::context::Context;
use crate::error::CommandError;

/// Asks, on a terminal, whether such a name of `site` is meant, unless it is in the list
/// already. `asked` keeps a plan that is made anew from asking again.
pub(super) fn ask(
    context: &Context,
    is_meant: bool,
    site: &Site,
    list: &SiteList,
    asked: &mut bool,
) -> Result<(), CommandError> {
    let new: Vec<_> =
        site.names().filter(|name| name.can_be_real() && list.owner(name).is_none()).map(ToString::to_string).collect();
    if new.is_empty() || is_meant || *asked || context.preview {
        return Ok(());
    }
    let names = new.join("` and `");
    let fact = format!(
        "somebody on the internet may own `{names}`; while mapped, the real one can't be reached from this machine"
    );
    consent::ask(
        &fact,
        "Map it all the same?",
        "if that is what you want, say so: add `--hide-real`; or choose a name that nobody can own, such as one below `.test`",
    )?;
    *asked = true;
    Ok(())
}
