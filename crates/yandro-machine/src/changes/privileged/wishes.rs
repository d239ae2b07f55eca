//! The caller's side: what a change set wants of root.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{Change, ChangeSet, Role, ServerId, SiteList, Step, Wish, own_hosts_lines};

use super::permits::{Refusal, judge};
use super::{Asked, PathState};
use crate::files;
use crate::machine::Machine;
use crate::os;

/// The steps of these paths, as the helper is asked for them.
pub(in crate::changes) fn asked(set: &ChangeSet, paths: &[Utf8PathBuf]) -> Vec<Asked> {
    let of = |step: &Step| match &step.change {
        Change::File(change) => {
            let state = |content: &Option<_>| {
                PathState::of_file(content.as_ref().map(|content: &yandro_core::FileContent| content.as_slice()))
            };
            Some(Asked { path: change.path.clone(), from: state(&change.before), to: state(&change.after) })
        }
        Change::Link(change) => Some(Asked {
            path: change.path.clone(),
            from: PathState::of_link(change.before.as_deref()),
            to: PathState::of_link(change.after.as_deref()),
        }),
        _ => None,
    };
    set.steps.iter().filter_map(of).filter(|asked| paths.contains(&asked.path)).collect()
}

/// The typed request for a change set. `server` is the default for sites without one.
pub(in crate::changes) fn wish(machine: &Machine, set: &ChangeSet, server: ServerId) -> Wish {
    let places = &machine.places;
    let text = |bytes: Option<&[u8]>| String::from_utf8_lossy(bytes.unwrap_or_default()).into_owned();
    let now = |path: &Utf8Path| files::read_if_there(path).ok().flatten().map(|bytes| text(Some(&bytes)));
    let then = |path: &Utf8Path| set.change_of(path).map(|change| text(change.after.as_deref().map(Vec::as_slice)));
    // A path may begin with `~/`, and root has another home.
    let whole = |text: String| match SiteList::parse(&text, Some(&places.home)) {
        Ok(list) => list.to_text(),
        Err(_) => text,
    };
    let before = whole(now(&places.site_list()).unwrap_or_default());
    let after = then(&places.site_list()).map_or_else(|| before.clone(), whole);
    let applied = now(&places.applied()).unwrap_or_else(|| before.clone());
    let wanted = then(&places.applied()).unwrap_or_else(|| applied.clone());
    let hosts_after = set.change_of(&places.hosts).and_then(|change| change.after.as_deref());
    let root = set.steps.iter().find_map(|step| match (&step.role, &step.change) {
        (Role::TrustStore, Change::File(change)) => change.after.as_deref().map(|content| text(Some(content))),
        _ => None,
    });
    Wish {
        config: places.config.clone(),
        data: places.data.clone(),
        before,
        after,
        applied,
        wanted,
        server,
        hosts: hosts_after.map(|content| own_hosts_lines(content, &places.list)).unwrap_or_default(),
        root,
    }
}

/// The parts that need root's decision: worked out without root, before a password is asked for.
pub(in crate::changes) fn objections(wish: &Wish, asked: &[Asked]) -> Vec<Refusal> {
    judge(wish, os::this_user(), asked).1
}
