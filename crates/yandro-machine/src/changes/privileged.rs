//! The helper that runs as root: it does single steps that it is told over a pipe, and
//! judges each of them again.
//!
//! It takes nothing from the environment or the command line. It changes only what the
//! list in [`allowed`] names, only in folders that belong to root and that nobody else
//! may write, all the way from `/`, and follows no link. A file must still hold what the
//! caller saw.

use std::cell::RefCell;
use std::io::{self, BufRead, BufReader, Read as _, Write};
use std::process::{Child, ChildStdin, ChildStdout, Command, Stdio};

use camino::{Utf8Component, Utf8Path, Utf8PathBuf};
use rustix::fs::{AtFlags, FileType, Mode, OFlags, fstat, openat, statat};
use serde::{Deserialize, Serialize};
use yandro_core::config::{Layout, Node, Tree};
use yandro_core::httpd;
use yandro_core::nginx;
use yandro_core::pki::Facts;
use yandro_core::site::ServerId;
use yandro_core::system::{Cache, TrustStore};

use super::control::{OnWait, ServerAction, ServerControl as _};
use super::hands::set_link;
use super::lock;
use crate::caches;
use crate::files::{self, Attributes};
use crate::interrupt;
use crate::servers::Control;
use crate::trust;

/// The largest file that is taken, in bytes.
const LARGEST: usize = 256 << 20;

/// One step. The content of a write follows its line, `length` bytes long.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "step", deny_unknown_fields)]
pub(super) enum Request {
    Write { path: Utf8PathBuf, before: Option<String>, tag: String, length: usize, in_place: bool },
    Remove { path: Utf8PathBuf },
    Link { path: Utf8PathBuf, target: Utf8PathBuf, tag: String },
    Control { server: ServerId, verb: Verb },
    Flush { cache: Cache },
    Refresh { store: TrustStore },
}

/// An action of a server.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Verb {
    Test,
    Reload,
    StartOrReload,
    Start,
    Stop,
}

/// What came of a step.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "answer")]
pub(super) enum Answer {
    Ready,
    Done,
    /// A rename is impossible there; the caller keeps the old content and asks again.
    OnlyInPlace,
    Server(ServerAction),
    /// Not yet an answer: what the step waits for.
    Waiting {
        what: String,
    },
    /// The words of a server, or why a step is not done.
    Refused {
        words: String,
    },
    /// What the system said.
    Failed {
        errno: i32,
    },
}

/// The caller's end.
pub(super) struct Helper {
    child: Child,
    input: ChildStdin,
    output: BufReader<ChildStdout>,
}

impl Helper {
    pub(super) fn start(mut command: Command) -> io::Result<Self> {
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn()?;
        let input = child.stdin.take().expect("it is piped");
        let output = BufReader::new(child.stdout.take().expect("it is piped"));
        let mut helper = Self { child, input, output };
        match helper.answer() {
            Ok(Answer::Ready) => Ok(helper),
            _ => Err(io::Error::new(io::ErrorKind::PermissionDenied, "sudo did not give root")),
        }
    }

    pub(super) fn ask(&mut self, request: &Request, content: &[u8], on_wait: OnWait<'_>) -> io::Result<Answer> {
        let mut line = serde_json::to_vec(request)?;
        line.push(b'\n');
        self.input.write_all(&line)?;
        self.input.write_all(content)?;
        self.input.flush()?;
        let answer = loop {
            match self.answer()? {
                Answer::Waiting { what } => on_wait(&what),
                answer => break answer,
            }
        };
        match answer {
            Answer::Failed { errno } => Err(io::Error::from_raw_os_error(errno)),
            Answer::Refused { words }
                if !matches!(request, Request::Control { .. } | Request::Flush { .. } | Request::Refresh { .. }) =>
            {
                Err(io::Error::new(io::ErrorKind::PermissionDenied, words))
            }
            answer => Ok(answer),
        }
    }

    fn answer(&mut self) -> io::Result<Answer> {
        let mut line = String::new();
        if self.output.read_line(&mut line)? == 0 {
            return Err(io::Error::new(io::ErrorKind::UnexpectedEof, "the helper has ended"));
        }
        Ok(serde_json::from_str(&line)?)
    }
}

