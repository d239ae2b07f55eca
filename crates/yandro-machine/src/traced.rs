//! The trace of a program that is run.

use std::io;
use std::process::{Command, ExitStatus};
use std::time::Instant;

/// A program that is run, as the trace shows it.
pub(crate) struct Traced {
    command: String,
    began: Instant,
}

impl Traced {
    pub(crate) fn new(command: &Command) -> Self {
        let mut words = vec![command.get_program().to_string_lossy().into_owned()];
        words.extend(command.get_args().map(|argument| argument.to_string_lossy().into_owned()));
        Self { command: without_secrets(&words).join(" "), began: Instant::now() }
    }

    pub(crate) fn ended(&self, status: ExitStatus) {
        tracing::debug!(target: "run", "{}: {status}, {} ms", self.command, self.began.elapsed().as_millis());
    }

    pub(crate) fn not_started(&self, error: &io::Error) {
        tracing::debug!(target: "run", "{}: not started: {error}", self.command);
    }
}

/// The words of a command line without passphrases and tokens: what follows an option that is named after one.
fn without_secrets(words: &[String]) -> Vec<String> {
    let is_secret = |option: &str| {
        let option = option.to_ascii_lowercase();
        option.starts_with('-') && ["pass", "secret", "token"].iter().any(|word| option.contains(word))
    };
    let mut is_next_hidden = false;
    let shown = |word: &String| {
        let is_hidden = std::mem::replace(&mut is_next_hidden, is_secret(word) && !word.contains('='));
        match word.split_once('=') {
            _ if is_hidden => "***".to_owned(),
            Some((option, _)) if is_secret(option) => format!("{option}=***"),
            _ => word.clone(),
        }
    };
    words.iter().map(shown).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_trace_of_a_program_holds_no_secret() {
        let shown = |line: &str| without_secrets(&line.split(' ').map(str::to_owned).collect::<Vec<_>>()).join(" ");
        assert_eq!(shown("/usr/sbin/nginx -t -c /etc/nginx.conf"), "/usr/sbin/nginx -t -c /etc/nginx.conf");
        assert_eq!(shown("keytool -storepass ferry -list"), "keytool -storepass *** -list");
        assert_eq!(shown("reload --token=ferry --password tide x"), "reload --token=*** --password *** x");
    }
}
