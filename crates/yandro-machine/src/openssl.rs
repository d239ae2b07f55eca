//! Work done by the `openssl` program: RSA keys and PKCS#12 files. Nothing else needs it.
//!
//! Few people ask for either, and libraries for them would be fifteen more to trust.

use std::io;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{Key, PkiError};
use zeroize::Zeroizing;

use crate::process;
use crate::process::ProgramError;

/// Its usual paths: the system's own first.
const PROGRAMS: &[&str] = &["/usr/bin/openssl", "/usr/local/bin/openssl", "/opt/homebrew/bin/openssl"];
/// The variable that hands it a passphrase.
const PASSPHRASE: &str = "YANDRO_PASSPHRASE";
/// How often a passphrase is hashed: OpenSSL's default, times ten.
const ROUNDS: &str = "20480";

/// Why `openssl` didn't do what it was asked.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum OpensslError {
    /// It isn't installed.
    #[error("it takes the program `openssl`, which is not installed (looked for: {})", PROGRAMS.join(", "))]
    Missing,
    /// It can't be run.
    #[error("{program} can't be run: {error}")]
    NotRun {
        /// Path by which it was run.
        program: Utf8PathBuf,
        /// Why not.
        error: io::Error,
    },
    /// It ended with an error.
    #[error("{program} says: {complaint}")]
    Refused {
        /// Path by which it was run.
        program: Utf8PathBuf,
        /// Its words.
        complaint: String,
    },
    /// The program's output is not a key that yandro reads.
    #[error("{0}")]
    Key(PkiError),
}

/// A new RSA key of so many bits.
///
/// # Errors
/// When there is no `openssl`, or it makes none.
pub fn rsa_key(bits: u16) -> Result<Key, OpensslError> {
    let size = format!("rsa_keygen_bits:{bits}");
    let pem = ask(&["genpkey", "-algorithm", "RSA", "-pkeyopt", &size], b"", "")?;
    Key::from_pem(&String::from_utf8_lossy(&pem)).map_err(OpensslError::Key)
}

/// A PKCS#12 file (RFC 7292) for a chain in PEM, leaf first, and its key, behind a passphrase: AES-256 and
/// SHA-256, as systems since about 2019 take them. `name` is what it is called where it is imported.
///
/// # Errors
/// When there is no `openssl`, or it refuses the chain or the key.
pub fn pkcs12(name: &str, key: &Key, chain: &str, passphrase: &str) -> Result<Vec<u8>, OpensslError> {
    let arguments = ["pkcs12", "-export", "-name", name, "-keypbe", "AES-256-CBC", "-certpbe", "AES-256-CBC"];
    let protection = ["-macalg", "sha256", "-iter", ROUNDS, "-passout", &format!("env:{PASSPHRASE}")];
    let input = Zeroizing::new(format!("{}{chain}", *key.to_secret_pem()));
    Ok(ask(&[&arguments[..], &protection].concat(), input.as_bytes(), passphrase)?.to_vec())
}

fn ask(arguments: &[&str], input: &[u8], passphrase: &str) -> Result<Zeroizing<Vec<u8>>, OpensslError> {
    ask_program(process::find(PROGRAMS).as_deref(), arguments, input, passphrase)
}

fn ask_program(
    program: Option<&Utf8Path>,
    arguments: &[&str],
    input: &[u8],
    passphrase: &str,
) -> Result<Zeroizing<Vec<u8>>, OpensslError> {
    let program = program.ok_or(OpensslError::Missing)?.to_owned();
    match process::run_with_secrets(&program, arguments, input, (PASSPHRASE, passphrase)) {
        Ok(written) => Ok(written),
        Err(ProgramError::Failed { words: complaint, .. }) => Err(OpensslError::Refused { program, complaint }),
        Err(ProgramError::NotRun { source: error, .. }) => Err(OpensslError::NotRun { program, error }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_program_that_refuses_is_quoted_and_one_that_cannot_run_is_named() {
        let ask = |program: &str| {
            let made = ask_program(Some(Utf8Path::new(program)), &["-c", "echo no such option >&2; exit 1"], b"", "");
            made.unwrap_err().to_string()
        };
        assert_eq!(ask("/bin/sh"), "/bin/sh says: no such option");
        assert_eq!(ask("/dev/null"), "/dev/null can't be run: Permission denied (os error 13)");
    }

    #[test]
    fn secrets_reach_the_program_and_come_back_without_its_complaints() {
        let script = format!("read line; echo \"$line ${PASSPHRASE}\"; echo warning >&2");
        let made = ask_program(Some(Utf8Path::new("/bin/sh")), &["-c", &script], b"tide\n", "turns").unwrap();
        assert_eq!(made.as_slice(), b"tide turns\n");
    }
}
