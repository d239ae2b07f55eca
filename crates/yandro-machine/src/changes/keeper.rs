//! Files that belong to the user, also if root writes them: yandro's own and those of projects.

use std::fs;
use std::io::Write as _;
use std::os::unix::fs::{MetadataExt as _, OpenOptionsExt as _, PermissionsExt as _};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::Access;

use super::steps::make_folder;
use crate::caller;
use crate::files::{self, Attributes, FileError};
use crate::machine::Machine;
use crate::os;

impl Machine {
    /// The folder of the history.
    pub(crate) fn history(&self) -> Utf8PathBuf {
        self.places.data.join("history")
    }

    /// Mode and owner of a file that is new.
    pub(super) fn attributes_of_new(&self, path: &Utf8Path, access: Access) -> Attributes {
        let own = (os::this_user(), os::this_group());
        let is_persons = access == Access::Project || self.is_keepers(path) || caller::owns(path);
        let (uid, gid) = if is_persons { self.keeper.unwrap_or(own) } else { own };
        let shared = if access == Access::Project { Self::shared_group(path) } else { None };
        // In a folder of a group's the group may do with it what it may do with the folder.
        let (gid, bits) = shared.map_or((gid, 0), |(gid, mode)| (gid, mode & 0o060));
        Attributes { mode: access.file_mode() | bits, uid, gid, extended: Vec::new() }
    }

    /// Creates a folder of the user, and missing ones above it, readable only by its owner.
    pub(crate) fn make_own_folder(&self, folder: &Utf8Path) -> Result<(), FileError> {
        let missing: Vec<&Utf8Path> = folder.ancestors().take_while(|folder| !folder.exists()).collect();
        for folder in missing.into_iter().rev() {
            make_folder(self, folder, Access::Private)?;
        }
        Ok(())
    }

    /// Writes a file of yandro's records, whole or not at all, readable only by its owner.
    pub(super) fn write_own(&self, beside: &Utf8Path, path: &Utf8Path, content: &[u8]) -> Result<(), FileError> {
        let _rights = caller::rights_for(path);
        let written = (|| {
            let mut file = fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(beside)?;
            file.write_all(content)?;
            file.sync_all()
        })();
        written.map_err(FileError::at(path))?;
        self.give_to_keeper(beside)?;
        fs::rename(beside, path).map_err(FileError::at(path))?;
        files::sync_folder_of(path)
    }

    /// Under sudo, gives something of the user's own to the user who called it.
    pub(crate) fn give_to_keeper(&self, path: &Utf8Path) -> Result<(), FileError> {
        // A folder on the way to them that was made for them is theirs, too.
        let is_above = self.places.config.starts_with(path) || self.places.data.starts_with(path);
        let _rights = caller::rights_for(path);
        match self.keeper {
            Some((uid, gid)) if is_above || self.is_keepers(path) => {
                std::os::unix::fs::lchown(path, Some(uid), Some(gid)).map_err(FileError::at(path))
            }
            _ => Ok(()),
        }
    }

    /// Group and mode of the folder that something is in, if what is made there is that group's.
    fn shared_group(path: &Utf8Path) -> Option<(u32, u32)> {
        let meta = path.parent()?.metadata().ok()?;
        (meta.mode() & 0o2000 != 0).then(|| (meta.gid(), meta.mode()))
    }

    /// Gives a new folder of a project to the person, and what its own folder hands down.
    pub(super) fn give_project(&self, path: &Utf8Path) -> Result<(), FileError> {
        let _rights = caller::rights_for(path);
        let shared = Self::shared_group(path);
        if let Some((uid, gid)) = self.keeper {
            let gid = shared.map_or(gid, |(gid, _)| gid);
            std::os::unix::fs::lchown(path, Some(uid), Some(gid)).map_err(FileError::at(path))?;
        }
        if let Some((_, mode)) = shared {
            let own = path.metadata().map_err(FileError::at(path))?.permissions().mode();
            let mode = (own & 0o7777) | (mode & 0o2070);
            fs::set_permissions(path, fs::Permissions::from_mode(mode)).map_err(FileError::at(path))?;
        }
        Ok(())
    }

    pub(super) fn is_keepers(&self, path: &Utf8Path) -> bool {
        path.starts_with(&self.places.config) || path.starts_with(&self.places.data)
    }
}
