//! Commands for root as they can be pasted: sudo finds no program that cargo installed, so they name its path.

use yandro_core::{System, shell_word};

/// The command that runs this very program as root with these arguments, as it can be pasted.
pub(crate) fn as_root(arguments: &[&str]) -> String {
    // The search path of a PowerShell is the same for an administrator.
    let own = std::env::current_exe().ok().filter(|_| System::HERE != System::Windows);
    let program = own.unwrap_or_else(|| "yandro".into());
    let program = program.to_string_lossy();
    let words = [&*program].into_iter().chain(arguments.iter().copied()).map(shell_word);
    System::HERE.with_all_rights(&words.collect::<Vec<_>>().join(" "))
}

/// This very command as root.
pub(crate) fn this_as_root() -> String {
    let arguments: Vec<String> = std::env::args_os().skip(1).map(|own| own.to_string_lossy().into_owned()).collect();
    as_root(&arguments.iter().map(String::as_str).collect::<Vec<_>>())
}
