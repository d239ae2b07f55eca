//! Help, completions and manual pages.

use std::fs;
use std::process::Command;

use super::kit::{Sysroot, YANDRO, has, steady};

#[test]
fn words_that_people_try_lead_to_the_command() {
    let sysroot = Sysroot::new();
    let mut said = String::new();
    for words in [&["ls"][..], &["stop"], &["help", "rm"], &["help", "ferry"]] {
        said += &format!("$ yandro {}\n{}\n", words.join(" "), steady(&sysroot.yandro(words)));
    }
    insta::assert_snapshot!(said, @"
    $ yandro ls
    error: `ls` is not a command of yandro
    fix: list the sites: yandro sites
    [status 2]
    $ yandro stop
    error: `stop` is not a command of yandro
    fix: stop a web server: yandro servers stop
    [status 2]
    $ yandro help rm
    error: `rm` is not a command of yandro
    fix: remove a site: yandro unmap NAME
    [status 2]
    $ yandro help ferry
    error: `ferry` is not a command of yandro
    fix: list the commands: yandro help
    [status 2]
    ");
    insta::assert_snapshot!(steady(&sysroot.yandro(&["ls", "--json"])), @r#"
    {"error":{"code":"bad-arguments","fix":["list the sites: yandro sites"],"message":"`ls` is not a command of yandro"}}
    error: `ls` is not a command of yandro
    fix: list the sites: yandro sites
    [status 2]
    "#);
    insta::assert_snapshot!(steady(&sysroot.yandro(&["help", "hosts", "lint"])), @"
    Find lines that don't do what they seem to do

    Usage: yandro hosts lint [OPTIONS]

    Options:
          --fix
              Fix what is safe to fix

      -h, --help
              Print help

    Examples:
      yandro hosts lint
      yandro hosts lint --fix  # fix what is safe to fix

    Options of every command: yandro help options
    [status 0]
    ");
}

#[test]
fn bash_completes_commands_options_sites_and_servers() {
    if !has(&["bash"], false) {
        return;
    }
    let home = Sysroot::new();
    let list = "[[site]]\nname = \"saltmarsh.test\"\nfolder = \"/srv/saltmarsh\"\naliases = [\"tides.test\"]\n";
    fs::create_dir_all(home.path("config/yandro")).unwrap();
    fs::write(home.path("config/yandro/sites.toml"), list).unwrap();
    let settings = "[[server]]\nname = \"harbour\"\nkind = \"nginx\"\nconfig = \"/srv/nginx.conf\"\n";
    fs::write(home.path("config/yandro/settings.toml"), settings).unwrap();
    let folder = std::path::Path::new(YANDRO).parent().unwrap().display();
    let complete = |words: &str| {
        let script = format!(
            "PATH={folder}:$PATH; source <(yandro setup completions bash); COMP_WORDS=({words}); \
             COMP_CWORD=$((${{#COMP_WORDS[@]}} - 1)); COMP_TYPE=9; \
             _clap_complete_yandro yandro \"${{COMP_WORDS[-1]}}\" \"${{COMP_WORDS[-2]}}\"; echo \"${{COMPREPLY[@]}}\""
        );
        let ran = Command::new("bash").args(["-c", &script]).env("XDG_CONFIG_HOME", home.path("config")).output();
        String::from_utf8(ran.unwrap().stdout).unwrap().trim().to_owned()
    };
    assert_eq!(complete("yandro che"), "check");
    assert_eq!(complete("yandro hosts po"), "point");
    assert_eq!(complete("yandro map a.test --docu"), "--document-root");
    assert_eq!(complete("yandro unmap s"), "saltmarsh.test");
    assert_eq!(complete("yandro check t"), "tides.test");
    assert_eq!(complete("yandro servers reload h"), "harbour");
    assert_eq!(complete("yandro map a.test --server n"), "nginx");
}

#[test]
fn each_command_has_a_manual_page() {
    let sysroot = Sysroot::new();
    let out = sysroot.path("man").display().to_string();
    insta::assert_snapshot!(steady(&sysroot.yandro(&["setup", "man", "--out", &out])), @"
    $ROOT/man has a manual page for each command; read one: man -l $ROOT/man/yandro-map.1
    [status 0]
    ");
    for name in ["yandro", "yandro-map", "yandro-hosts-lint", "yandro-setup-man"] {
        let page = fs::read_to_string(sysroot.path(&format!("man/{name}.1"))).unwrap();
        assert!(page.contains(".SH NAME") && page.contains(".SH SYNOPSIS"), "{page}");
    }
    assert!(!sysroot.path("man/yandro-privileged.1").exists(), "hidden commands have none");
}
