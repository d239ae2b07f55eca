//! Static files.

use std::fs;

use camino::{Utf8Component, Utf8Path, Utf8PathBuf};
use percent_encoding::percent_decode_str;
use tower_http::services::ServeDir;
use yandro_core::Symlinks;

/// The files of a site, and what of them may be served.
pub(crate) struct Folder {
    /// Content types, `index.html`, HEAD, conditional (`If-Modified-Since`) and range requests (RFC 9110).
    pub(crate) service: ServeDir,
    pub(crate) rules: Rules,
}

/// The files of a folder that may be served.
#[derive(Clone, Debug)]
pub(crate) struct Rules {
    /// The document root.
    root: Utf8PathBuf,
    /// The project's folder, which no link may lead out of.
    project: Utf8PathBuf,
    symlinks: Symlinks,
    /// Folders that are never served, wherever a link leads: yandro's own.
    private: Vec<Utf8PathBuf>,
}

impl Folder {
    pub(crate) fn new(root: Utf8PathBuf, project: &Utf8Path, symlinks: Symlinks, private: &[Utf8PathBuf]) -> Self {
        let service = ServeDir::new(&root).append_index_html_on_directories(true);
        // In the form in which the real path of a file is.
        let private = private.iter().map(|path| path.canonicalize_utf8().unwrap_or_else(|_| path.clone()));
        let private = private.collect();
        Self { service, rules: Rules { root, project: project.to_owned(), symlinks, private } }
    }
}

impl Rules {
    /// Whether a request's path leads to something that may be served, or to nothing at all. What is
    /// served are regular files, through links as the site's `symlinks` says.
    pub(crate) fn allow(&self, path: &str) -> bool {
        let Ok(path) = percent_decode_str(path).decode_utf8() else { return false };
        let mut below = Utf8PathBuf::new();
        for part in Utf8Path::new(path.trim_start_matches('/')).components() {
            match part {
                Utf8Component::Normal(name) if !name.contains('\0') => below.push(name),
                Utf8Component::CurDir => {}
                _ => return false,
            }
        }
        let candidate = self.root.join(&below);
        let is_folder = fs::metadata(&candidate).is_ok_and(|meta| meta.is_dir());
        let candidate = if is_folder { candidate.join("index.html") } else { candidate };
        match candidate.canonicalize_utf8() {
            Ok(real) => self.may_serve(&candidate, &real) && fs::metadata(&real).is_ok_and(|meta| meta.is_file()),
            Err(error) => error.kind() == std::io::ErrorKind::NotFound,
        }
    }

    /// Whether a file may be served: `path` by the links that lead there, `real` without.
    fn may_serve(&self, path: &Utf8Path, real: &Utf8Path) -> bool {
        let Ok(project) = self.project.canonicalize_utf8() else { return false };
        if self.private.iter().any(|private| real.starts_with(private)) {
            return false;
        }
        let below = match (real.strip_prefix(&project), self.symlinks) {
            (Ok(_), Symlinks::Off) if self.has_link(path) => return false,
            (Ok(below), _) => below,
            (Err(_), Symlinks::Anywhere) => without_common(real, &project),
            (Err(_), _) => return false,
        };
        below.components().all(|part| !is_hidden(part.as_str()))
    }

    /// Whether a link leads from the document root to a path.
    fn has_link(&self, path: &Utf8Path) -> bool {
        let is_link = |path: &Utf8Path| path.symlink_metadata().is_ok_and(|meta| meta.file_type().is_symlink());
        path.ancestors().take_while(|above| *above != self.root).any(is_link)
    }
}

/// A path without the folders that it has in common with another.
fn without_common<'p>(path: &'p Utf8Path, other: &Utf8Path) -> &'p Utf8Path {
    let common = other.ancestors().find(|above| path.starts_with(above));
    common.and_then(|common| path.strip_prefix(common).ok()).unwrap_or(path)
}

/// Whether a file or folder is a project's own business, and no page of it.
pub(crate) fn is_hidden(name: &str) -> bool {
    name.starts_with('.') && name != ".well-known"
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    #[test]
    fn no_link_leads_out_of_a_project_and_nothing_but_files_is_served() {
        let folder = tempfile::Builder::new().prefix("yandro").tempdir().unwrap();
        let base = Utf8Path::from_path(folder.path()).unwrap().canonicalize_utf8().unwrap();
        let (project, root) = (base.join("depot"), base.join("depot/public"));
        for below in ["depot/public/deep", "depot/assets", "depot/.git", "home/.ssh", "home/yandro", "home/photos"] {
            fs::create_dir_all(base.join(below)).unwrap();
        }
        for file in [
            "depot/public/index.html",
            "depot/assets/boat.png",
            "depot/.git/config",
            "home/.ssh/id",
            "home/yandro/issuing.key",
            "home/photos/quay.jpg",
        ] {
            fs::write(base.join(file), "x").unwrap();
        }
        for (target, link) in [
            ("../assets/boat.png", "boat.png"),
            ("../.git/config", "config.txt"),
            ("../../home/.ssh/id", "a.txt"),
            ("../../home/yandro/issuing.key", "b.txt"),
            ("../../home/photos", "photos"),
            ("/etc/hostname", "name.txt"),
            ("round", "round"),
        ] {
            symlink(target, root.join(link)).unwrap();
        }
        make_fifo(&root.join("pipe"));
        let rules = |symlinks| Folder::new(root.clone(), &project, symlinks, &[base.join("home/yandro")]).rules;
        let long = format!("/{}", "a".repeat(8192));
        for (path, on, anywhere, off) in [
            ("/", true, true, true),
            ("/index.html", true, true, true),
            ("/boat.png", true, true, false),
            ("/config.txt", false, false, false),
            ("/a.txt", false, false, false),
            ("/b.txt", false, false, false),
            ("/photos/quay.jpg", false, true, false),
            ("/photos/%71uay.jpg", false, true, false),
            ("/name.txt", false, true, false),
            ("/round", false, false, false),
            ("/pipe", false, false, false),
            ("/deep/../../assets/boat.png", false, false, false),
            ("/%2e%2e/assets/boat.png", false, false, false),
            ("/a%00.txt", false, false, false),
            ("/nothing.html", true, true, true),
            (long.as_str(), false, false, false),
        ] {
            let allowed = [Symlinks::On, Symlinks::Anywhere, Symlinks::Off].map(|choice| rules(choice).allow(path));
            assert_eq!(allowed, [on, anywhere, off], "{path}");
        }
        // A document root that is itself a link out of the project serves nothing.
        symlink("/etc", project.join("out")).unwrap();
        assert!(!Folder::new(project.join("out"), &project, Symlinks::On, &[]).rules.allow("/hostname"));
    }

    fn make_fifo(path: &Utf8Path) {
        assert!(std::process::Command::new("mkfifo").arg(path).status().unwrap().success());
    }
}
