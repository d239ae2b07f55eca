//! `yandro authority passphrase`.

use camino::Utf8Path;
use yandro_core::{Access, ChangeSet, Fresh as _, Key, Role};
use yandro_machine::SystemFresh;

use super::own::none_yet;
use crate::commands::apply::{Planned, apply, done};
use crate::context::Context;
use crate::error::CommandError;
use crate::passphrase;
use crate::view::{Data, Outcome, STRONG, Ui, data};

/// Puts the authority's key behind a passphrase, behind another, or in the clear.
pub(super) fn run<'c>(
    context: &'c Context,
    remove: bool,
    file: Option<&'c Utf8Path>,
    ui: &mut Ui,
) -> Result<Outcome<'c>, CommandError> {
    let path = context.machine.places.issuing_key();
    let is_locked = context.observer().authority()?.ok_or_else(none_yet)?.is_locked();
    if remove && !is_locked {
        let data = KeyData { key: path.to_string(), behind_passphrase: false };
        let text = "the authority's key is in the clear already; nothing was changed";
        return Ok(Outcome::new(data, move |_, ui| ui.say(text)));
    }
    // Checked before the user is asked, and before the lock is held while the user types.
    if is_locked && context.keys.passphrase().is_none() {
        passphrase::unlock(&context.machine, &context.keys)?;
    }
    let new = if remove || context.preview {
        None
    } else {
        Some(passphrase::new("the authority's key", file, "--new-passphrase-file FILE")?)
    };
    let text = |key: &Key| -> Result<Vec<u8>, CommandError> {
        let mut fresh = SystemFresh::new();
        Ok(match &new {
            None if remove => key.to_secret_pem().as_bytes().to_vec(),
            None => b"(behind the passphrase)".to_vec(),
            Some(new) => key.to_locked_pem(new, fresh.bytes(), fresh.bytes())?.into_bytes(),
        })
    };
    let done = done!(apply(context, ui, || plan(context, text), |_| Ok(())));
    let (former, are) = match done.about - 1 {
        0 => (String::new(), "is"),
        1 => (" and the key of the former authority".to_owned(), "are"),
        many => (format!(" and the keys of {many} former authorities"), "are"),
    };
    let data = KeyData { key: path.to_string(), behind_passphrase: !remove };
    Ok(Outcome::new(data, move |_, ui| {
        if remove {
            ui.say(&format!("{STRONG}{path}{STRONG:#}{former} {are} no longer encrypted, and readable only by you"));
        } else {
            ui.say(&format!("{STRONG}{path}{STRONG:#}{former} {are} behind the passphrase now"));
            ui.note(
                "yandro asks for it whenever it issues a certificate; a script names a file: --passphrase-file FILE",
            );
        }
    }))
}

/// Plans to write every key of the user's authorities in the form that `text` gives it, and counts them.
fn plan(
    context: &Context,
    text: impl Fn(&Key) -> Result<Vec<u8>, CommandError>,
) -> Result<Planned<usize>, CommandError> {
    let places = &context.machine.places;
    let own = context.observer().authority()?.ok_or_else(none_yet)?;
    let mut set = ChangeSet::default();
    let content = (Some(own.texts.key.clone()), Some(text(own.key()?)?));
    set.file(Role::Authority, places.issuing_key(), content, Access::Secret);
    for (id, files) in &context.observer().former() {
        let Ok(key) = files.key() else { continue };
        let path = places.former_authority(id).join("issuing.key");
        let content = (Some(files.texts.key.clone()), Some(text(key)?));
        set.file(Role::Authority, path, content, Access::Secret);
    }
    let keys = set.steps.len();
    Ok(Planned { set, starts: false, about: keys })
}

data! {
    /// Data of `yandro authority passphrase`.
    struct KeyData {
        /// The file with the key.
        key: String,
        behind_passphrase: bool,
    }
}

impl Data for KeyData {}
