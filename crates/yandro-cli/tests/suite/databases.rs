//! Databases of applications: real servers, whose own clients judge.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use super::kit::{Background, Ran, Sysroot, eventually, has};

/// Servers of databases with folders and sockets of their own, as the users that their packages made.
pub struct Servers {
    folder: tempfile::TempDir,
    mariadb: Option<Background>,
    _postgres: Background,
}

impl Servers {
    /// Starts them; `None` where they are not installed.
    pub fn start() -> Option<Self> {
        if !has(&["mariadbd", "mariadb", "psql", "sqlite3", "php"], true) {
            return None;
        }
        let folder = tempfile::tempdir().unwrap();
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
        for user in ["mysql", "postgres"] {
            let own = folder.path().join(user);
            fs::create_dir(&own).unwrap();
            fs::set_permissions(&own, fs::Permissions::from_mode(0o755)).unwrap();
            let (uid, gid) = ids(user);
            std::os::unix::fs::chown(&own, Some(uid), Some(gid)).unwrap();
        }
        let own = |name: &str| folder.path().join(name);
        let quiet = |command: &mut Command| Ran::of(command.output().unwrap(), folder.path()).succeeds();
        let data = format!("--datadir={}", own("mysql/data").display());
        // A server that starts removes what others have in the folder for temporary files.
        quiet(
            as_user("mysql", "mariadb-install-db")
                .env("TMPDIR", own("mysql"))
                .args([&data, "--auth-root-authentication-method=normal"]),
        );
        let mariadb = start_mariadb(folder.path());
        let programs = fs::read_dir("/usr/lib/postgresql").unwrap().next().unwrap().unwrap().path().join("bin");
        let data = own("postgres/data");
        quiet(as_user("postgres", programs.join("initdb")).arg("-D").arg(&data).args(["-A", "trust", "--no-sync"]));
        let mut command = as_user("postgres", programs.join("postgres"));
        command.arg("-D").arg(&data).arg("-k").arg(own("postgres")).args(["-c", "listen_addresses=", "-F"]);
        // In its own folder: a killed one leaves files behind.
        command.args(["-c", "dynamic_shared_memory_type=mmap"]);
        let postgres = Background::start(command.stdout(Stdio::null()).stderr(Stdio::null()));
        let servers = Self { folder, mariadb: Some(mariadb), _postgres: postgres };
        servers.until_mariadb_answers();
        eventually("PostgreSQL answers", || {
            servers.psql("postgres").arg("-c").arg("SELECT 1").output().unwrap().status.success()
        });
        Some(servers)
    }

    fn until_mariadb_answers(&self) {
        eventually("MariaDB answers", || self.mariadb("").arg("-e").arg("SELECT 1").output().unwrap().status.success());
    }

    pub fn socket(&self) -> PathBuf {
        self.folder.path().join("mysql/db.sock")
    }

    pub fn postgres_folder(&self) -> PathBuf {
        self.folder.path().join("postgres")
    }

    pub fn mariadb(&self, database: &str) -> Command {
        let mut command = Command::new("mariadb");
        command
            .args(["-uroot", "-N", "--default-character-set=utf8mb4", "-S"])
            .arg(self.socket())
            .args((!database.is_empty()).then_some(database));
        command
    }

    pub fn psql(&self, database: &str) -> Command {
        let mut command = Command::new("psql");
        command.args(["-U", "postgres", "-XAtq", "-v", "ON_ERROR_STOP=1", "-d", database, "-h"]);
        command.arg(self.postgres_folder());
        command
    }

    /// What a client prints for a text of SQL.
    pub fn ask(mut client: Command, sql: &str) -> String {
        use std::io::Write as _;
        let mut child = client.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(sql.as_bytes()).unwrap();
        let output = child.wait_with_output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    }
}

/// A program with the rights of a user of the system.
fn as_user(user: &str, program: impl AsRef<std::ffi::OsStr>) -> Command {
    let (uid, gid) = ids(user);
    let mut command = Command::new(program);
    command.uid(uid).gid(gid).current_dir("/");
    command
}

fn ids(user: &str) -> (u32, u32) {
    let accounts = fs::read_to_string("/etc/passwd").unwrap();
    let line = accounts.lines().find(|line| line.starts_with(&format!("{user}:"))).unwrap();
    let fields: Vec<&str> = line.split(':').collect();
    (fields[2].parse().unwrap(), fields[3].parse().unwrap())
}