impl Drop for Helper {
    fn drop(&mut self) {
        // Its input ends with us, and so does it.
        _ = self.child.kill();
        _ = self.child.wait();
    }
}

/// Does what it is told on standard input until that ends. Runs as root.
///
/// # Errors
/// When it isn't root, or the caller is gone.
pub fn serve_privileged(input: impl io::Read, mut output: impl Write) -> io::Result<()> {
    if !rustix::process::geteuid().is_root() {
        return Err(io::ErrorKind::PermissionDenied.into());
    }
    interrupt::ignore();
    lock::make();
    let mut input = BufReader::new(input);
    let output = RefCell::new(&mut output);
    let say = |answer: &Answer| {
        let mut line = serde_json::to_vec(answer)?;
        line.push(b'\n');
        let mut output = output.borrow_mut();
        output.write_all(&line)?;
        output.flush()
    };
    say(&Answer::Ready)?;
    // A caller that is gone shows at the next answer.
    let on_wait = |what: &str| _ = say(&Answer::Waiting { what: what.to_owned() });
    loop {
        let mut line = String::new();
        if input.by_ref().take(1 << 16).read_line(&mut line)? == 0 {
            return Ok(());
        }
        let request: Request = serde_json::from_str(&line)?;
        let mut content = Vec::new();
        if let Request::Write { length, .. } = &request {
            if *length > LARGEST {
                return Err(io::ErrorKind::InvalidInput.into());
            }
            content.resize(*length, 0);
            input.read_exact(&mut content)?;
        }
        say(&step(&request, &content, &on_wait))?;
    }
}

fn step(request: &Request, content: &[u8], on_wait: OnWait<'_>) -> Answer {
    let done = match request {
        Request::Write { path, before, tag, in_place, .. } => write(path, before.as_deref(), tag, content, *in_place),
        Request::Remove { path } => remove(path),
        Request::Link { path, target, tag } => link(path, target, tag),
        Request::Control { server, verb } => {
            return control(*server, *verb, on_wait).unwrap_or_else(|words| Answer::Refused { words });
        }
        Request::Flush { cache } => {
            return caches::flush(*cache).map_or_else(refused, |()| Answer::Done);
        }
        Request::Refresh { store } => {
            return trust::refresh(*store).map_or_else(refused, |()| Answer::Done);
        }
    };
    done.unwrap_or_else(|refusal| refusal)
}

fn control(id: ServerId, verb: Verb, on_wait: OnWait<'_>) -> Result<Answer, String> {
    let known = match id {
        ServerId::Apache | ServerId::Nginx => Control::of_known(id),
        ServerId::BuiltIn | ServerId::Elsewhere | ServerId::Named(_) => None,
    };
    let server = known.ok_or_else(|| format!("there is no program to control {id}"))?;
    match verb {
        Verb::Test => server.test(),
        Verb::Reload => server.reload(on_wait),
        Verb::StartOrReload => return server.start_or_reload(on_wait).map(Answer::Server),
        Verb::Start => server.start(on_wait),
        Verb::Stop => server.stop(on_wait),
    }
    .map(|()| Answer::Done)
}

/// Whether this is one self-issued certificate in yandro's name. That its key is gone nobody can
/// see from it: this keeps slips out, and not somebody who may use sudo anyway.
fn is_own_root(content: &[u8]) -> bool {
    let Ok(certificates) = Facts::certificates(content) else { return false };
    let [one] = &certificates[..] else { return false };
    Facts::read(one).is_ok_and(|facts| facts.subject == facts.issuer && facts.subject.contains("Yandro"))
}

/// Whether nothing stands beside virtual hosts.
fn is_virtual_hosts_alone(tree: &Tree) -> bool {
    tree.nodes.iter().all(|node| matches!(node, Node::Section(section) if section.open.is("VirtualHost")))
}

/// What may be changed, and how.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    HostsFile,
    SiteFile,
    ServerFile,
    SiteLink,
    ModuleLink,
    SharedFile,
    RootCertificate,
}

