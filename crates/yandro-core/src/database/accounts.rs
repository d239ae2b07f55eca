//! Databases and their accounts made and taken away by a server's administrator.

use camino::Utf8Path;

use super::address::DatabaseKind;
use super::statements::Statement;
use crate::name::HostName;

/// The longest name of a database and its account that all servers take.
const LONGEST: usize = 32;

/// A database with an account that may use only it.
#[derive(Clone, PartialEq, Eq)]
pub struct NewDatabase {
    /// The name of both.
    pub name: String,
    /// The account's password: letters and digits.
    pub password: String,
}

impl core::fmt::Debug for NewDatabase {
    fn fmt(&self, f: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        write!(f, "NewDatabase({})", self.name)
    }
}

/// The name of a site's database: its own without the domain, in letters that every server takes.
pub fn database_name(site: &HostName) -> String {
    let name = site.as_str();
    let name = name.rsplit_once('.').map_or(name, |(before, _)| before);
    let name: String = name.chars().map(|letter| if letter.is_ascii_alphanumeric() { letter } else { '_' }).collect();
    let name = if name.starts_with(|first: char| first.is_ascii_lowercase()) { name } else { format!("db_{name}") };
    name.chars().take(LONGEST).collect()
}

impl NewDatabase {
    /// Whether it has a name that needs no quotes, and a password that is no syntax.
    pub fn is_plain(&self) -> bool {
        let is_word =
            |text: &str, also: &str| text.chars().all(|letter| letter.is_ascii_alphanumeric() || also.contains(letter));
        let starts = self.name.starts_with(|first: char| first.is_ascii_lowercase());
        starts
            && self.name.len() <= LONGEST
            && is_word(&self.name, "_")
            && !self.name.bytes().any(|byte| byte.is_ascii_uppercase())
            && self.password.len() >= 16
            && is_word(&self.password, "")
    }
}

impl DatabaseKind {
    /// Where servers listen by default: their sockets, or for PostgreSQL the folders of these.
    pub fn sockets(self) -> &'static [&'static str] {
        match self {
            Self::MySql => &["/run/mysqld/mysqld.sock", "/var/lib/mysql/mysql.sock", "/tmp/mysql.sock"],
            Self::PostgreSql => &["/run/postgresql", "/tmp"],
            Self::Sqlite => &[],
        }
    }

    /// The file that shows that a server listens at one of [`DatabaseKind::sockets`].
    pub fn socket_file(self, socket: &str) -> camino::Utf8PathBuf {
        match self {
            Self::PostgreSql => Utf8Path::new(socket).join(".s.PGSQL.5432"),
            Self::MySql | Self::Sqlite => socket.into(),
        }
    }

    /// The account of the administrator, which is the system's user of this name, too; for MySQL root.
    pub fn administrator(self) -> &'static str {
        if self == Self::PostgreSql { "postgres" } else { "root" }
    }

    /// Gives a row for a database or an account of that name.
    pub fn existing(self, name: &str) -> Statement<'_> {
        let text = match self {
            Self::PostgreSql => {
                "SELECT 'a database' FROM pg_database WHERE datname = $1::text \
                 UNION ALL SELECT 'an account' FROM pg_roles WHERE rolname = $1::text"
            }
            _ => {
                "SELECT 'a database' FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ? \
                 UNION ALL SELECT 'an account' FROM mysql.user WHERE User = ?"
            }
        };
        let count = if self == Self::PostgreSql { 1 } else { 2 };
        Statement { text: text.to_owned(), values: vec![Some(name.into()); count] }
    }

    /// The statements that make a database and its account, each with the one that takes it back.
    pub fn creating(self, new: &NewDatabase) -> Vec<(String, Option<String>)> {
        let NewDatabase { name, password } = new;
        if self == Self::PostgreSql {
            return vec![
                (format!("CREATE ROLE {name} LOGIN PASSWORD '{password}'"), Some(format!("DROP ROLE {name}"))),
                // An administrator who is no superuser has to be a member to give it something.
                (format!("GRANT {name} TO CURRENT_USER"), None),
                (
                    format!("CREATE DATABASE {name} OWNER {name} ENCODING 'UTF8' TEMPLATE template0"),
                    Some(format!("DROP DATABASE {name}")),
                ),
                (format!("REVOKE {name} FROM CURRENT_USER"), None),
                (format!("REVOKE ALL ON DATABASE {name} FROM PUBLIC"), None),
            ];
        }
        // In a grant, an underline stands for any letter.
        let pattern = name.replace('_', "\\_");
        let mut statements =
            vec![(format!("CREATE DATABASE `{name}` CHARACTER SET utf8mb4"), Some(format!("DROP DATABASE `{name}`")))];
        for host in ["localhost", "127.0.0.1"] {
            let account = format!("'{name}'@'{host}'");
            statements.push((
                format!("CREATE USER {account} IDENTIFIED BY '{password}'"),
                Some(format!("DROP USER {account}")),
            ));
            statements.push((format!("GRANT ALL ON `{pattern}`.* TO {account}"), None));
        }
        statements
    }

    /// The statements that take a database and its account away.
    pub fn dropping(self, name: &str) -> Vec<String> {
        if self == Self::PostgreSql {
            return vec![format!("DROP DATABASE IF EXISTS {name} WITH (FORCE)"), format!("DROP ROLE IF EXISTS {name}")];
        }
        let accounts = ["localhost", "127.0.0.1"].map(|host| format!("DROP USER IF EXISTS '{name}'@'{host}'"));
        [format!("DROP DATABASE IF EXISTS `{name}`")].into_iter().chain(accounts).collect()
    }
}
