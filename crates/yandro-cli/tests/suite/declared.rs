//! A site list that its user edits, on real servers: `settle`, `rename`, `move`, `disable`, `enable`.

use std::fmt::Write as _;
use std::fs;

use super::harbour::{Harbour, Server};
use super::kit::{Ran, Sysroot, steady};

const NAMES: [&str; 4] = ["saltmarsh.test", "depot.saltmarsh.test", "tides.test", "crew.test"];
const FOLDERS: [&str; 3] = ["pier", "depot", "tides"];

/// A site as its user writes it.
#[derive(Clone, Debug)]
struct Written {
    name: &'static str,
    alias: bool,
    folder: &'static str,
    https: &'static str,
    disabled: bool,
}

/// A machine with three folders, and the user's list.
struct Listed {
    harbour: Harbour,
    sites: Vec<Written>,
}

impl Listed {
    fn new(server: Server) -> Option<Self> {
        let harbour = Harbour::new(server, &["ada"])?;
        for folder in FOLDERS {
            fs::create_dir(harbour.machine.path(folder)).unwrap();
            fs::write(harbour.machine.path(folder).join("index.html"), format!("<h1>{folder}</h1>\n")).unwrap();
            let whole = harbour.machine.path(folder);
            harbour.machine.run("chown", &["-R", "ada:ada", whole.to_str().unwrap()]).succeeds();
        }
        Some(Self { harbour, sites: Vec::new() })
    }

    fn write(&self) {
        let mut text = String::from("# Ada's own\n");
        for Written { name, alias, folder, https, disabled } in &self.sites {
            let folder = self.harbour.machine.path(folder);
            let aliases = if *alias { format!("\"www.{name}\"") } else { String::new() };
            let server = self.harbour.server.word();
            _ = write!(
                text,
                "\n# {name}\n[[site]]\nname = \"{name}\"\naliases = [{aliases}]\nfolder = \"{}\"\nhttps = \"{https}\"\nserver = \"{server}\"\ndisabled = {disabled}\n",
                folder.display(),
            );
        }
        let list = format!("{}/.config/yandro", self.harbour.home(self.harbour.user));
        self.harbour.machine.run("install", &["-d", "-o", "ada", "-g", "ada", &list]).succeeds();
        fs::write(format!("{list}/sites.toml"), text).unwrap();
        self.harbour.machine.run("chown", &["-R", "ada:ada", &list]).succeeds();
    }

    /// Every name answers from its folder, and no name of a site that is gone is left.
    fn is_so(&self, when: &str) {
        let hosts = self.harbour.machine.hosts();
        for site in self.sites.iter().filter(|site| !site.disabled) {
            for name in [site.name.to_owned(), format!("www.{}", site.name)] {
                let is_there = site.alias || name == site.name;
                let words: Vec<&str> = hosts.split_whitespace().collect();
                assert_eq!(words.contains(&name.as_str()), is_there, "{name}, {when}: {hosts}");
                if is_there {
                    let scheme = if site.https == "off" { "http" } else { "https" };
                    let url = format!("{scheme}://{name}/");
                    let page = self.harbour.machine.run("curl", &["-ks", "--max-time", "20", &url]).stdout;
                    assert_eq!(page, format!("<h1>{}</h1>\n", site.folder), "{url}, {when}");
                }
            }
        }
        for name in NAMES {
            let is_listed = self.sites.iter().any(|site| site.name == name && !site.disabled);
            assert_eq!(hosts.split_whitespace().any(|word| word == name), is_listed, "{name}, {when}: {hosts}");
        }
    }
}

/// Two states are the same, the user's own folders aside; only what differs is shown.
#[track_caller]
fn same(now: &str, then: &str) {
    let without = |text: &str, other: &str| -> Vec<String> {
        let other: Vec<&str> = other.lines().collect();
        text.lines()
            .filter(|line| !other.contains(line) && !line.starts_with('.'))
            .map(|line| line.chars().take(400).collect())
            .collect()
    };
    assert_eq!((without(now, then), without(then, now)), (Vec::new(), Vec::new()));
}

