//! Dumps of databases, read and written by the databases' own clients.

use std::fs::File;
use std::io::{self, BufRead, BufReader, Read, Seek as _, SeekFrom, Write};
use std::process::{Child, Command, Stdio};

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{DatabaseAddress, DatabaseKind, DatabasePlace};

use super::session::DatabaseError;
use crate::caller;
use crate::files::FileError;
use crate::os;

/// How much of a dump is looked at to tell its kind, in bytes.
const HEAD: usize = 64 << 10;
/// After how many bytes the progress is told.
const TOLD_EVERY: u64 = 1 << 20;

/// Signs of dumps that others can't read.
const SIGNS: [(DatabaseKind, &[&str]); 3] = [
    (DatabaseKind::MySql, &["-- MySQL dump", "-- MariaDB dump", "ENGINE=", "/*!40101", "/*M!"]),
    (
        DatabaseKind::PostgreSql,
        &["-- PostgreSQL database dump", "SET search_path", "pg_catalog.set_config", "FROM stdin;"],
    ),
    (DatabaseKind::Sqlite, &["PRAGMA foreign_keys=OFF;"]),
];

/// A dump that is being read.
struct Dump {
    path: Utf8PathBuf,
    input: Box<dyn BufRead>,
    /// How much of the file was read.
    read: std::rc::Rc<std::cell::Cell<u64>>,
    length: u64,
    /// How much of that the person was told last.
    told: u64,
}

/// The file, which counts what is read of it.
struct Counted {
    file: File,
    read: std::rc::Rc<std::cell::Cell<u64>>,
}

impl Read for Counted {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let count = self.file.read(buffer)?;
        self.read.set(self.read.get() + count as u64);
        Ok(count)
    }
}

impl Dump {
    /// Opens a dump, packed by gzip, xz or zstd or not at all, and looks whether it is one of this kind.
    fn open(path: &Utf8Path, kind: DatabaseKind) -> Result<Self, DatabaseError> {
        let wrong = |why: String| DatabaseError::Dump { path: path.to_owned(), why };
        let at = |error: io::Error| wrong(error.to_string());
        let _rights = caller::rights_for(path);
        let file = os::open_reading(path).map_err(FileError::at(path))?;
        let length = file.metadata().map_err(at)?.len();
        let read = std::rc::Rc::default();
        let mut raw = BufReader::new(Counted { file, read: std::rc::Rc::clone(&read) });
        let begin = raw.fill_buf().map_err(at)?.to_vec();
        let mut input: Box<dyn BufRead> = unpacked(&begin, raw).map_err(at)?;
        let head = input.fill_buf().map_err(at)?;
        if head.is_empty() {
            return Err(wrong("it is empty".to_owned()));
        }
        if head.starts_with(b"PGDMP") {
            return Err(wrong(
                "it has the format of pg_dump's own, and not that of SQL: write it by pg_dump without -F".into(),
            ));
        }
        match kind_of(&String::from_utf8_lossy(&head[..head.len().min(HEAD)])) {
            Some(other) if other != kind => {
                Err(wrong(format!("it is a dump of {}, not of {}", other.name(), kind.name())))
            }
            _ => Ok(Self { path: path.to_owned(), input, read, length, told: 0 }),
        }
    }
}

#[cfg(feature = "databases")]
fn unpacked(begin: &[u8], raw: BufReader<Counted>) -> io::Result<Box<dyn BufRead>> {
    Ok(match begin {
        [0x1f, 0x8b, ..] => Box::new(BufReader::with_capacity(HEAD, flate2::bufread::MultiGzDecoder::new(raw))),
        [0xfd, b'7', b'z', b'X', b'Z', 0, ..] => {
            Box::new(BufReader::with_capacity(HEAD, lzma_rust2::XzReader::new(raw, true)))
        }
        [0x28, 0xb5, 0x2f, 0xfd, ..] => {
            let frames = ruzstd::decoding::StreamingDecoder::new(raw).map_err(io::Error::other)?;
            Box::new(BufReader::with_capacity(HEAD, frames))
        }
        _ => Box::new(raw),
    })
}

#[cfg(not(feature = "databases"))]
fn unpacked(begin: &[u8], raw: BufReader<Counted>) -> io::Result<Box<dyn BufRead>> {
    match begin {
        [0x1f, 0x8b, ..] | [0xfd, b'7', ..] | [0x28, 0xb5, 0x2f, 0xfd, ..] => {
            Err(io::Error::other("this build of yandro reads no packed dumps; unpack it first"))
        }
        _ => Ok(Box::new(raw)),
    }
}

/// The kind that the beginning of a dump speaks of.
fn kind_of(head: &str) -> Option<DatabaseKind> {
    SIGNS.iter().find(|(_, signs)| signs.iter().any(|sign| head.contains(sign))).map(|(kind, _)| *kind)
}