fn start_mariadb(folder: &Path) -> Background {
    let mut command = as_user("mysql", "mariadbd");
    command.env("TMPDIR", folder.join("mysql")).arg("--no-defaults").arg("--skip-networking");
    for (option, file) in [("datadir", "data"), ("socket", "db.sock"), ("pid-file", "pid")] {
        command.arg(format!("--{option}={}", folder.join("mysql").join(file).display()));
    }
    Background::start(command.stdout(Stdio::null()).stderr(Stdio::null()))
}

const MARIADB: &str = r#"
CREATE DATABASE saltmarsh; USE saltmarsh;
CREATE USER ferry@localhost IDENTIFIED BY 'p#ss'; GRANT ALL ON saltmarsh.* TO ferry@localhost;
CREATE TABLE options (id INT UNSIGNED AUTO_INCREMENT PRIMARY KEY, name VARCHAR(40), value LONGTEXT,
  changed TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP ON UPDATE CURRENT_TIMESTAMP,
  host VARCHAR(60) AS (SUBSTRING(value, 8, 20)) STORED);
INSERT INTO options (name, value, changed) VALUES
  ('home', 'http://old.test/', '2020-01-01'), ('other', 'http://oldold.test/', '2020-01-01'),
  ('menu', 'a:1:{s:6:"fähre";s:39:"s:31:"http://old.test/é und s:3:"x" ";";}', '2020-01-01'),
  ('broken', 's:3:"http://old.test/";', '2020-01-01'), ('empty', NULL, '2020-01-01');
CREATE TABLE pages (slug VARCHAR(200) CHARACTER SET latin1 PRIMARY KEY, body MEDIUMBLOB, fare DECIMAL(8, 2));
INSERT INTO pages VALUES ('http://old.test/fähre', 'x http://OLD.test/ y', 1.5), ('tides', x'00687474703a2f2f6f6c642e74657374ff', 2);
CREATE TABLE seen (url VARCHAR(100), share DOUBLE) ENGINE = MyISAM;
INSERT INTO seen VALUES ('http:\\/\\/old.test\\/a', 0.1), ('http:\\/\\/old.test\\/a', NULL);
"#;
const POSTGRES: &str = r#"
CREATE TABLE trips (id bigint PRIMARY KEY, data jsonb, tags text[], code char(30), at timestamptz);
INSERT INTO trips VALUES (9007199254740993, '{"url": "http://old.test/a", "n": 1}', '{http://old.test/x,"b,c"}', 'http://old.test', now());
CREATE SCHEMA harbour; CREATE DOMAIN harbour.link AS varchar(80);
CREATE TABLE harbour."Odd ""name" (k uuid PRIMARY KEY, v json, "Link" harbour.link);
INSERT INTO harbour."Odd ""name" VALUES ('6ecd8c99-4036-403d-bf84-cf8400f67836', '{"u" : "http:\/\/old.test\/p"}', 'http://old.test');
CREATE TABLE seen (url text, day date); INSERT INTO seen VALUES ('http://old.test', NULL);
"#;
const SQLITE: &str = "
CREATE TABLE settings (name TEXT PRIMARY KEY, value) WITHOUT ROWID;
INSERT INTO settings VALUES ('http://old.test/k', 'it''s http://old.test'), ('n', 7);
CREATE TABLE notes (rowid TEXT, note TEXT COLLATE NOCASE); INSERT INTO notes VALUES ('x', 'http://old.test');
";

/// An application with three databases, cloned from another address.
struct Clone {
    sysroot: Sysroot,
    servers: Servers,
}

impl Clone {
    fn new() -> Option<Self> {
        let servers = Servers::start()?;
        let sysroot = Sysroot::new();
        sysroot.write("etc/hosts", "127.0.0.1 localhost\n");
        Servers::ask(servers.mariadb(""), MARIADB);
        Servers::ask(servers.psql("postgres"), "CREATE DATABASE ferries");
        Servers::ask(servers.psql("ferries"), POSTGRES);
        let (socket, folder) = (servers.socket(), servers.postgres_folder());
        let (socket, folder) = (socket.display(), folder.display());
        sysroot.write("home/ada/shop/.env", &format!("DB_SOCKET={socket}\nDB_DATABASE=saltmarsh\nDB_USERNAME=ferry\nDB_PASSWORD=p#ss\nAPP_URL=http://old.test\n"));
        sysroot.write("home/ada/shop/.env.example", "DB_HOST=x\nDB_DATABASE=x\nDB_USERNAME=x\n");
        sysroot.write(
            "home/ada/shop/config/db.php",
            &format!(
                "<?php return ['db' => ['dsn' => 'pgsql:host={folder};dbname=ferries', 'username' => 'postgres']];\n"
            ),
        );
        sysroot.write("home/ada/shop/config/notes.ini", "[database]\npath = var/notes.sqlite\n");
        sysroot.write(
            "home/ada/shop/config/remote.json",
            r#"{"db": {"host": "db.ferries.example", "user": "x", "name": "saltmarsh"}}"#,
        );
        sysroot.write("home/ada/shop/var/.keep", "");
        let clone = Self { sysroot, servers };
        Servers::ask(clone.sqlite(), SQLITE);
        let shop = clone.sysroot.path("home/ada/shop");
        clone.sysroot.yandro(&["map", "saltmarsh.test", shop.to_str().unwrap(), "--server", "built-in"]).succeeds();
        Some(clone)
    }