/// Twenty-five random edits of the list on each server, each of which `settle` brings about, for an ordinary user who
/// may use sudo.
#[test]
fn random_edits_of_a_list_are_brought_about_on_real_servers() {
    for server in [Server::Apache, Server::Nginx] {
        let Some(mut listed) = Listed::new(server) else { return };
        let mut seed = 20u32;
        let mut random = |below: usize| {
            seed = seed.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            (seed >> 16) as usize % below
        };
        for number in 0..25 {
            let free: Vec<&str> =
                NAMES.into_iter().filter(|name| listed.sites.iter().all(|site| site.name != *name)).collect();
            let (count, of_free) = (listed.sites.len(), random(free.len().max(1)));
            let at = random(count.max(1));
            let what = if count == 0 { 0 } else { random(8) };
            match what {
                0 | 1 if !free.is_empty() => {
                    let (name, folder) = (free[of_free], FOLDERS[random(3)]);
                    listed.sites.push(Written { name, alias: false, folder, https: "only", disabled: false });
                }
                2 => listed.sites[at].folder = FOLDERS[random(3)],
                3 => listed.sites[at].alias = !listed.sites[at].alias,
                4 => listed.sites[at].https = ["only", "both", "off"][random(3)],
                5 if !free.is_empty() => listed.sites[at].name = free[of_free],
                6 => listed.sites[at].disabled = !listed.sites[at].disabled,
                _ => _ = listed.sites.remove(at),
            }
            listed.write();
            let when = format!("{}, edit {number} ({what}): {:?}", server.word(), listed.sites);
            let ran = listed.harbour.yandro(&["settle", "--yes"]);
            assert_eq!(ran.status, 0, "{when}: {ran}");
            listed.is_so(&when);
            let again = listed.harbour.yandro(&["settle"]).succeeds().stdout;
            assert!(again.contains("nothing was changed"), "{when}: {again}");
            listed.harbour.is_alive(&when);
        }
        listed.sites.clear();
        listed.write();
        listed.harbour.yandro(&["settle", "--yes"]).succeeds();
        assert!(!listed.harbour.machine.hosts().contains(".test"), "{}", listed.harbour.machine.hosts());
    }
}