/// The whole list. A temporary file beside one of these counts as it does.
fn allowed(path: &Utf8Path) -> Option<Kind> {
    let name = path.file_name()?;
    let is_plain = |name: &str| name.bytes().all(|b| b.is_ascii_alphanumeric() || b"-._".contains(&b));
    if path.as_str() == "/etc/hosts" {
        Some(Kind::HostsFile)
    } else if TrustStore::of_file(path).is_some() {
        Some(Kind::RootCertificate)
    } else if is_plain(name) && !name.starts_with('.') {
        let of_apache = Layout::all(httpd::KNOWN).find_map(|layout| kind_in(&layout, path));
        of_apache.or_else(|| Layout::all(nginx::KNOWN).find_map(|layout| kind_in_nginx(&layout, path)))
    } else {
        None
    }
}

/// What a path is in a layout of nginx; its main file is none of the helper's.
fn kind_in_nginx(layout: &Layout, path: &Utf8Path) -> Option<Kind> {
    let in_links = layout.links.as_ref().is_some_and(|links| path.parent() == Some(&links.sites));
    if layout.site_of_file(path).is_some() {
        Some(Kind::ServerFile)
    } else {
        (in_links && layout.is_own(path)).then_some(Kind::SiteLink)
    }
}

/// Whether nothing stands beside server blocks.
fn is_server_blocks_alone(tree: &Tree) -> bool {
    tree.nodes.iter().all(|node| matches!(node, Node::Section(section) if section.open.name == "server"))
}

/// What a path is in a layout of Apache httpd.
fn kind_in(layout: &Layout, path: &Utf8Path) -> Option<Kind> {
    let parent = path.parent()?;
    let is_plain_path = path.components().all(|part| !matches!(part, Utf8Component::ParentDir));
    let links = layout.links.as_ref();
    if layout.site_of_file(path).is_some() {
        Some(Kind::SiteFile)
    } else if links.is_some_and(|links| parent == links.sites) && layout.is_own(path) {
        Some(Kind::SiteLink)
    } else if links.is_some_and(|links| parent == links.enabled_modules) {
        matches!(path.extension(), Some("load" | "conf")).then_some(Kind::ModuleLink)
    } else {
        let beside = layout.main.parent().unwrap_or(Utf8Path::new("/"));
        let folders = [beside, &layout.sites, Utf8Path::new(layout.known.sign), &beside.join("extra")];
        let is_shared = links.is_none() && folders.contains(&parent) || parent == beside;
        (is_shared && is_plain_path && path.extension() == Some("conf")).then_some(Kind::SharedFile)
    }
}

/// Whether a shared file changes by switches alone, and none that loads what somebody else than
/// root could change.
fn is_sound_switch(path: &Utf8Path, content: &[u8]) -> bool {
    let Some(layout) = Layout::all(httpd::KNOWN).find(|layout| kind_in(layout, path) == Some(Kind::SharedFile)) else {
        return false;
    };
    let root = Utf8Path::new(layout.known.root);
    let is_roots = |file: &str| {
        let file = root.join(file).canonicalize_utf8();
        file.is_ok_and(|file| check_way(&file, false).is_ok())
    };
    let before = files::read_if_there(path).ok().flatten().unwrap_or_default();
    httpd::is_switching(&before, content, is_roots)
}

/// The path that a temporary file stands beside.
fn without_tag(path: &Utf8Path) -> Utf8PathBuf {
    let base = path.file_name().and_then(|name| name.strip_prefix('.')?.rsplit_once(".yandro-"));
    match base {
        Some((name, tag)) if is_tag(tag) => path.with_file_name(name),
        _ => path.to_owned(),
    }
}

fn is_tag(tag: &str) -> bool {
    tag.len() == 8 && tag.bytes().all(|byte| byte.is_ascii_hexdigit())
}

fn refused(words: impl Into<String>) -> Answer {
    Answer::Refused { words: words.into() }
}

fn failed(error: &io::Error) -> Answer {
    Answer::Failed { errno: error.raw_os_error().unwrap_or(5) }
}

