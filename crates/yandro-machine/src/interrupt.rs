//! Signals that ask this process to end: held back while a change is applied, so that it is
//! finished or rolled back first.

use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, OnceLock};

use crate::os;

struct Flags {
    /// Whether the signals end the process as they usually do.
    usual: Arc<AtomicBool>,
    /// Whether one came while they didn't.
    came: Arc<AtomicBool>,
    /// How many [`HeldSignals`] there are.
    held: AtomicUsize,
}

static FLAGS: OnceLock<Option<Flags>> = OnceLock::new();

/// The flags; `None` where the system takes no handlers. Then the signals end the process, and the
/// next command rolls back.
fn flags() -> Option<&'static Flags> {
    FLAGS.get_or_init(register).as_ref()
}

fn register() -> Option<Flags> {
    let flags = Flags { usual: Arc::new(AtomicBool::new(true)), came: Arc::default(), held: AtomicUsize::default() };
    for signal in os::ENDING {
        signal_hook::flag::register_conditional_default(signal, flags.usual.clone()).ok()?;
        signal_hook::flag::register(signal, flags.came.clone()).ok()?;
    }
    Some(flags)
}

/// While one lives, SIGINT, SIGTERM, SIGHUP and SIGQUIT don't end this process.
#[derive(Debug)]
pub struct HeldSignals(());

impl HeldSignals {
    /// Holds the signals back from now on.
    pub fn new() -> Self {
        if let Some(flags) = flags()
            && flags.held.fetch_add(1, Ordering::SeqCst) == 0
        {
            flags.came.store(false, Ordering::SeqCst);
            flags.usual.store(false, Ordering::SeqCst);
        }
        Self(())
    }
}

impl Default for HeldSignals {
    fn default() -> Self {
        Self::new()
    }
}

impl Drop for HeldSignals {
    fn drop(&mut self) {
        if let Some(flags) = flags()
            && flags.held.fetch_sub(1, Ordering::SeqCst) == 1
        {
            flags.usual.store(true, Ordering::SeqCst);
        }
    }
}

/// Whether a signal came since the signals are held back.
pub fn came() -> bool {
    FLAGS.get().and_then(Option::as_ref).is_some_and(|flags| flags.came.load(Ordering::SeqCst))
}

/// Waits for a request to end this process: a signal, or a closed console.
#[derive(Debug)]
pub struct Ending(os::Ending);

impl Ending {
    /// Listens from now on, in the runtime of this thread.
    ///
    /// # Errors
    /// When the system takes no handlers.
    pub fn listen() -> std::io::Result<Self> {
        os::Ending::listen().map(Self)
    }

    /// Waits until it comes.
    pub async fn came(&mut self) {
        self.0.came().await;
    }
}

/// Ignores the signals for good: for the helper under sudo, which ends when its caller does. A
/// terminal sends them to both, and the caller needs the helper to roll back.
pub(crate) fn ignore() {
    std::mem::forget(HeldSignals::new());
}
