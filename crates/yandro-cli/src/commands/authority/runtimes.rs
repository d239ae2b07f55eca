//! The runtimes that trust the authority, measured.

use yandro_core::{Authority, Fresh as _, Key, KeyKind, Leaf, LeafRequest};
use yandro_machine::{SystemFresh, trust::runtimes::Measured, trust::runtimes::measure};

use super::{RuntimeData, RuntimesData};
use crate::context::{Context, now};
use crate::error::CommandError;
use crate::signals;
use crate::view::{COMMAND, Cell, DIM, GOOD, Table, Ui, WARN};

/// The measurements, or the reason why there are none.
pub(super) enum Runtimes {
    Measured(Vec<Measured>),
    Not(String),
}

impl Runtimes {
    /// Has every runtime that is found here ask for a page.
    pub(super) fn of(context: &Context, authority: &Authority) -> Self {
        if !context.machine.is_real() {
            return Self::Not("within a sysroot none is".into());
        }
        match certificate(context, authority) {
            Ok(None) => {
                Self::Not("the authority's key is behind a passphrase: give it by --passphrase-file FILE".into())
            }
            Ok(Some((chain, key))) => asked(&chain, &key),
            Err(error) => Self::Not(error.message),
        }
    }

    pub(super) fn to_data(&self) -> RuntimesData {
        match self {
            Self::Measured(all) => RuntimesData::Measured(all.iter().map(to_data).collect()),
            Self::Not(why) => RuntimesData::Not { not_measured: why.clone() },
        }
    }

    pub(super) fn show(&self, ui: &mut Ui) {
        match self {
            Self::Not(why) => ui.note(&format!("no runtime was asked whether it trusts the authority ({why})")),
            Self::Measured(all) if all.is_empty() => {}
            Self::Measured(all) => {
                let mut table = Table::new(&["RUNTIME", "STATUS", "PROGRAM"]).least(&["PROGRAM"]);
                for own in all {
                    let how = if own.trusts { Cell::new("trusts it", GOOD) } else { Cell::new("refuses it", WARN) };
                    table.row(vec![Cell::plain(&own.title), how, Cell::new(own.program.as_str(), DIM)]);
                }
                ui.say("");
                ui.table(&table);
                if all.iter().any(|own| !own.trusts) {
                    ui.say(&format!(
                        "\nFor a runtime with a separate list, set variables: {COMMAND}yandro authority env{COMMAND:#}"
                    ));
                }
            }
        }
    }
}

fn to_data(own: &Measured) -> RuntimeData {
    RuntimeData { runtime: own.title.clone(), program: own.program.to_string(), trusts: own.trusts }
}

/// A certificate of a day for this machine's own address; `None` while the key is locked.
fn certificate(context: &Context, authority: &Authority) -> Result<Option<(String, Key)>, CommandError> {
    let Some(files) = context.observer().authority()? else { return Ok(None) };
    let Ok(issuing_key) = files.key() else { return Ok(None) };
    let mut fresh = SystemFresh::new();
    let key = fresh.key(KeyKind::P256)?;
    let leaf = Leaf { addresses: vec![[127, 0, 0, 1].into()], days: 1, ..Leaf::default() };
    let request = LeafRequest { leaf: &leaf, now: now(), serial: fresh.serial() };
    Ok(Some((authority.issue(issuing_key, &request, &key)?, key)))
}

fn asked(chain: &str, key: &Key) -> Runtimes {
    let path = std::env::var("PATH").unwrap_or_default();
    let measured = signals::runtime().map_err(|error| error.message).and_then(|runtime| {
        let measured = runtime.block_on(signals::unless_interrupted(measure(&path, chain, key)));
        measured.ok_or_else(|| "interrupted".to_owned())?.map_err(|error| error.to_string())
    });
    match measured {
        Ok(all) => Runtimes::Measured(all),
        Err(why) => Runtimes::Not(why),
    }
}
