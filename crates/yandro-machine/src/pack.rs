//! Writing a packed site to the disk: the folder is there whole or not at all.

use std::fs;
use std::io::Write as _;

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{Access, PACK_PROJECT, Packed};

use crate::files::{self, FileError};
use crate::machine::Machine;
use crate::os::{self, Owner};

/// Hidden files that belong to what is served: the rest is a project's own business.
const SERVED: [&str; 2] = [".htaccess", ".well-known"];

/// The copied files of a project.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Copied {
    /// The number of files.
    pub files: usize,
    /// Their size, in bytes.
    pub bytes: u64,
    /// Files left out: hidden ones, links that lead out of the project, and special files.
    pub left_out: Vec<Utf8PathBuf>,
}

/// Writes a packed site into a folder that isn't there yet, or is empty.
///
/// # Errors
/// When something can't be read or written; then nothing is left.
pub fn write(machine: &Machine, packed: &Packed, out: &Utf8Path) -> Result<Copied, FileError> {
    let beside = files::temporary(out, "pack");
    _ = fs::remove_dir_all(&beside);
    let done = write_into(packed, &beside).and_then(|copied| {
        // Under sudo it belongs to the one who called.
        if let Some(keeper) = machine.keeper {
            give(&beside, keeper)?;
        }
        // An empty folder gives its place to the new one.
        os::rename(&beside, out).map_err(FileError::at(out))?;
        files::sync_folder_of(out)?;
        Ok(copied)
    });
    if done.is_err() {
        // The failure is reported; the partial copy is useless.
        _ = fs::remove_dir_all(&beside);
    }
    done
}

fn write_into(packed: &Packed, folder: &Utf8Path) -> Result<Copied, FileError> {
    make_folder(folder, Access::Public)?;
    for file in &packed.files {
        let path = folder.join(&file.path);
        let (of_folder, of_file) = match file.access {
            Access::Secret => (Access::Private, Access::Secret),
            Access::Private => (Access::Private, Access::Public),
            Access::Public | Access::Project => (Access::Public, Access::Public),
        };
        if let Some(parent) = path.parent() {
            make_folder(parent, of_folder)?;
        }
        write_file(&path, &file.content, of_file)?;
    }
    let mut copied = Copied::default();
    if let Some(project) = &packed.project {
        let root = os::real_path(project).map_err(FileError::at(project))?;
        copy_folder(&root, &root, &folder.join(PACK_PROJECT), &mut copied)?;
    }
    Ok(copied)
}

fn give(path: &Utf8Path, owner: Owner) -> Result<(), FileError> {
    owner.give(path).map_err(FileError::at(path))?;
    if path.symlink_metadata().is_ok_and(|meta| meta.is_dir()) {
        for entry in path.read_dir_utf8().map_err(FileError::at(path))? {
            give(entry.map_err(FileError::at(path))?.path(), owner)?;
        }
    }
    Ok(())
}

fn make_folder(path: &Utf8Path, access: Access) -> Result<(), FileError> {
    if path.is_dir() {
        return Ok(());
    }
    os::make_folders(path, access).map_err(FileError::at(path))
}

fn write_file(path: &Utf8Path, content: &[u8], access: Access) -> Result<(), FileError> {
    let written = os::new_file(path).and_then(|mut file| {
        file.write_all(content)?;
        os::give_access(&file, access)?;
        file.sync_all()
    });
    written.map_err(FileError::at(path))
}

/// Copies a folder, readable for all: the server of an image has a different user.
fn copy_folder(root: &Utf8Path, from: &Utf8Path, to: &Utf8Path, copied: &mut Copied) -> Result<(), FileError> {
    make_folder(to, Access::Public)?;
    os::open_to_all(to).map_err(FileError::at(to))?;
    let mut entries: Vec<Utf8PathBuf> = from
        .read_dir_utf8()
        .map_err(FileError::at(from))?
        .map(|entry| entry.map(camino::Utf8DirEntry::into_path))
        .collect::<Result<_, _>>()
        .map_err(FileError::at(from))?;
    entries.sort();
    for path in entries {
        let name = path.file_name().unwrap_or_default();
        let meta = path.symlink_metadata().map_err(FileError::at(&path))?;
        let to = to.join(name);
        if name.starts_with('.') && !SERVED.contains(&name) {
            copied.left_out.push(path);
        } else if meta.is_dir() {
            copy_folder(root, &path, &to, copied)?;
        } else if meta.is_file() {
            copied.bytes += fs::copy(&path, &to).map_err(FileError::at(&path))?;
            copied.files += 1;
            os::open_to_all(&to).map_err(FileError::at(&to))?;
        } else if let Some(target) = link_within(root, &path) {
            os::link(&target, &to).map_err(FileError::at(&to))?;
        } else {
            copied.left_out.push(path);
        }
    }
    Ok(())
}

/// The target of a link that stays within the project wherever that is moved to.
fn link_within(root: &Utf8Path, path: &Utf8Path) -> Option<Utf8PathBuf> {
    let target = path.read_link_utf8().ok().filter(|target| target.is_relative())?;
    os::real_path(path).ok()?.starts_with(root).then_some(target)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt as _;

    use yandro_core::PackedFile;

    use super::*;

    #[test]
    fn a_project_is_copied_without_what_is_hidden_or_leads_out() {
        let folder = tempfile::tempdir().unwrap();
        let folder = Utf8Path::from_path(folder.path()).unwrap();
        let project = folder.join("saltmarsh");
        for (path, text) in [
            ("index.html", "a"),
            ("tides/today.html", "bc"),
            (".git/config", "x"),
            (".env", "x"),
            (".htaccess", "d"),
            (".well-known/x", "e"),
        ] {
            fs::create_dir_all(project.join(path).parent().unwrap()).unwrap();
            fs::write(project.join(path), text).unwrap();
        }
        fs::write(folder.join("secret"), "x").unwrap();
        fs::set_permissions(project.join("index.html"), fs::Permissions::from_mode(0o600)).unwrap();
        for (link, target) in [("out", "../secret"), ("within", "tides/today.html"), ("absolute", "/etc/passwd")] {
            std::os::unix::fs::symlink(target, project.join(link)).unwrap();
        }
        let file = |path: &str, access| PackedFile { path: path.into(), content: b"k".to_vec(), access };
        let files = vec![
            file("certificates/a/fullchain.pem", Access::Private),
            file("certificates/a/key.pem", Access::Secret),
            file("README.md", Access::Public),
        ];
        let packed = Packed { files, project: Some(project.clone()) };
        let out = folder.join("out");
        let copied = write(&Machine::bare(), &packed, &out).unwrap();
        assert_eq!((copied.files, copied.bytes), (4, 5));
        let left_out = [".env", ".git", "absolute", "out"].map(|name| project.join(name));
        assert_eq!(copied.left_out, left_out);
        let mode = |path: &str| fs::metadata(out.join(path)).unwrap().permissions().mode() & 0o7777;
        assert_eq!(
            ["certificates", "certificates/a/key.pem", "site/index.html", "site"].map(mode),
            [0o700, 0o600, 0o644, 0o755]
        );
        assert_eq!(out.join("site/within").read_link_utf8().unwrap(), "tides/today.html");
        // A folder with something in it is nobody's to take away.
        assert!(write(&Machine::bare(), &packed, &out).is_err());
        assert_eq!(fs::read_dir(folder).unwrap().count(), 3, "nothing else is left");
    }
}
