//! The threads that answer. Each has a runtime of its own and keeps its connections: none is handed from one thread to
//! another in the midst of a request, which would wake one for every few requests.

use std::io;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread::JoinHandle;

use tokio::runtime::{Builder, Handle};
use tokio::sync::oneshot;

/// The threads of a server; they end, with all that they do, when this is dropped.
pub(crate) struct Workers {
    all: Vec<Worker>,
    next: AtomicUsize,
}

struct Worker {
    runtime: Handle,
    /// Dropped, it ends the thread.
    ends: Option<oneshot::Sender<()>>,
    thread: Option<JoinHandle<()>>,
}

impl Workers {
    /// As many as there are processors.
    ///
    /// # Errors
    /// When the system gives no thread.
    pub(crate) fn start() -> io::Result<Self> {
        let count = std::thread::available_parallelism().map_or(2, usize::from);
        let all = (0..count).map(|_| Worker::start()).collect::<io::Result<_>>()?;
        Ok(Self { all, next: AtomicUsize::new(0) })
    }

    /// The thread for the next connection: they take turns.
    pub(crate) fn next(&self) -> &Handle {
        let turn = self.next.fetch_add(1, Ordering::Relaxed);
        &self.all[turn % self.all.len()].runtime
    }
}

impl Worker {
    fn start() -> io::Result<Self> {
        let runtime = Builder::new_current_thread().enable_all().build()?;
        let handle = runtime.handle().clone();
        let (ends, end) = oneshot::channel::<()>();
        let thread = std::thread::Builder::new().name("yandro-serve".into()).spawn(move || {
            // It is an error by design: the sender is dropped.
            _ = runtime.block_on(end);
            // A file that is read at this moment on a thread that waits isn't waited for.
            runtime.shutdown_background();
        })?;
        Ok(Self { runtime: handle, ends: Some(ends), thread: Some(thread) })
    }
}

impl Drop for Worker {
    fn drop(&mut self) {
        drop(self.ends.take());
        if let Some(thread) = self.thread.take() {
            // It has nothing to say.
            _ = thread.join();
        }
    }
}
