//! The request for root's or an administrator's rights. Only the steps that need them run with them.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::process::Command;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::System;
use yandro_machine::{Escalate, Machine, Reach, process};

use crate::view::{plain, progress};

/// How many paths are named one by one.
const MANY: usize = 8;

/// Starts the helper through sudo, or through Windows's consent dialog.
#[derive(Debug)]
pub(crate) struct Sudo {
    is_real: bool,
    is_quiet: bool,
}

impl Sudo {
    pub(crate) fn new(machine: &Machine, is_quiet: bool) -> Self {
        Self { is_real: machine.is_real(), is_quiet }
    }
}

/// Whether a path is that of a pool of php-fpm.
fn is_pool(path: &Utf8Path) -> bool {
    let folder = path.parent().and_then(Utf8Path::file_name);
    folder.is_some_and(|folder| ["pool.d", "php-fpm.d"].contains(&folder))
}

/// The written files: each path, or each folder with the number of files if there are many paths.
fn written(paths: &[Utf8PathBuf]) -> Vec<String> {
    if paths.len() <= MANY {
        return paths.iter().map(|path| format!("write {path}")).collect();
    }
    let mut folders: BTreeMap<&Utf8Path, Vec<&Utf8PathBuf>> = BTreeMap::new();
    for path in paths {
        folders.entry(path.parent().unwrap_or(path)).or_default().push(path);
    }
    let line = |(folder, within): (&Utf8Path, Vec<&Utf8PathBuf>)| match &within[..] {
        [only] => format!("write {only}"),
        within => format!("write {} files in {folder}", within.len()),
    };
    folders.into_iter().map(line).collect()
}

impl Escalate for Sudo {
    fn command(&self, paths: &[Utf8PathBuf], reach: Reach) -> Option<Command> {
        // Within a sysroot nothing of the machine is touched, and root is never needed.
        if !self.is_real {
            return None;
        }
        let mut command = process::with_all_rights(&std::env::current_exe().ok()?)?;
        progress::leave();
        if !self.is_quiet {
            let mut text = String::from(if System::HERE == System::Windows {
                "note: these steps need an administrator. Windows asks you for that, and yandro does nothing else with it:\n"
            } else {
                "note: these steps need root. yandro asks sudo for them, and for nothing else:\n"
            });
            text.extend(written(paths).iter().map(|line| format!("  {line}\n")));
            if reach == Reach::Database {
                text += "  make or take away the database and its account\n";
            }
            if reach == Reach::Php {
                text += "  start php-fpm\n";
            }
            if reach == Reach::Server {
                text += "  test, reload, start or stop the web server\n";
            }
            if paths.iter().any(|path| is_pool(path)) {
                text += "  have php-fpm read its pools again\n";
            }
            // A person who does not see it is asked all the same.
            _ = std::io::stderr().write_all(plain(&text).as_bytes());
        }
        command.arg("privileged");
        Some(command)
    }
}
