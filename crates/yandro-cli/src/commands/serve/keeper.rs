//! A process that keeps another one of yandro's running in the background.
//!
//! It holds a lock, starts the other again when that ends unasked, and ends both when a file says so. The file, unlike a
//! signal, works on each system, and also where `sudo` started the server.

use std::fs::{File, OpenOptions};
use std::io;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use camino::Utf8PathBuf;
use yandro_machine::{Machine, caller, interrupt, process as programs};

use crate::commands::jobs;
use crate::context::Context;
use crate::error::CommandError;
use crate::view::Outcome;

/// How often is looked whether something ended.
const LOOK: Duration = Duration::from_millis(50);
/// How long the process may take until it listens, and until it has ended.
const PATIENCE: Duration = Duration::from_secs(15);
/// A process that ends sooner counts as failed.
const SOON: Duration = Duration::from_secs(5);
/// How often it may fail in a row.
const FAILURES: u32 = 5;

/// A process that is kept running.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Kept {
    /// The built-in server.
    Server,
    /// The responder for names below sites.
    Names,
}

impl Kept {
    /// Its command without the options of the background.
    fn words(self) -> &'static [&'static str] {
        match self {
            Self::Server => &["serve"],
            Self::Names => &["serve", "--names"],
        }
    }

    /// Title for people.
    fn title(self) -> &'static str {
        match self {
            Self::Server => "the built-in server",
            Self::Names => "the responder for names below sites",
        }
    }

    /// Waits until it listens, or `has_ended` gives its last words.
    ///
    /// # Errors
    /// When it ends, or takes too long.
    pub(super) fn wait_until_up(
        self,
        context: &Context,
        listens: impl Fn() -> bool,
        mut has_ended: impl FnMut() -> Option<String>,
    ) -> Result<(), CommandError> {
        let (began, log) = (Instant::now(), self.log(&context.machine));
        while !listens() {
            if let Some(words) = has_ended() {
                let command = self.words().join(" ");
                return Err(CommandError::not_made(format!("{} ended again{words}", self.title()))
                    .hint(format!("see why: yandro {command}; its log is {log}")));
            }
            if began.elapsed() > PATIENCE {
                return Err(CommandError::not_made(format!("{} was started, and doesn't listen yet", self.title()))
                    .hint(format!("look into its log: {log}")));
            }
            std::thread::sleep(LOOK);
        }
        Ok(())
    }

    /// The file of its messages.
    pub(super) fn log(self, machine: &Machine) -> Utf8PathBuf {
        match self {
            Self::Server => machine.places.serve_log(),
            Self::Names => machine.places.data.join("names.log"),
        }
    }
}

/// The files of a process in the background.
pub(super) struct KeeperFiles {
    /// Locked while its keeper runs.
    lock: Utf8PathBuf,
    /// The number of its process.
    pid: Utf8PathBuf,
    /// There when it is to end.
    stop: Utf8PathBuf,
}

impl KeeperFiles {
    pub(super) fn of(machine: &Machine, kept: Kept) -> Self {
        let base = match kept {
            Kept::Server => "serve",
            Kept::Names => "names",
        };
        let file = |kind: &str| machine.places.data.join(format!("{base}.{kind}"));
        Self { lock: file("lock"), pid: file("pid"), stop: file("stop") }
    }

    /// The lock, if nobody has it.
    fn lock(&self) -> Option<File> {
        let _rights = caller::rights_for(&self.lock);
        let file = OpenOptions::new().write(true).create(true).truncate(false).open(&self.lock).ok()?;
        file.try_lock().is_ok().then_some(file)
    }

    /// Whether a keeper has the lock.
    pub(super) fn is_held(&self) -> bool {
        let file = OpenOptions::new().read(true).open(&self.lock);
        file.is_ok_and(|file| file.try_lock_shared().is_err())
    }

    /// The number of the process, if it runs in the background.
    pub(super) fn process(&self) -> Option<i32> {
        let text = self.is_held().then(|| std::fs::read_to_string(&self.pid).ok())??;
        text.trim().parse().ok()
    }
}

/// Starts a process and its keeper in the background. Gives the keeper.
///
/// # Errors
/// When it can't be started.
pub(super) fn start(context: &Context, kept: Kept) -> Result<Child, CommandError> {
    let own = KeeperFiles::of(&context.machine, kept);
    context.machine.write_private(&own.lock, b"")?;
    remove(&own.stop);
    let words = jobs::command(context, &[kept.words(), &["--keep"]].concat())?;
    spawn(&words).map_err(CommandError::not_made)
}

/// Ends a process and its keeper, which hold the lock.
///
/// # Errors
/// When they don't end.
pub(super) fn stop(context: &Context, kept: Kept) -> Result<(), CommandError> {
    let own = KeeperFiles::of(&context.machine, kept);
    context.machine.write_private(&own.stop, b"")?;
    let began = Instant::now();
    while own.is_held() {
        if began.elapsed() > PATIENCE {
            let log = kept.log(&context.machine);
            return Err(CommandError::not_made(format!("{} doesn't end", kept.title()))
                .hint(format!("look into its log: {log}")));
        }
        std::thread::sleep(LOOK);
    }
    remove(&own.stop);
    Ok(())
}

/// `--keep`: keeps the process running until it is told to end.
pub(super) fn keep(context: &Context, kept: Kept) -> Result<Outcome<'_>, CommandError> {
    let own = KeeperFiles::of(&context.machine, kept);
    let lock = own.lock().ok_or_else(|| CommandError::not_made("it runs in the background already"))?;
    programs::leave_session();
    let _held = interrupt::HeldSignals::new();
    let log = kept.log(&context.machine);
    let words = jobs::command(context, &[kept.words(), &["--kept", "--log", log.as_str()]].concat())?;
    let mut failures = 0;
    let ended = loop {
        let began = Instant::now();
        let mut server = spawn(&words).map_err(CommandError::not_made)?;
        context.machine.write_private(&own.pid, server.id().to_string().as_bytes())?;
        let status = loop {
            if interrupt::came() || own.stop.exists() {
                programs::end(&mut server, PATIENCE);
                break None;
            }
            if let Ok(Some(status)) = server.try_wait() {
                break Some(status);
            }
            std::thread::sleep(LOOK);
        };
        let Some(status) = status.filter(|status| !status.success()) else { break Ok(Outcome::printed()) };
        failures = if began.elapsed() < SOON { failures + 1 } else { 0 };
        if failures >= FAILURES {
            break Err(CommandError::not_made(format!("the process ended {failures} times: {status}")));
        }
        let pause = Instant::now() + Duration::from_millis(100) * 4_u32.pow(failures);
        while failures > 0 && Instant::now() < pause && !interrupt::came() && !own.stop.exists() {
            std::thread::sleep(LOOK);
        }
    };
    remove(&own.pid);
    drop(lock);
    ended
}

/// The last error in its log.
pub(super) fn last_words(context: &Context, kept: Kept) -> String {
    let text = std::fs::read_to_string(kept.log(&context.machine)).unwrap_or_default();
    let line = text.lines().rev().find(|line| line.contains("error:"));
    line.map(|line| format!(": {line}")).unwrap_or_default()
}

fn spawn(words: &[String]) -> io::Result<Child> {
    Command::new(&words[0]).args(&words[1..]).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn()
}

/// Removes a file of the process's; one that is gone already needs none.
fn remove(path: &Utf8PathBuf) {
    let _rights = caller::rights_for(path);
    _ = std::fs::remove_file(path);
}