/// A site gets another name, is moved, is out of use for a while, and all of that can be taken back.
#[test]
fn a_site_is_renamed_moved_and_out_of_use_for_a_while() {
    for server in [Server::Apache, Server::Nginx] {
        let Some(listed) = Listed::new(server) else { return };
        let harbour = &listed.harbour;
        let get = |url: &str| {
            harbour.machine.run("curl", &["-ks", "--max-time", "20", "-w", " %{http_code} %{redirect_url}", url]).stdout
        };
        let before = harbour.state();
        harbour.yandro(&["map", "saltmarsh.test", harbour.machine.path("pier").to_str().unwrap()]).succeeds();
        let mapped = harbour.state();
        let folder =
            if server == Server::Apache { "/etc/apache2/sites-available" } else { "/etc/nginx/sites-available" };
        let mark = if server == Server::Apache {
            "s/^\\tServerName .*/&\\n\\tSetEnv TIDE high/"
        } else {
            "s/^\\tserver_name .*/&\\n\\tset $tide high;/"
        };
        harbour.machine.run("sed", &["-i", mark, &format!("{folder}/yandro-saltmarsh.test.conf")]).succeeds();
        let edited = harbour.state();

        harbour.yandro(&["rename", "saltmarsh.test", "tides.test", "--keep-old"]).succeeds();
        assert_eq!(get("https://tides.test/"), "<h1>pier</h1>\n 200 ");
        assert!(
            get("https://saltmarsh.test/x?y=1").ends_with(" 307 https://tides.test/x?y=1"),
            "{}",
            get("https://saltmarsh.test/x?y=1")
        );
        let file = harbour.machine.run("cat", &[&format!("{folder}/yandro-tides.test.conf")]).succeeds().stdout;
        assert!(file.matches("high").count() == 2 && !file.contains("/saltmarsh.test"), "{file}");
        harbour.yandro(&["check"]).succeeds();

        harbour.yandro(&["move", "tides.test", harbour.machine.path("depot").to_str().unwrap()]).succeeds();
        assert_eq!(get("https://tides.test/"), "<h1>depot</h1>\n 200 ");

        let in_use = harbour.state();
        harbour.yandro(&["disable", "tides.test"]).succeeds();
        assert!(!harbour.machine.hosts().contains("tides.test"), "{}", harbour.machine.hosts());
        let ports = harbour.machine.run("ss", &["-Hltn", "sport = :443"]).stdout;
        assert!(ports.is_empty(), "no site needs 443 any more: {ports}");
        harbour.yandro(&["settle"]).succeeds();
        assert!(harbour.yandro(&["sites"]).succeeds().stdout.contains("disabled"));
        harbour.yandro(&["enable", "tides.test"]).succeeds();
        assert_eq!(get("https://tides.test/"), "<h1>depot</h1>\n 200 ");
        same(&harbour.state(), &in_use);
        harbour.is_alive("after everything");

        for _ in 0..4 {
            harbour.yandro(&["undo"]).succeeds();
        }
        same(&harbour.state(), &edited);
        harbour.yandro(&["settle", "--put-back", "saltmarsh.test"]).succeeds();
        harbour.machine.run("sed", &["-i", "/high/d", &format!("{folder}/yandro-saltmarsh.test.conf")]).succeeds();
        same(&harbour.state(), &mapped);
        harbour.yandro(&["undo"]).succeeds();
        same(&harbour.state(), &before);
    }
}