    fn sqlite(&self) -> Command {
        let mut command = Command::new("sqlite3");
        command.arg(self.sysroot.path("home/ada/shop/var/notes.sqlite"));
        command
    }

    /// Everything in the three databases and in the file.
    fn dump(&self) -> String {
        let mut dump = Command::new("mariadb-dump");
        dump.arg("-uroot").arg("-S").arg(self.servers.socket()).args(["--skip-dump-date", "--hex-blob", "saltmarsh"]);
        let maria = Servers::ask(dump, "");
        let tables = "SELECT * FROM trips; SELECT * FROM harbour.\"Odd \"\"name\"; SELECT * FROM seen;";
        let postgres = Servers::ask(self.servers.psql("ferries"), tables);
        let sqlite = Servers::ask(self.sqlite(), ".dump\n");
        [maria, postgres, sqlite, self.sysroot.read("home/ada/shop/.env")].concat()
    }
}

const READDRESS: [&str; 4] = ["readdress", "saltmarsh.test", "--from", "http://old.test"];

#[test]
fn rows_of_three_databases_get_the_new_address_and_undo_restores_them() {
    let Some(clone) = Clone::new() else { return };
    let before = clone.dump();
    let shown = clone.sysroot.yandro(&READDRESS);
    assert!(
        shown.status == 2 && shown.stderr.contains("16 old addresses would become https://saltmarsh.test"),
        "{shown}"
    );
    assert!(shown.stderr.contains("-http://old.test/fähre\n+https://saltmarsh.test/fähre"), "{shown}");
    clone.sysroot.yandro(&[&READDRESS[..], &["--preview"]].concat()).succeeds();
    assert_eq!(clone.dump(), before);
    let rows = clone.sysroot.path("home/ada/.local/share/yandro/rows");
    assert_eq!(fs::read_dir(&rows).unwrap().count(), 0, "copies of rows are left");
    let ran = clone.sysroot.yandro(&[&READDRESS[..], &["--yes"]].concat());
    assert!(ran.status == 1 && ran.stderr.contains("options.value, row 4: left as it is"), "{ran}");
    assert!(ran.stderr.contains("db.ferries.example/saltmarsh") && ran.stderr.contains("on another computer"), "{ran}");
    let maria = |sql: &str| Servers::ask(clone.servers.mariadb("saltmarsh"), sql);
    assert_eq!(
        maria("SELECT value, changed, host FROM options WHERE id IN (1, 2, 4)"),
        "https://saltmarsh.test/\t2020-01-01 00:00:00\t/saltmarsh.test/\nhttp://oldold.test/\t2020-01-01 00:00:00\toldold.test/\ns:3:\"http://old.test/\";\t2020-01-01 00:00:00\ttp://old.test/\";\n"
    );
    let menu = maria("SELECT value FROM options WHERE name = 'menu'");
    let script = "var_dump(unserialize(unserialize(trim(stream_get_contents(STDIN)))['fähre']));";
    let mut php = Command::new("php");
    php.args(["-r", script]);
    assert_eq!(Servers::ask(php, &menu), "string(38) \"https://saltmarsh.test/é und s:3:\"x\" \"\n");
    assert_eq!(
        maria(
            "SELECT CONVERT(slug USING utf8mb4), body, fare FROM pages WHERE fare < 2; SELECT HEX(body) FROM pages WHERE fare = 2"
        ),
        "https://saltmarsh.test/fähre\tx https://saltmarsh.test/ y\t1.50\n00687474703A2F2F6F6C642E74657374FF\n"
    );
    assert_eq!(maria("SELECT DISTINCT url FROM seen").trim(), r"https:\\/\\/saltmarsh.test\\/a");
    let postgres = |sql: &str| Servers::ask(clone.servers.psql("ferries"), sql);
    assert_eq!(
        postgres(
            "SELECT data ->> 'url', tags[1], tags[2], trim(code) FROM trips; SELECT v, \"Link\" FROM harbour.\"Odd \"\"name\"; SELECT url FROM seen"
        ),
        "https://saltmarsh.test/a|https://saltmarsh.test/x|b,c|https://saltmarsh.test\n{\"u\" : \"https:\\/\\/saltmarsh.test\\/p\"}|https://saltmarsh.test\nhttps://saltmarsh.test\n"
    );
    assert_eq!(
        Servers::ask(clone.sqlite(), "SELECT * FROM settings; SELECT * FROM notes;"),
        "https://saltmarsh.test/k|it's https://saltmarsh.test\nn|7\nx|https://saltmarsh.test\n"
    );
    // What somebody writes later stays, and the rest goes back.
    clone.sysroot.yandro(&["undo"]).succeeds();
    assert_eq!(clone.dump(), before);
    clone.sysroot.yandro(&["undo", "3"]).succeeds();
    maria("UPDATE options SET value = 'https://saltmarsh.test/pier', changed = changed WHERE id = 1");
    let ran = clone.sysroot.yandro(&["undo", "4"]).succeeds();
    assert!(ran.stderr.contains("1 row of the database stayed as it is"), "{ran}");
    maria("UPDATE options SET value = 'http://old.test/', changed = changed WHERE id = 1");
    assert_eq!(clone.dump(), before);
}