/// Whether every folder on the way belongs to root, may be written by nobody else and
/// is no link; and whether the last part is no link, unless it may be.
fn check_way(path: &Utf8Path, may_be_link: bool) -> Result<(), Answer> {
    let faulty = |errno: rustix::io::Errno| failed(&errno.into());
    let flags = OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC | OFlags::PATH;
    let mut folder = rustix::fs::open("/", flags, Mode::empty()).map_err(faulty)?;
    let parts: Vec<&str> = path
        .components()
        .skip(1)
        .map(|part| match part {
            Utf8Component::Normal(part) => Ok(part),
            _ => Err(refused(format!("{path} is no plain path"))),
        })
        .collect::<Result<_, _>>()?;
    let (name, folders) = parts.split_last().ok_or_else(|| refused("no path"))?;
    for part in folders {
        folder = openat(&folder, *part, flags, Mode::empty()).map_err(faulty)?;
        let stat = fstat(&folder).map_err(faulty)?;
        if stat.st_uid != 0 || stat.st_mode & 0o022 != 0 {
            return Err(refused(format!("{part} on the way to {path} can be changed by others than root")));
        }
    }
    match statat(&folder, *name, AtFlags::SYMLINK_NOFOLLOW) {
        Ok(stat) if FileType::from_raw_mode(stat.st_mode) == FileType::Symlink && !may_be_link => {
            Err(refused(format!("{path} is a link")))
        }
        Ok(stat) if FileType::from_raw_mode(stat.st_mode) == FileType::Directory => {
            Err(refused(format!("{path} is a folder")))
        }
        Ok(_) | Err(rustix::io::Errno::NOENT) => Ok(()),
        Err(error) => Err(faulty(error)),
    }
}

fn write(path: &Utf8Path, before: Option<&str>, tag: &str, content: &[u8], in_place: bool) -> Result<Answer, Answer> {
    let kind =
        allowed(path).ok_or_else(|| refused(format!("{path} is not among the files that root writes for yandro")))?;
    let is_sound = match kind {
        Kind::HostsFile => true,
        Kind::SiteFile => httpd::parse(content).is_ok_and(|tree| is_virtual_hosts_alone(&tree)),
        Kind::ServerFile => nginx::parse(content).is_ok_and(|tree| is_server_blocks_alone(&tree)),
        Kind::RootCertificate => is_own_root(content),
        Kind::SharedFile => is_sound_switch(path, content),
        Kind::SiteLink | Kind::ModuleLink => false,
    };
    if !is_sound || !is_tag(tag) {
        return Err(refused(format!("{path} may not hold this")));
    }
    check_way(path, false)?;
    let now = files::read_if_there(path).map_err(|error| failed(&error.source))?;
    if now.as_deref().map(files::fingerprint).as_deref() != before {
        return Err(refused(format!("{path} was changed by something else at the same moment")));
    }
    let attributes = match Attributes::of(path) {
        Ok(attributes) => attributes,
        Err(_) => Attributes { mode: 0o644, uid: 0, gid: 0, extended: Vec::new() },
    };
    let not_yet = || files::FileError::at(path)(io::Error::other("only in place"));
    let written = files::write(path, content, &attributes, tag, || if in_place { Ok(()) } else { Err(not_yet()) });
    match written {
        Ok(_) => Ok(Answer::Done),
        Err(error) if !in_place && error.source.raw_os_error().is_none() => Ok(Answer::OnlyInPlace),
        Err(error) => Err(failed(&error.source)),
    }
}

fn remove(path: &Utf8Path) -> Result<Answer, Answer> {
    let base = without_tag(path);
    match allowed(&base) {
        Some(Kind::HostsFile | Kind::SharedFile) if base == path => {
            return Err(refused(format!("{path} is never removed")));
        }
        Some(_) => {}
        None => return Err(refused(format!("{path} is not among the files that root removes for yandro"))),
    }
    check_way(path, true)?;
    std::fs::remove_file(path).map_err(|error| failed(&error))?;
    files::sync_folder_of(path).map_err(|error| failed(&error.source))?;
    Ok(Answer::Done)
}