/// The kind of database that a dump is of, if it tells.
///
/// # Errors
/// When it can't be read.
pub fn kind_of_dump(path: &Utf8Path) -> Result<Option<DatabaseKind>, DatabaseError> {
    let fits = |kind: &DatabaseKind| Dump::open(path, *kind).map(|_| *kind);
    let all: Vec<Result<DatabaseKind, DatabaseError>> = DatabaseKind::ALL.iter().map(fits).collect();
    let fitting: Vec<DatabaseKind> = all.iter().filter_map(|kind| kind.as_ref().ok()).copied().collect();
    match (fitting.as_slice(), all.into_iter().find_map(Result::err)) {
        ([], Some(error)) => Err(error),
        ([only], _) => Ok(Some(*only)),
        _ => Ok(None),
    }
}

/// A client of the database, or the program that writes its dumps, with all but what it reads and writes.
fn client(address: &DatabaseAddress, programs: &[&str]) -> Result<Command, DatabaseError> {
    let program = programs.iter().find_map(|name| program_named(name));
    let program = program.ok_or_else(|| DatabaseError::NoClient(programs.join(" or ")))?;
    let mut command = caller::command(&program).map_err(FileError::at(&program))?;
    let password = address.password.as_deref().unwrap_or_default();
    match address.kind {
        DatabaseKind::MySql => {
            command.args(["--no-defaults", "--default-character-set=utf8mb4"]);
            // Without a name it is the one of the system's user.
            command.args(address.user.iter().map(|user| format!("--user={user}")));
            command.env("MYSQL_PWD", password);
            match &address.place {
                DatabasePlace::Server(host, port) => {
                    command.args([format!("--host={host}"), format!("--port={port}"), "--protocol=TCP".to_owned()]);
                }
                DatabasePlace::Socket(path) | DatabasePlace::File(path) => _ = command.arg(format!("--socket={path}")),
            }
        }
        DatabaseKind::PostgreSql => {
            let (host, port) = match &address.place {
                DatabasePlace::Server(host, port) => (host.as_str(), *port),
                DatabasePlace::Socket(path) | DatabasePlace::File(path) => (path.as_str(), address.kind.port()),
            };
            command.args(["-h", host, "-p", &port.to_string(), "-w", "-d", &address.name]);
            command.args(address.user.iter().map(|user| format!("--username={user}")));
            command.env("PGPASSWORD", password);
        }
        DatabaseKind::Sqlite => {}
    }
    Ok(command)
}

/// A program in one of the folders that hold programs.
fn program_named(name: &str) -> Option<Utf8PathBuf> {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let usual = ["/usr/bin", "/usr/local/bin", "/opt/homebrew/bin"].map(Into::into);
    let folders = std::env::split_paths(&path).chain(usual);
    let folders = folders.filter_map(|folder| Utf8PathBuf::from_path_buf(folder).ok());
    let names = [name.to_owned(), format!("{name}{}", std::env::consts::EXE_SUFFIX)];
    folders.flat_map(|folder| names.clone().map(|name| folder.join(name))).find(|program| program.is_file())
}

/// What a program says is kept in a file: however much it is, the program isn't held up.
fn words_kept(command: &mut Command) -> io::Result<File> {
    let file = tempfile::tempfile()?;
    command.stderr(Stdio::from(file.try_clone()?));
    Ok(file)
}

/// Reads a dump into a database. `progress` is told how much of the file was read, of how much. Whatever the dump says, no
/// program is run by it and no file is read.
///
/// # Errors
/// When the dump is of another kind, or the database refuses a part of it.
pub fn import(
    address: &DatabaseAddress,
    path: &Utf8Path,
    progress: &mut dyn FnMut(u64, u64),
) -> Result<(), DatabaseError> {
    let mut dump = Dump::open(path, address.kind)?;
    let done = match (address.kind, &address.place) {
        (DatabaseKind::MySql, _) => import_mysql(address, &mut dump, progress),
        #[cfg(feature = "databases")]
        (DatabaseKind::PostgreSql, _) => super::postgres::import(address, &mut || dump.line(progress)),
        #[cfg(feature = "databases")]
        (DatabaseKind::Sqlite, DatabasePlace::File(file)) => {
            let mut text = String::new();
            dump.input.read_to_string(&mut text).map_err(|error| dump.wrong(&error))?;
            super::sqlite::import(file, &text)
        }
        _ => Err(DatabaseError::NotBuilt),
    };
    done.map_err(|error| match error {
        DatabaseError::Refused(why) => DatabaseError::Dump { path: path.to_owned(), why },
        error => error,
    })
}

/// By the database's client, which knows its dumps best, without that client's own commands.
fn import_mysql(
    address: &DatabaseAddress,
    dump: &mut Dump,
    progress: &mut dyn FnMut(u64, u64),
) -> Result<(), DatabaseError> {
    let mut command = client(address, &["mariadb", "mysql"])?;
    command.args(["--binary-mode", "--local-infile=0", &address.name]);
    let said = words_kept(&mut command).map_err(|error| dump.wrong(&error))?;
    let mut child = command.stdin(Stdio::piped()).stdout(Stdio::null()).spawn().map_err(|error| dump.wrong(&error))?;
    let sent = dump.send(&mut child, progress);
    drop(child.stdin.take());
    let status = child.wait().map_err(|error| dump.wrong(&error))?;
    // What it said matters more than that it read no further.
    if status.success() { sent } else { Err(DatabaseError::Refused(last_words(said))) }
}

