//! Questions that are asked before something that the user may not expect.

use std::io::{BufRead as _, IsTerminal as _, Write as _};

use crate::error::CommandError;
use crate::view::{plain, progress};

/// Asks on the terminal. `fact` is the reason to ask, `question` the action, and
/// `option` how to agree without a terminal.
///
/// # Errors
/// When the user says no, or no terminal can be asked.
pub(super) fn ask(fact: &str, question: &str, option: &str) -> Result<(), CommandError> {
    if !std::io::stdin().is_terminal() {
        return Err(CommandError::usage(fact).hint(option).code("consent-needed"));
    }
    let mut answer = String::new();
    progress::aside(|| {
        // A user who doesn't see the question answers nothing, and nothing is done.
        _ = write!(std::io::stderr(), "{} [y/N] ", plain(&format!("{fact}\n{question}")));
        _ = std::io::stdin().lock().read_line(&mut answer);
    });
    if matches!(answer.trim().to_ascii_lowercase().as_str(), "y" | "yes") {
        Ok(())
    } else {
        Err(CommandError::usage("you said no; nothing was changed").code("consent-refused"))
    }
}
