//! A line on the terminal about work that takes longer than half a second.
//!
//! There is one such line at a time, on standard error and only where that is a terminal. Whatever else is printed or
//! asked while it is shown goes through [`aside`].

use std::cell::Cell;
use std::io::IsTerminal as _;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

use super::plain;

/// How long work may take before it is worth a line.
const PATIENCE: Duration = Duration::from_millis(500);
/// How often the line is drawn again.
const TICK: Duration = Duration::from_millis(100);

/// The line, while there is work that may need it.
static LINE: Mutex<Option<Line>> = Mutex::new(None);

thread_local! {
    /// Whether this thread is within [`aside`].
    static IS_ASIDE: Cell<bool> = const { Cell::new(false) };
}

#[derive(Default)]
struct Line {
    words: String,
    bar: Option<ProgressBar>,
}

fn line() -> MutexGuard<'static, Option<Line>> {
    LINE.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Work that is being done; it ends when this is dropped.
pub(crate) struct Work {
    end: Option<Sender<()>>,
    clock: Option<JoinHandle<()>>,
}

/// Begins work, described as `checking sites`. Where nothing is to be shown, nothing happens.
pub(crate) fn begin(words: &str, is_shown: bool) -> Work {
    if !is_shown || !std::io::stderr().is_terminal() || line().is_some() {
        return Work { end: None, clock: None };
    }
    *line() = Some(Line { words: plain(words), bar: None });
    let (end, ended) = channel();
    Work { end: Some(end), clock: Some(std::thread::spawn(move || run_clock(&ended))) }
}

/// Says what the work is about now. `false` if no line is or will be shown.
pub(crate) fn now(words: &str) -> bool {
    match &mut *line() {
        None => false,
        Some(line) => {
            line.words = plain(words);
            if let Some(bar) = &line.bar {
                bar.set_message(line.words.clone());
            }
            true
        }
    }
}

/// Prints or asks something while the line is out of the way.
pub(crate) fn aside<T>(what: impl FnOnce() -> T) -> T {
    if IS_ASIDE.replace(true) {
        return what();
    }
    let line = line();
    let done = match line.as_ref().and_then(|line| line.bar.as_ref()) {
        Some(bar) => bar.suspend(what),
        None => what(),
    };
    drop(line);
    IS_ASIDE.set(false);
    done
}

/// Takes the line away for good: from now on another program uses the terminal.
pub(crate) fn leave() {
    if let Some(bar) = line().take().and_then(|line| line.bar) {
        bar.finish_and_clear();
    }
}

/// Shows the line once the work has taken its time, and keeps it moving.
fn run_clock(ended: &Receiver<()>) {
    if ended.recv_timeout(PATIENCE) != Err(RecvTimeoutError::Timeout) {
        return;
    }
    if let Some(line) = &mut *line() {
        let style = ProgressStyle::with_template("{spinner} {wide_msg} {elapsed}").ok();
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr());
        bar.set_style(style.unwrap_or_else(ProgressStyle::default_spinner));
        bar.set_message(line.words.clone());
        line.bar = Some(bar);
    }
    while ended.recv_timeout(TICK) == Err(RecvTimeoutError::Timeout) {
        if let Some(bar) = line().as_ref().and_then(|line| line.bar.as_ref()) {
            bar.tick();
        }
    }
}

impl Drop for Work {
    fn drop(&mut self) {
        if let Some(clock) = self.clock.take() {
            drop(self.end.take());
            // The line is all that it has.
            _ = clock.join();
            leave();
        }
    }
}
