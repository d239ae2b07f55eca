//! The files of a configuration, kept as they were read.

use std::cell::RefCell;
use std::collections::BTreeMap;

use crate::server_path::ServerPath;

use super::files::Files;

/// Files and folders as plain values: what was asked for once can be asked for again, and
/// with other content.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct FileImage {
    files: BTreeMap<ServerPath, Option<Vec<u8>>>,
    folders: BTreeMap<ServerPath, Option<Vec<String>>>,
}

impl FileImage {
    /// The image of all that `run` asks of `files`, and what it gives.
    pub(crate) fn of<T>(files: &dyn Files, run: impl FnOnce(&dyn Files) -> T) -> (Self, T) {
        let recorder = Recorder { files, image: RefCell::default() };
        let given = run(&recorder);
        (recorder.image.into_inner(), given)
    }

    /// A file's bytes, if it is there.
    pub(crate) fn file(&self, path: &ServerPath) -> Option<&[u8]> {
        self.files.get(path)?.as_deref()
    }

    /// Gives a file other content, or makes it.
    pub(crate) fn set(&mut self, path: &ServerPath, content: Vec<u8>) {
        if let (Some(folder), Some(name)) = (path.parent(), path.file_name())
            && let Some(Some(names)) = self.folders.get_mut(&folder)
            && !names.iter().any(|own| own == name)
        {
            names.push(name.to_owned());
        }
        self.files.insert(path.to_owned(), Some(content));
    }
}

impl Files for FileImage {
    fn read(&self, path: &ServerPath) -> Option<Vec<u8>> {
        self.file(path).map(<[u8]>::to_vec)
    }

    fn list(&self, folder: &ServerPath) -> Option<Vec<String>> {
        self.folders.get(folder).cloned().flatten()
    }
}

struct Recorder<'f> {
    files: &'f dyn Files,
    image: RefCell<FileImage>,
}

impl Files for Recorder<'_> {
    fn read(&self, path: &ServerPath) -> Option<Vec<u8>> {
        let known = self.image.borrow().files.get(path).cloned();
        known.unwrap_or_else(|| {
            let content = self.files.read(path);
            self.image.borrow_mut().files.insert(path.to_owned(), content.clone());
            content
        })
    }

    fn list(&self, folder: &ServerPath) -> Option<Vec<String>> {
        let known = self.image.borrow().folders.get(folder).cloned();
        known.unwrap_or_else(|| {
            let names = self.files.list(folder);
            self.image.borrow_mut().folders.insert(folder.to_owned(), names.clone());
            names
        })
    }
}
