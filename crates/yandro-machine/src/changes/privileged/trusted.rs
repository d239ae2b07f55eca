//! Roots in key stores of Java's, which only root may change.

use yandro_core::{CertificateFacts, StoreKind, TrustChange, nickname, vetted_root};

use super::way::check_way;
use super::{HelperAnswer, refused};
use crate::files;
use crate::machine::{self, Machine};
use crate::os::UserId;
use crate::trust::{is_of_user, stores};

/// Puts a root of the user's own authority into a key store, or takes one of the user's out.
pub(super) fn change(caller: UserId, change: &TrustChange) -> HelperAnswer {
    match objection(caller, change) {
        Some(Ok(answer)) => answer,
        Some(Err(why)) => refused(why),
        None => match stores::carry_out(&Machine::bare(), change) {
            Ok(()) => HelperAnswer::Done,
            Err(error) => refused(error.to_string()),
        },
    }
}

/// Why root doesn't do it.
fn objection(caller: UserId, change: &TrustChange) -> Option<Result<HelperAnswer, String>> {
    let mut machine = Machine::bare();
    let Some(user) = machine::user_name(caller) else { return Some(Err(format!("no user has the number {caller}"))) };
    machine.owner = format!("{user}@");
    let is_known =
        stores::find(&machine).iter().any(|store| store.kind == StoreKind::Java && store.path == change.store);
    if change.kind != StoreKind::Java || !is_known {
        return Some(Err(format!("{} is not a key store of a Java runtime", change.store)));
    }
    if let Err(answer) = check_way(&change.store) {
        return Some(Ok(answer));
    }
    if !change.after {
        let held = stores::certificate(&machine, StoreKind::Java, &change.store, &change.nickname);
        let is_theirs = held.is_ok_and(|pem| is_of_user(&machine, pem.as_bytes()));
        return (!is_theirs).then(|| Err(format!("{} is not a root of this user's", change.nickname)));
    }
    let pem = match vetted_root(&change.certificate, &user) {
        Ok(pem) => pem,
        Err(why) => return Some(Err(why.to_string())),
    };
    let named = CertificateFacts::certificates(pem.as_bytes())
        .ok()
        .and_then(|all| Some(nickname(&files::sha256(all.first()?))));
    let is_named = named.as_deref() == Some(change.nickname.as_str());
    (!is_named).then(|| Err(format!("{} is not the name of this certificate", change.nickname)))
}