fn link(path: &Utf8Path, target: &Utf8Path, tag: &str) -> Result<Answer, Answer> {
    let wanted = match allowed(path) {
        Some(Kind::SiteLink) => "../sites-available",
        Some(Kind::ModuleLink) => "../mods-available",
        _ => return Err(refused(format!("{path} is not among the links that root makes for yandro"))),
    };
    if Some(target) != path.file_name().map(|name| Utf8Path::new(wanted).join(name)).as_deref() || !is_tag(tag) {
        return Err(refused(format!("{path} may not lead to {target}")));
    }
    check_way(path, true)?;
    set_link(path, target, tag).map_err(|error| failed(&error.source))?;
    Ok(Answer::Done)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_list_is_allowed() {
        for (path, kind) in [
            ("/etc/hosts", Some(Kind::HostsFile)),
            ("/etc/apache2/sites-available/yandro-saltmarsh.test.conf", Some(Kind::SiteFile)),
            ("/etc/apache2/sites-enabled/yandro-saltmarsh.test.conf", Some(Kind::SiteLink)),
            ("/etc/apache2/mods-enabled/ssl.load", Some(Kind::ModuleLink)),
            ("/etc/apache2/ports.conf", Some(Kind::SharedFile)),
            ("/etc/nginx/sites-available/yandro-saltmarsh.test.conf", Some(Kind::ServerFile)),
            ("/etc/nginx/sites-enabled/yandro-saltmarsh.test.conf", Some(Kind::SiteLink)),
            ("/etc/nginx/nginx.conf", None),
            ("/etc/httpd/conf.d/yandro-saltmarsh.test.conf", Some(Kind::SiteFile)),
            ("/etc/httpd/conf.modules.d/00-ssl.conf", Some(Kind::SharedFile)),
            ("/etc/httpd/conf.modules.d/00-ssl.sh", None),
            ("/etc/apache2/conf-enabled/ferries.conf", None),
            ("/etc/apache2/sites-available/ferries.conf", None),
            ("/etc/apache2/sites-available/yandro-x/../../../shadow.conf", None),
            ("/etc/apache2/sites-available/../yandro-saltmarsh.test.conf", None),
            ("/etc/apache2/mods-enabled/../apache2.conf", None),
            ("/etc/apache2/x/../apache2.conf", None),
            ("/etc/apache2/mods-enabled/.ssl.load", None),
            ("/usr/local/share/ca-certificates/yandro-00112233445566aa.crt", Some(Kind::RootCertificate)),
            ("/usr/local/share/ca-certificates/yandro-x.crt", None),
            ("/usr/local/share/ca-certificates/../yandro-00112233445566aa.crt", None),
            ("/etc/hosts.allow", None),
            ("/etc/shadow", None),
            ("etc/hosts", None),
        ] {
            assert_eq!(allowed(Utf8Path::new(path)), kind, "{path}");
        }
        assert_eq!(without_tag(Utf8Path::new("/etc/.hosts.yandro-0a0b0c12")), "/etc/hosts");
        assert_eq!(without_tag(Utf8Path::new("/etc/.shadow.yandro-x")), "/etc/.shadow.yandro-x");
        let refusal =
            link(Utf8Path::new("/etc/apache2/mods-enabled/ssl.load"), Utf8Path::new("/tmp/evil.so"), "0000000f");
        assert!(matches!(refusal, Err(Answer::Refused { .. })));
        assert!(matches!(remove(Utf8Path::new("/etc/hosts")), Err(Answer::Refused { .. })));
        assert!(matches!(
            write(Utf8Path::new("/etc/passwd"), None, "0000000f", b"", false),
            Err(Answer::Refused { .. })
        ));
    }

    #[test]
    fn a_way_that_others_can_change_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let path = Utf8Path::from_path(folder.path()).unwrap().join("hosts");
        // The system's folder for temporary files is everybody's.
        assert!(matches!(check_way(&path, false), Err(Answer::Refused { .. })), "{path}");
        assert_eq!(check_way(Utf8Path::new("/etc/hosts"), false), Ok(()));
    }
}
