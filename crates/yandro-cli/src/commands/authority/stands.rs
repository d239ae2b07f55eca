//! The trust stores that trust the authority.

use yandro_machine::{trust, trust::stores};

use super::StoreData;
use crate::context::Context;
use crate::view::{BAD, COMMAND, Cell, DIM, GOOD, Table, Ui, WARN};

/// A trust store.
struct StoreState {
    title: String,
    path: String,
    how: How,
    /// The roots of earlier authorities that are still in it.
    orphans: Vec<String>,
}

enum How {
    Trusted,
    NotYet,
    NotAsked(String),
}

/// All of them.
pub(super) struct Stands(Vec<StoreState>);

impl Stands {
    /// `own` is what the root is called in the stores.
    pub(super) fn of(context: &Context, own: &str) -> Self {
        let machine = &context.machine;
        let system = trust::find(machine).map(|store| {
            let files = trust::own_files(machine, store);
            let own = trust::file_of(machine, store, own);
            StoreState {
                title: "this system".into(),
                path: store.folder().into(),
                how: if files.contains(&own) { How::Trusted } else { How::NotYet },
                orphans: files.iter().filter(|path| **path != own).map(ToString::to_string).collect(),
            }
        });
        let others = stores::find(machine).into_iter().map(|store| {
            let held = stores::own_roots(machine, store.kind, &store.path);
            let former = stores::former_roots(machine, store.kind, &store.path, own).unwrap_or_default();
            let how = match held {
                Ok(held) if held.iter().any(|name| name == own) => How::Trusted,
                Ok(_) => How::NotYet,
                Err(error) => How::NotAsked(error.to_string()),
            };
            let orphans = former.into_iter().map(|(name, _)| name).collect();
            StoreState { title: store.title, path: store.path.to_string(), how, orphans }
        });
        Self(system.into_iter().chain(others).collect())
    }

    pub(super) fn to_data(&self) -> Vec<StoreData> {
        self.0.iter().map(to_data).collect()
    }

    pub(super) fn show(&self, ui: &mut Ui) {
        ui.say("");
        let mut table = Table::new(&["TRUST STORE", "STATUS", "WHERE"]).least(&["WHERE"]);
        for store in &self.0 {
            let how = match &store.how {
                How::Trusted => Cell::new("trusts it", GOOD),
                How::NotYet => Cell::new("doesn't know it", WARN),
                How::NotAsked(_) => Cell::new("can't be asked", BAD),
            };
            table.row(vec![Cell::plain(&store.title), how, Cell::new(&store.path, DIM)]);
        }
        if self.0.is_empty() {
            ui.say("No trust store was found that yandro knows how to keep: import the root certificate by hand.");
            return;
        }
        ui.table(&table);
        for store in &self.0 {
            if let How::NotAsked(why) = &store.how {
                ui.note(why);
            }
            for orphan in &store.orphans {
                ui.print(&format!(
                    "{WARN}!{WARN:#} {} still has the root of an earlier authority: {orphan}\n    fix: {COMMAND}yandro authority trust{COMMAND:#}",
                    store.title
                ));
            }
        }
        if self.0.iter().any(|store| matches!(store.how, How::NotYet)) {
            ui.say(&format!(
                "\nHave all of them trust it: {COMMAND}yandro authority trust{COMMAND:#}. Whatever trusts it trusts every site that you map."
            ));
        }
    }
}

fn to_data(store: &StoreState) -> StoreData {
    StoreData {
        store: store.title.clone(),
        path: store.path.clone(),
        trusted: match store.how {
            How::Trusted => Some(true),
            How::NotYet => Some(false),
            How::NotAsked(_) => None,
        },
        former_roots: store.orphans.clone(),
    }
}
