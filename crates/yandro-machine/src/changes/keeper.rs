//! Files that belong to the user, also if root writes them: yandro's own and those of projects.

use std::io::Write as _;

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
        let is_project = access == Access::Project;
        let is_persons = is_project || self.is_keepers(path) || caller::owns(path);
        Attributes::of_new(path, access, self.keeper.filter(|_| is_persons), is_project)
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
            let mut file = os::emptied_file(beside)?;
            file.write_all(content)?;
            file.sync_all()
        })();
        written.map_err(FileError::at(path))?;
        self.give_to_keeper(beside)?;
        os::rename(beside, path).map_err(FileError::at(path))?;
        files::sync_folder_of(path)
    }

    /// Writes a file of yandro's own that only the user can read, with the folder that it is in.
    ///
    /// # Errors
    /// When it can't be written.
    pub fn write_private(&self, path: &Utf8Path, content: &[u8]) -> Result<(), FileError> {
        if let Some(folder) = path.parent() {
            self.make_own_folder(folder)?;
        }
        self.write_own(&files::temporary(path, "new"), path, content)
    }

    /// Under sudo, gives something of the user's own to the user who called it.
    pub(crate) fn give_to_keeper(&self, path: &Utf8Path) -> Result<(), FileError> {
        // A folder on the way to them that was made for them is theirs, too.
        let is_above = self.places.config.starts_with(path) || self.places.data.starts_with(path);
        let _rights = caller::rights_for(path);
        match self.keeper {
            Some(keeper) if is_above || self.is_keepers(path) => keeper.give(path).map_err(FileError::at(path)),
            _ => Ok(()),
        }
    }

    /// Gives a new folder of a project to the person, and what its own folder hands down.
    pub(crate) fn give_project(&self, path: &Utf8Path) -> Result<(), FileError> {
        let _rights = caller::rights_for(path);
        os::give_project(path, self.keeper).map_err(FileError::at(path))
    }

    pub(super) fn is_keepers(&self, path: &Utf8Path) -> bool {
        path.starts_with(&self.places.config) || path.starts_with(&self.places.data)
    }
}