impl Dump {
    fn wrong(&self, error: &io::Error) -> DatabaseError {
        DatabaseError::Dump { path: self.path.clone(), why: error.to_string() }
    }

    /// The next line, with its end.
    fn line(&mut self, progress: &mut dyn FnMut(u64, u64)) -> Result<Option<Vec<u8>>, DatabaseError> {
        let mut line = Vec::new();
        let length = self.input.read_until(b'\n', &mut line).map_err(|error| self.wrong(&error))?;
        if self.read.get() - self.told > TOLD_EVERY {
            self.told = self.read.get();
            progress(self.told, self.length);
        }
        Ok((length > 0).then_some(line))
    }

    /// Sends the dump to a client of MySQL, without what only an administrator may say.
    fn send(&mut self, child: &mut Child, progress: &mut dyn FnMut(u64, u64)) -> Result<(), DatabaseError> {
        let Some(mut to) = child.stdin.take() else { return Ok(()) };
        while let Some(line) = self.line(progress)? {
            to.write_all(&for_owner(&line)).map_err(|error| self.wrong(&error))?;
        }
        to.flush().map_err(|error| self.wrong(&error))
    }
}

/// A line of a dump as the owner of a database may say it: the new account defines everything.
fn for_owner(line: &[u8]) -> std::borrow::Cow<'_, [u8]> {
    if !(line.starts_with(b"/*!50") || line.starts_with(b"CREATE ")) {
        return line.into();
    }
    let Ok(text) = std::str::from_utf8(line) else { return line.into() };
    let Some(start) = text.find("DEFINER=`") else { return line.into() };
    // DEFINER=`user`@`host`
    let rest = &text[start + "DEFINER=`".len()..];
    let Some(host) = rest.find("`@`").map(|at| at + 3) else { return line.into() };
    let Some(end) = rest[host..].find('`') else { return line.into() };
    format!("{}{}", &text[..start], &rest[host + end + 1..]).into_bytes().into()
}

/// The end of what a client said.
fn last_words(mut said: File) -> String {
    let mut bytes = Vec::new();
    _ = said.seek(SeekFrom::Start(0)).and_then(|_| said.read_to_end(&mut bytes));
    let text = String::from_utf8_lossy(&bytes);
    let lines: Vec<&str> = text.lines().filter(|line| !line.trim().is_empty()).collect();
    lines[lines.len().saturating_sub(3)..].join("\n")
}

/// Writes a dump of a database into a file that isn't there; packed if its name ends in `.gz`.
///
/// # Errors
/// When the file is there, or the database's program fails; then no file is left.
pub fn export(address: &DatabaseAddress, path: &Utf8Path) -> Result<(), DatabaseError> {
    let mut command = match (address.kind, &address.place) {
        (DatabaseKind::MySql, _) => {
            let mut command = client(address, &["mariadb-dump", "mysqldump"])?;
            command.args(["--single-transaction", "--no-tablespaces", "--hex-blob", "--triggers", &address.name]);
            command
        }
        (DatabaseKind::PostgreSql, _) => {
            let mut command = client(address, &["pg_dump"])?;
            command.args(["--no-owner", "--no-privileges"]);
            command
        }
        (DatabaseKind::Sqlite, DatabasePlace::File(file)) => {
            let mut command = client(address, &["sqlite3"])?;
            command.arg(file).arg(".dump");
            command
        }
        (DatabaseKind::Sqlite, _) => return Err(DatabaseError::NotSqlite(Utf8PathBuf::new())),
    };
    let rights = caller::rights_for(path);
    let file = os::new_file(path).map_err(FileError::at(path))?;
    drop(rights);
    let written = write(&mut command, file, path.extension() == Some("gz"));
    written.map_err(|why| {
        let _rights = caller::rights_for(path);
        _ = os::remove_file(path);
        DatabaseError::Dump { path: path.to_owned(), why }
    })
}

fn write(command: &mut Command, file: File, packs: bool) -> Result<(), String> {
    let words = |error: io::Error| error.to_string();
    let said = words_kept(command).map_err(words)?;
    let mut child = command.stdin(Stdio::null()).stdout(Stdio::piped()).spawn().map_err(words)?;
    let mut from = child.stdout.take().ok_or("it writes nothing")?;
    let copied = copy(&mut from, file, packs);
    drop(from);
    let status = child.wait().map_err(words)?;
    if !status.success() {
        return Err(last_words(said));
    }
    copied.map_err(words)
}

#[cfg(feature = "databases")]
fn copy(from: &mut impl Read, mut file: File, packs: bool) -> io::Result<()> {
    if !packs {
        io::copy(from, &mut file)?;
        return file.sync_all();
    }
    let mut packed = flate2::write::GzEncoder::new(file, flate2::Compression::default());
    io::copy(from, &mut packed)?;
    packed.finish()?.sync_all()
}

#[cfg(not(feature = "databases"))]
fn copy(from: &mut impl Read, mut file: File, _: bool) -> io::Result<()> {
    io::copy(from, &mut file)?;
    file.sync_all()
}
