//! Carrying change sets out, whole or not at all.
//!
//! The old contents are on the disk before the first byte is changed; each file
//! is replaced by a rename; the server tests its configuration before it is
//! reloaded; and on any failure, also one that ends this process, everything is
//! rolled back byte for byte.

mod asked;
mod carry_out;
mod control;
mod hands;
mod history;
mod keeper;
mod link;
mod lock;
mod originals;
mod privileged;
mod put_back;
mod record;
mod records;
mod side_by_side;
mod steps;
mod taken_over;

pub use asked::{administer_database, forget_helped, start_php};
pub use carry_out::{CarriedOut, CarryOutError, StepFailure, Tools, carry_out};
pub use control::{ControlError, Controls, OnWait, ServerAction, ServerControl};
pub use hands::{Escalate, NoEscalation, Reach, with_rights};
pub(crate) use history::recorded_rows;
pub use history::{History, HistoryEntry, Keep, done_steps, history, overlapped_by, prune, standing};
pub use lock::{Lock, LockError};
pub use originals::{original, originals};
pub use privileged::{Refusal, serve_privileged};
pub use put_back::{PutBackError, Recovered, Recovery, RolledBack, is_unfinished, recover};
pub use taken_over::TakenOver;