#[test]
fn a_list_of_another_machine_and_its_slips() {
    let sysroot = Sysroot::with_apache();
    let list = "home/ada/.config/yandro/sites.toml";
    let home = sysroot.path("home/ada/ferries");
    fs::create_dir_all(&home).unwrap();
    let mut text = String::new();
    for number in 0..100 {
        _ = write!(text, "[[site]]\nname = \"pier{number}.test\"\nfolder = \"~/ferries\"\n\n");
    }
    sysroot.write(list, &text);
    let ran = sysroot.yandro(&["settle"]).succeeds();
    assert!(ran.stdout.starts_with("100 sites: the machine is now as the site list says\n"), "{ran}");
    assert!(sysroot.yandro(&["settle"]).stdout.contains("nothing was changed"));
    let file = sysroot.read("etc/apache2/sites-available/yandro-pier7.test.conf");
    assert!(file.contains("DocumentRoot \"/home/ada/ferries\"\n"), "{file}");
    // Paths written with `~` keep it.
    sysroot.yandro(&["map", "pier7.test", "--listing", "off"]).succeeds();
    assert_eq!(sysroot.read(list).matches("folder = \"~/ferries\"").count(), 100);
    let slip = |from: &str, to: &str| -> Ran {
        sysroot.write(list, &text.replacen(from, to, 1));
        sysroot.yandro(&["settle", "--preview"])
    };
    insta::assert_snapshot!(steady(&slip("folder", "foldr")), @r#"
    error: $ROOT/home/ada/.config/yandro/sites.toml:3: unknown field `foldr`: did you mean `folder`?
      3 | foldr = "~/ferries"
        | ^^^^^
    fix: correct that line of the site list and try again
    [status 2]
    "#);
    insta::assert_snapshot!(steady(&slip("\"~/ferries\"", "7")), @r#"
    error: $ROOT/home/ada/.config/yandro/sites.toml:3: `folder` is a string, and this is of type integer
      3 | folder = 7
        |  ^
    fix: correct that line of the site list and try again
    [status 2]
    "#);
    insta::assert_snapshot!(steady(&slip("\"~/ferries\"", "\"ferries\"")), @r#"
    error: $ROOT/home/ada/.config/yandro/sites.toml:3: `ferries` is not an absolute path: begin it with `/` or `~/`
      3 | folder = "ferries"
        |  ^^^^^^^^^
    fix: correct that line of the site list and try again
    [status 2]
    "#);
    insta::assert_snapshot!(steady(&slip("folder", "disabled = \"yes\"\nfolder")), @r#"
    error: $ROOT/home/ada/.config/yandro/sites.toml:3: `disabled` is `true` or `false`, and this is of type string
      3 | disabled = "yes"
        |  ^^^^^
    fix: correct that line of the site list and try again
    [status 2]
    "#);
}

/// Without a terminal, and with the few variables that cron gives: `settle` works as the user, and so does the line that
/// renews certificates.
#[test]
fn cron_settles_and_renews_as_the_user() {
    let Some(listed) = Listed::new(Server::Nginx) else { return };
    let harbour = &listed.harbour;
    if !super::kit::has(&["crontab"], true) {
        return;
    }
    let home = harbour.home(harbour.user);
    harbour
        .machine
        .run("sh", &["-c", "mount -t tmpfs tmpfs /var/spool/cron; mkdir /var/spool/cron/crontabs; chgrp crontab /var/spool/cron/crontabs; chmod 1730 /var/spool/cron/crontabs"])
        .succeeds();
    harbour.yandro(&["map", "saltmarsh.test", harbour.machine.path("pier").to_str().unwrap()]).succeeds();
    let list = format!("{home}/.config/yandro/sites.toml");
    harbour.machine.run("sed", &["-i", "s/^only-here.*/aliases = [\"www.saltmarsh.test\"]/", &list]).succeeds();
    let by_cron = |line: &str| {
        let as_ada = ["--reuid", "ada", "--regid", "ada", "--init-groups", "setsid", "-w", "env", "-i"];
        let variables = [&format!("HOME={home}"), "LOGNAME=ada", "SHELL=/bin/sh", "PATH=/usr/bin:/bin"];
        harbour.machine.run("setpriv", &[&as_ada[..], &variables, &["sh", "-c", line]].concat())
    };
    by_cron(&format!("{} settle --yes --quiet </dev/null", super::kit::YANDRO)).succeeds();
    assert!(harbour.machine.hosts().contains("www.saltmarsh.test"), "{}", harbour.machine.hosts());
    let ran = harbour.yandro(&["cert", "renew", "--install-timer", "--timer", "cron"]).succeeds();
    assert!(ran.stdout.contains("a line of your crontab"), "{ran}");
    let as_ada = |words: &[&str]| {
        harbour.machine.run("setpriv", &[&["--reuid", "ada", "--regid", "ada", "--init-groups"], words].concat())
    };
    let table = as_ada(&["crontab", "-l"]).succeeds().stdout;
    let line = table.lines().find_map(|line| line.strip_prefix("17 9 * * * ")).unwrap_or_default().to_owned();
    by_cron(&line).succeeds();
    // The person's own lines stay.
    as_ada(&["sh", "-c", "(echo '5 5 * * * true'; crontab -l) | crontab -"]).succeeds();
    harbour.yandro(&["cert", "renew", "--remove-timer"]).succeeds();
    assert_eq!(as_ada(&["crontab", "-l"]).succeeds().stdout, "5 5 * * * true\n");
}

/// A repository says what its sites need; whoever clones it types `yandro map`.
#[test]
fn a_cloned_project_is_mapped_by_its_own_file() {
    let sysroot = Sysroot::with_apache();
    let project = sysroot.path("home/ada/clone");
    fs::create_dir_all(project.join("public")).unwrap();
    fs::create_dir_all(project.join("docs")).unwrap();
    fs::write(project.join("public/index.html"), "<h1>clone</h1>\n").unwrap();
    let here = |arguments: &[&str]| -> Ran {
        let mut command = sysroot.command(arguments);
        Ran::of(command.current_dir(&project).output().unwrap(), sysroot.root())
    };
    insta::assert_snapshot!(steady(&here(&["map"])), @r#"
    error: which site? No name is given, and this folder has no `yandro.toml`
    fix: name it: yandro map NAME FOLDER, such as: yandro map saltmarsh.test .
    fix: or see what there is: yandro sites
    [status 2]
    "#);
    let write = |text: &str| fs::write(project.join("yandro.toml"), text).unwrap();
    write("[[site]]\nname = \"clone.test\"\nfolder = \"../saltmarsh\"\n");
    insta::assert_snapshot!(steady(&here(&["map"])), @r#"
    error: $ROOT/home/ada/clone/yandro.toml:3: `folder` is a path below the project, such as "public"
      3 | folder = "../saltmarsh"
        |  ^^^^^^^^^^^^^^
    fix: correct that line of the project file and try again
    [status 2]
    "#);
    let text = "[[site]]\nname = \"clone.test\"\naliases = [\"www.clone.test\"]\ndocument-root = \"public\"\nlisting = \"off\"\n\n[[site]]\nname = \"docs.clone.test\"\nfolder = \"docs\"\n";
    write(text);
    insta::assert_snapshot!(steady(&here(&["map"])), @r#"
    error: $ROOT/home/ada/clone/yandro.toml asks for:
      clone.test -> $ROOT/home/ada/clone/public
          aliases = ["www.clone.test"]
          listing = "off"
      docs.clone.test -> $ROOT/home/ada/clone/docs
    fix: if you trust this project, add `--accept`; to see every line that would be written: --preview
    [status 2]
    "#);
    assert!(!sysroot.path("home/ada/.config/yandro/sites.toml").exists());
    insta::assert_snapshot!(steady(&here(&["map", "--accept"])), @r#"
    clone.test -> $ROOT/home/ada/clone/public
    docs.clone.test -> $ROOT/home/ada/clone/docs
      authority  made, until $DATE
      certificate  made for clone.test, www.clone.test, until $DATE
      virtual host  made /etc/apache2/sites-available/yandro-clone.test.conf
      enabled  linked /etc/apache2/sites-enabled/yandro-clone.test.conf
      unknown names  made /etc/apache2/sites-available/yandro-0.invalid.conf
      hosts file  changed /etc/hosts
      site list  made /home/ada/.config/yandro/sites.toml
      certificate  made for docs.clone.test, until $DATE
      virtual host  made /etc/apache2/sites-available/yandro-docs.clone.test.conf
      enabled  linked /etc/apache2/sites-enabled/yandro-docs.clone.test.conf
      modules  enabled socache_shmcb, ssl, rewrite
      server  Apache httpd: not tested and not reloaded, since this is a sysroot
      proof  not proven: within a sysroot no server is asked

    Make this system and your browsers trust the new authority: yandro authority trust
    (`yandro authority show` prints which names it can issue for).
    [status 0]
    "#);
    // yandro asks once for the same text, and keeps the user's own choice.
    sysroot.yandro(&["map", "clone.test", "--listing", "on", "--no-alias"]).succeeds();
    here(&["map"]).succeeds();
    let list = sysroot.read("home/ada/.config/yandro/sites.toml");
    assert!(!list.contains("listing") && !list.contains("www.clone.test"), "{list}");
    // The project changes: asked once more, and only what changed there changes here.
    write(&text.replace("document-root = \"public\"\n", "https = \"both\"\n"));
    assert_eq!(here(&["map"]).status, 2);
    here(&["map", "--accept"]).succeeds();
    let list = sysroot.read("home/ada/.config/yandro/sites.toml");
    assert!(
        list.contains("https = \"both\"") && !list.contains("document-root") && !list.contains("listing"),
        "{list}"
    );
    assert!(sysroot.yandro(&["settle"]).stdout.contains("nothing was changed"));
    // A link that leads out, and options of one site.
    std::os::unix::fs::symlink("/etc", project.join("out")).unwrap();
    write("[[site]]\nname = \"clone.test\"\ndocument-root = \"out\"\n");
    insta::assert_snapshot!(steady(&here(&["map", "--accept"])), @r#"
    error: $ROOT/home/ada/clone/out is a link that leads out of the project $ROOT/home/ada/clone
    fix: if you want that, map it yourself: yandro map NAME FOLDER
    [status 2]
    "#);
    write(text);
    insta::assert_snapshot!(steady(&here(&["map", "--alias", "a.test"])), @r#"
    error: those options belong to one site, and this folder's `yandro.toml` says what its sites need
    fix: map the project first: yandro map; then change the site: yandro map clone.test …
    [status 2]
    "#);
}

/// A folder that was moved, or moved to another disk, is found again, and the printed fix is right.
#[test]
fn a_moved_folder_is_found_again() {
    let Some(listed) = Listed::new(Server::Apache) else { return };
    let harbour = &listed.harbour;
    let (pier, new) = (harbour.machine.path("pier"), harbour.machine.path("ada/projects/north-pier"));
    for name in ["a.txt", "b.txt", "c.txt"] {
        fs::write(pier.join(name), name).unwrap();
    }
    harbour.yandro(&["map", "pier.test", pier.to_str().unwrap()]).succeeds();
    harbour
        .machine
        .run("install", &["-d", "-o", "ada", "-g", "ada", "-m", "755", new.parent().unwrap().to_str().unwrap()])
        .succeeds();
    for copy in [false, true] {
        // A copy has other numbers, and the same names.
        let line = if copy { "cp -a \"$1\" \"$2\" && rm -r \"$1\"" } else { "mv \"$1\" \"$2\"" };
        let from = if copy { &new } else { &pier };
        let to = if copy { harbour.machine.path("ada/projects/south-pier") } else { new.clone() };
        harbour.machine.run("sh", &["-c", line, "sh", from.to_str().unwrap(), to.to_str().unwrap()]).succeeds();
        let ran = harbour.yandro(&["check", "pier.test"]);
        let fix = format!("yandro move pier.test {}", to.display())
            .replace(harbour.machine.root().to_str().unwrap(), "$ROOT");
        assert!(ran.status == 1 && ran.stdout.contains(&fix), "{fix}\n{ran}");
        harbour.yandro(&["move", "pier.test", to.to_str().unwrap()]).succeeds();
        harbour.yandro(&["check", "pier.test"]).succeeds();
    }
}

/// Findings about a site whose server the list leaves open name the server that it was put on.
#[test]
fn a_site_of_the_list_without_a_server_is_checked_on_the_one_that_it_is_on() {
    let Some(harbour) = Harbour::new(Server::Nginx, &["ada"]) else { return };
    let machine = &harbour.machine;
    let folder = machine.path("saltmarsh").display().to_string();
    harbour.yandro(&["map", "saltmarsh.test", &folder, "--server", "nginx"]).succeeds();
    let list = format!("{}/.config/yandro/sites.toml", harbour.home(Some("ada")));
    let text = fs::read_to_string(&list).unwrap();
    fs::write(&list, format!("{text}\n[[site]]\nname = \"tides.test\"\nfolder = \"{folder}\"\n")).unwrap();
    harbour.yandro(&["settle"]).succeeds();
    let ran = harbour.yandro(&["check", "tides.test"]).succeeds();
    assert!(ran.stdout.contains("yandro-tides.test.conf:2"), "{ran}");
    harbour.yandro(&["servers", "stop", "nginx"]).succeeds();
    let ran = harbour.yandro(&["check", "tides.test"]);
    assert!(ran.stdout.contains("nginx doesn't run\n    fix: yandro servers start nginx"), "{ran}");
}
