//! Paths within a sysroot, as a process whose root it is would resolve them: a link that is absolute,
//! or that climbs too high, leads to a place within it and never to this machine's own files.

use std::collections::VecDeque;
use std::io;
use std::sync::{PoisonError, RwLock};

use camino::{Utf8Component, Utf8Path, Utf8PathBuf};

use crate::os;

/// The sysroots of this process.
static ROOTS: RwLock<Vec<Utf8PathBuf>> = RwLock::new(Vec::new());

/// How many links one path may go through (as in Linux, `path_resolution(7)`).
const LINKS: usize = 40;

/// From now on paths below `root` are resolved within it. The root of the machine itself is none.
pub(crate) fn confine(root: &Utf8Path) {
    let mut roots = ROOTS.write().unwrap_or_else(PoisonError::into_inner);
    if root != os::root() && !roots.iter().any(|known| known == root) {
        roots.push(root.to_owned());
    }
}

/// The real path, through all links; one that isn't below a sysroot stays as it is.
///
/// # Errors
/// When links lead in a circle.
pub(crate) fn real(path: &Utf8Path) -> io::Result<Utf8PathBuf> {
    let roots = ROOTS.read().unwrap_or_else(PoisonError::into_inner);
    match roots.iter().filter(|root| path.starts_with(root)).max_by_key(|root| root.as_str().len()) {
        Some(root) => within(root, path.strip_prefix(root).unwrap_or(path)),
        None => Ok(path.to_owned()),
    }
}

/// As [`real`], with the last part left as it is: for a link itself.
///
/// # Errors
/// As [`real`].
pub(crate) fn real_folder(path: &Utf8Path) -> io::Result<Utf8PathBuf> {
    match (path.parent(), path.file_name()) {
        (Some(folder), Some(name)) => Ok(real(folder)?.join(name)),
        _ => Ok(path.to_owned()),
    }
}

fn within(root: &Utf8Path, below: &Utf8Path) -> io::Result<Utf8PathBuf> {
    let parts = |path: &Utf8Path| path.components().map(|part| part.as_str().to_owned()).collect::<Vec<_>>();
    let mut pending: VecDeque<String> = parts(below).into();
    let mut at = root.to_owned();
    let mut links = 0;
    while let Some(part) = pending.pop_front() {
        match Utf8Path::new(&part).components().next() {
            Some(Utf8Component::Normal(name)) => {
                let next = at.join(name);
                let Ok(target) = next.read_link_utf8() else {
                    at = next;
                    continue;
                };
                links += 1;
                if links > LINKS {
                    return Err(os::circle_of_links());
                }
                for part in parts(&target).into_iter().rev() {
                    pending.push_front(part);
                }
            }
            Some(Utf8Component::RootDir) => at = root.to_owned(),
            Some(Utf8Component::ParentDir) if at != root => _ = at.pop(),
            _ => {}
        }
    }
    Ok(at)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    #[test]
    fn no_link_leads_out_of_a_sysroot() {
        let folder = tempfile::tempdir().unwrap();
        let base = Utf8Path::from_path(folder.path()).unwrap().canonicalize_utf8().unwrap();
        let root = base.join("root");
        std::fs::create_dir_all(root.join("etc")).unwrap();
        std::fs::create_dir_all(base.join("real")).unwrap();
        for (target, link) in [
            ("/real/hosts", "etc/hosts"),
            ("../../../../real/hosts", "etc/climbs"),
            ("/etc", "conf"),
            ("hosts", "etc/chain"),
            ("round", "etc/round"),
        ] {
            symlink(target, root.join(link)).unwrap();
        }
        confine(&root);
        let real = |path: &str| real(&root.join(path)).map(|path| path.strip_prefix(&root).unwrap().to_owned());
        for (path, expected) in [
            ("etc/hosts", "real/hosts"),
            ("etc/climbs", "real/hosts"),
            ("conf/chain", "real/hosts"),
            ("conf/new/file", "etc/new/file"),
            ("etc/../../../etc/x", "etc/x"),
        ] {
            assert_eq!(real(path).unwrap(), expected, "{path}");
        }
        assert!(real("etc/round").is_err());
        assert_eq!(super::real(Utf8Path::new("/etc/hosts")).unwrap(), "/etc/hosts");
        assert_eq!(real_folder(&root.join("conf/hosts")).unwrap(), root.join("etc/hosts"));
    }
}