#[test]
fn rows_and_files_change_together_or_not_at_all() {
    let Some(mut clone) = Clone::new() else { return };
    // Whole before the databases that come after it.
    Servers::ask(
        clone.servers.psql("ferries"),
        "CREATE TABLE short (id int PRIMARY KEY, url varchar(16)); INSERT INTO short VALUES (1, 'http://old.test');",
    );
    let before = clone.dump();
    let all = [&READDRESS[..], &["--yes"]].concat();
    let ran = clone.sysroot.yandro(&all);
    assert!(ran.status == 3 && ran.stderr.contains("value too long for type character varying(16)"), "{ran}");
    assert_eq!(clone.dump(), before);
    Servers::ask(clone.servers.psql("ferries"), "DROP TABLE short");

    // Killed while it waits for a row that somebody else holds.
    let mut holder = clone.servers.psql("ferries").stdin(Stdio::piped()).stdout(Stdio::null()).spawn().unwrap();
    {
        use std::io::Write as _;
        let lock = "BEGIN; SELECT * FROM trips FOR UPDATE;\n";
        holder.stdin.as_mut().unwrap().write_all(lock.as_bytes()).unwrap();
    }
    let waits = "SELECT count(*) FROM pg_stat_activity WHERE state = 'idle in transaction'";
    eventually("the row is held", || Servers::ask(clone.servers.psql("ferries"), waits).trim() == "1");
    let mut killed = Background::start(clone.sysroot.command(&all).stdout(Stdio::null()).stderr(Stdio::null()));
    let waiting = "SELECT count(*) FROM pg_stat_activity WHERE wait_event_type = 'Lock'";
    eventually("yandro waits for the row", || Servers::ask(clone.servers.psql("ferries"), waiting).trim() == "1");
    killed.0.kill().unwrap();
    killed.0.wait().unwrap();
    drop(holder.stdin.take());
    holder.wait().unwrap();
    assert_ne!(clone.dump(), before, "one database was changed already");
    let ran = clone.sysroot.yandro(&["settle"]);
    assert!(ran.stderr.contains("rolled back"), "{ran}");
    assert_eq!(clone.dump(), before);

    // Without a server nothing is begun; a build of files alone is the user's choice.
    clone.servers.mariadb = None;
    fs::remove_file(clone.sysroot.path("home/ada/shop/config/db.php")).unwrap();
    fs::remove_file(clone.sysroot.path("home/ada/shop/config/notes.ini")).unwrap();
    let ran = clone.sysroot.yandro(&all);
    assert!(ran.status == 2 && ran.stderr.contains("can't be opened") && ran.stderr.contains("--no-database"), "{ran}");
    assert!(!ran.to_string().contains("p#ss"), "{ran}");
    assert!(clone.sysroot.read("home/ada/shop/.env").contains("APP_URL=http://old.test"));
    clone.sysroot.yandro(&[&all[..], &["--no-database"]].concat()).succeeds();
    for (url, said) in
        [("redis://localhost", "write it as mysql://"), ("sqlite:/etc/hostname", "not a database of SQLite")]
    {
        let ran = clone.sysroot.yandro(&[&READDRESS[..], &["--database", url]].concat());
        assert!(ran.status == 2 && ran.stderr.contains(said), "{ran}");
    }
}
