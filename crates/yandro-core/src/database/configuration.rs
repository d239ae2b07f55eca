//! The databases that an application's configuration names.

use camino::Utf8Path;

use super::address::{DatabaseAddress, DatabaseKind, DatabasePlace, server_place};
use super::code::of_code;
use super::pairs::{Pair, of_lines, of_yaml};

/// Words that say that a key is about a database.
const SUBJECTS: [&str; 15] = [
    "DB",
    "DATABASE",
    "DATABASES",
    "MYSQL",
    "MARIADB",
    "PG",
    "PGSQL",
    "POSTGRES",
    "POSTGRESQL",
    "SQL",
    "SQLITE",
    "JDBC",
    "DBAL",
    "PDO",
    "DATASOURCE",
];

/// Words of sections that are for other places than a developer's own computer.
const ELSEWHERE: [&str; 5] = ["TEST", "TESTING", "PRODUCTION", "PROD", "STAGING"];

/// What a value tells about a database.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Part {
    Kind,
    Host,
    Port,
    Socket,
    Name,
    User,
    Password,
    Url,
}

/// The last words of a key for each part.
const PARTS: [(Part, &[&str]); 8] = [
    (Part::Kind, &["CONNECTION", "DRIVER", "ENGINE", "TYPE", "ADAPTER", "DIALECT", "CLIENT", "KIND"]),
    (Part::Host, &["HOST", "HOSTNAME", "SERVER"]),
    (Part::Port, &["PORT"]),
    (Part::Socket, &["SOCKET"]),
    (Part::Name, &["NAME", "DATABASE", "DBNAME", "DB", "PATH", "FILE", "FILENAME", "STORAGE"]),
    (Part::User, &["USER", "USERNAME", "LOGIN", "DBUSER"]),
    (Part::Password, &["PASSWORD", "PASSWD", "PASS", "PWD"]),
    (Part::Url, &["URL", "DSN", "URI"]),
];

/// The databases that a file names, judged by its name (`path`) for its format. The path of a database that is a file
/// is as written: below the project, or below the configuration's folder.
///
/// Read are addresses (`mysql://…`, PDO's `mysql:host=…`) and keys for a host, a name, a user and a password that stand
/// together, in `.env` files, INI, TOML, YAML, JSON, and the lists, constants and variables of PHP, Python and
/// JavaScript. What a program computes is not known.
pub fn named_databases(path: &Utf8Path, text: &str) -> Vec<DatabaseAddress> {
    let pairs = pairs(path, text);
    let mut found: Vec<DatabaseAddress> = Vec::new();
    for group in groups(&pairs) {
        for address in group.addresses() {
            if !found.contains(&address) {
                found.push(address);
            }
        }
    }
    found
}

/// The pairs of a file, in its format.
pub(super) fn pairs(path: &Utf8Path, text: &str) -> Vec<Pair> {
    let name = path.file_name().unwrap_or_default();
    match path.extension().unwrap_or_default() {
        _ if name.starts_with(".env") => of_lines(text),
        "yaml" | "yml" | "neon" => of_yaml(text),
        "php" | "json" | "py" | "js" | "ts" | "inc" | "rb" => of_code(text),
        _ => of_lines(text),
    }
}

/// Values that speak of one database.
pub(super) struct Group<'p> {
    within: usize,
    /// The words before those that name a part, of all keys.
    subject: Vec<&'p str>,
    /// The words of the keys around, and the subject.
    around: Vec<&'p str>,
    /// Each part, whether its key names a database, and its pair.
    pub(super) parts: Vec<(Part, bool, &'p Pair)>,
}

pub(super) fn groups(pairs: &[Pair]) -> Vec<Group<'_>> {
    let mut groups: Vec<Group<'_>> = Vec::new();
    for pair in pairs {
        let Some(last) = pair.words.last() else { continue };
        let Some((part, _)) = PARTS.iter().find(|(_, words)| words.contains(&last.as_str())) else { continue };
        let all: Vec<&str> = pair.words.iter().map(String::as_str).collect();
        let own = &all[all.len() - pair.own..];
        // `DB_UNIX_SOCKET`
        let cut = if own.len() > 2 && own[own.len() - 2] == "UNIX" { 2 } else { 1 };
        let subject = own[..own.len() - cut].to_vec();
        let around = all[..all.len() - cut].to_vec();
        let is_named = ["DATABASE", "DBNAME", "DB"].contains(&last.as_str());
        let entry = (*part, is_named, pair);
        match groups.iter_mut().find(|group| group.within == pair.within && group.subject == subject) {
            Some(group) => group.parts.push(entry),
            None => groups.push(Group { within: pair.within, subject, around, parts: vec![entry] }),
        }
    }
    groups
}

