//! Passphrases: from a file that is named, or asked for on the terminal; never from the arguments,
//! which every user of the machine can see and the shell remembers.

use camino::Utf8Path;
use yandro_core::Key;
use yandro_machine::{Keys, Machine, files};
use zeroize::Zeroizing;

use crate::error::CommandError;
use crate::view::progress;

/// The largest file that a passphrase is read from, in bytes.
const LARGEST: u64 = 64 << 10;
/// The fewest characters of a new passphrase (NIST SP 800-63B section 5.1.1).
const SHORTEST: usize = 8;
/// How often a passphrase is asked for.
const ATTEMPTS: usize = 3;

/// The first line of a file.
pub(crate) fn of_file(path: &Utf8Path) -> Result<Zeroizing<String>, CommandError> {
    let refused = |fault: &dyn std::fmt::Display| CommandError::usage(format!("the passphrase can't be read: {fault}"));
    let bytes = files::read_given(path, LARGEST).map_err(|error| refused(&error))?;
    let bytes = Zeroizing::new(bytes.ok_or_else(|| refused(&format!("no such file: {path}")))?);
    let text = std::str::from_utf8(&bytes).map_err(|_| refused(&format!("{path}: it is not UTF-8")))?;
    let line = text.lines().next().unwrap_or_default();
    if line.is_empty() {
        return Err(CommandError::usage(format!("{path}: its first line is empty, and is to be the passphrase")));
    }
    Ok(Zeroizing::new(line.to_owned()))
}

/// Has the authority's key opened for this command: the passphrase was not given in a file, so it
/// is asked for.
pub(crate) fn unlock(machine: &Machine, keys: &Keys) -> Result<(), CommandError> {
    let path = machine.places.issuing_key();
    let pem = Zeroizing::new(String::from_utf8_lossy(&files::read_if_there(&path)?.unwrap_or_default()).into_owned());
    let mut prompt = "passphrase of the authority's key: ";
    for _ in 0..ATTEMPTS {
        let given = ask(prompt, "--passphrase-file FILE")?;
        if Key::unlock(&pem, &given).is_ok() {
            keys.give_passphrase(given);
            return Ok(());
        }
        prompt = "that is not it; once more: ";
    }
    Err(CommandError::usage("that is not the passphrase of the authority's key; nothing was changed"))
}

/// A new passphrase: from the file if one is named, else asked for twice.
pub(crate) fn new(what: &str, file: Option<&Utf8Path>, option: &str) -> Result<Zeroizing<String>, CommandError> {
    let first = file.map_or_else(|| ask(&format!("new passphrase for {what}: "), option), of_file)?;
    let length = first.chars().count();
    if length < SHORTEST {
        let message = format!(
            "the passphrase has {length} characters, and {SHORTEST} are the fewest that take long to guess; nothing was changed"
        );
        return Err(CommandError::usage(message).hint("choose a longer one, such as four words"));
    }
    if file.is_some() || ask("once more: ", option)? == first {
        return Ok(first);
    }
    Err(CommandError::usage("the two are not the same; nothing was changed"))
}

fn ask(prompt: &str, option: &str) -> Result<Zeroizing<String>, CommandError> {
    progress::aside(|| rpassword::prompt_password(prompt)).map(Zeroizing::new).map_err(|_| {
        CommandError::usage("a passphrase is needed, and no terminal can be asked for it")
            .hint(format!("name a file whose first line it is: {option}"))
    })
}