impl Group<'_> {
    fn part(&self, wanted: Part) -> Option<&str> {
        let mut values = self.parts.iter().filter(|(part, _, _)| *part == wanted);
        // Beside a `database`, a `name` is that of something else.
        let named = values.clone().find(|(_, is_named, _)| *is_named);
        named.or_else(|| values.next()).map(|(_, _, pair)| pair.value.as_str()).filter(|value| !value.is_empty())
    }

    pub(super) fn has(&self, wanted: Part) -> bool {
        self.parts.iter().any(|(part, _, _)| *part == wanted)
    }

    /// Whether a key says that it is the name of a database.
    pub(super) fn has_named(&self) -> bool {
        self.parts.iter().any(|(part, is_named, _)| *part == Part::Name && *is_named)
    }

    /// Whether it speaks of a server's database whose values are still to be filled in.
    pub(super) fn is_template(&self) -> bool {
        let is_here = !self.around.iter().any(|word| ELSEWHERE.contains(word));
        is_here && self.is_about_database() && self.has(Part::Name) && self.has(Part::User)
    }

    fn is_about_database(&self) -> bool {
        self.around.iter().any(|word| SUBJECTS.contains(word))
    }

    fn kind(&self) -> Option<DatabaseKind> {
        let told = self.part(Part::Kind).and_then(DatabaseKind::parse);
        told.or_else(|| self.around.iter().find_map(|word| DatabaseKind::parse(word))).or_else(|| {
            let is_postgres = self.around.contains(&"PG") || self.part(Part::Port) == Some("5432");
            is_postgres.then_some(DatabaseKind::PostgreSql)
        })
    }

    pub(super) fn addresses(&self) -> Vec<DatabaseAddress> {
        if self.around.iter().any(|word| ELSEWHERE.contains(word)) {
            return Vec::new();
        }
        let urls = self.parts.iter().filter(|(part, _, _)| matches!(part, Part::Url | Part::Name));
        let mut found: Vec<DatabaseAddress> = urls.filter_map(|(_, _, pair)| self.of_url(&pair.value)).collect();
        if found.is_empty() {
            found.extend(self.of_parts());
        }
        found
    }

    /// From a URL, or from the form that PDO has (`mysql:host=…;dbname=…`).
    fn of_url(&self, value: &str) -> Option<DatabaseAddress> {
        let value = value.strip_prefix("jdbc:").unwrap_or(value);
        let (scheme, rest) = value.split_once(':')?;
        DatabaseKind::parse(scheme)?;
        let mut address = if rest.contains('=') && !rest.starts_with('/') {
            let kind = DatabaseKind::parse(scheme)?;
            let field = |wanted: &str| {
                let fields = rest.split([';', ' ']).filter_map(|field| field.split_once('='));
                fields.into_iter().find(|(key, _)| key.trim() == wanted).map(|(_, value)| value.trim())
            };
            let place = match field("unix_socket") {
                Some(socket) => DatabasePlace::Socket(socket.into()),
                None => server_place(field("host").unwrap_or("localhost"), field("port"), kind)?,
            };
            let own = |wanted: &str| field(wanted).map(ToOwned::to_owned);
            DatabaseAddress { kind, place, name: own("dbname")?, user: own("user"), password: own("password") }
        } else {
            DatabaseAddress::parse(value).ok()?
        };
        if address.user.is_none() && address.kind != DatabaseKind::Sqlite {
            address.user = self.part(Part::User).map(ToOwned::to_owned);
            address.password = self.part(Part::Password).map(ToOwned::to_owned);
        }
        Some(address)
    }

    fn of_parts(&self) -> Option<DatabaseAddress> {
        let (kind, name) = (self.kind(), self.part(Part::Name)?);
        let is_named = self.has_named();
        let looks_like_file = [".sqlite", ".sqlite3", ".db"].iter().any(|end| name.ends_with(end));
        if kind == Some(DatabaseKind::Sqlite) || (looks_like_file && (self.is_about_database() || is_named)) {
            return (name != ":memory:").then(|| DatabaseAddress::file(name.into()));
        }
        let has_server = self.part(Part::User).is_some() || self.part(Part::Host).is_some();
        if !(has_server && (self.is_about_database() || kind.is_some() || is_named)) {
            return None;
        }
        let is_name = !name.contains(['$', '%', '{', '/', ' ']);
        let kind = kind.unwrap_or(DatabaseKind::MySql);
        let place = match self.part(Part::Socket) {
            Some(socket) => DatabasePlace::Socket(socket.into()),
            None => server_place(self.part(Part::Host).unwrap_or("localhost"), self.part(Part::Port), kind)?,
        };
        let own = |part: Part| self.part(part).map(ToOwned::to_owned);
        let (user, password) = (own(Part::User), own(Part::Password));
        is_name.then(|| DatabaseAddress { kind, place, name: name.to_owned(), user, password })
    }
}
