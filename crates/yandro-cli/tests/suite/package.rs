//! The Debian package, and what `cargo package` makes.

use std::fs;
use std::path::Path;
use std::process::Command;

use super::kit::YANDRO;
use super::namespace::Namespace;

fn repository() -> &'static Path {
    Path::new(env!("CARGO_MANIFEST_DIR")).ancestors().nth(2).unwrap()
}

/// A private machine whose `/usr` can be written, too.
fn machine() -> Option<Namespace> {
    let machine = Namespace::new(&["dpkg", "dpkg-deb", "man", "gzip"])?;
    let overlay = r#"
        mkdir "$0/usr" && mount -t tmpfs tmpfs "$0/usr" && mkdir "$0/usr/upper" "$0/usr/work" "$0/usr/state" &&
        mount -t overlay overlay -o "lowerdir=/usr,upperdir=$0/usr/upper,workdir=$0/usr/work" /usr &&
        mkdir -p /var/log/apt
    "#;
    let root = machine.root().to_str().unwrap().to_owned();
    machine.run("sh", &["-c", overlay, &root]).succeeds();
    Some(machine)
}

/// Every file that is there now, and wasn't before something was installed.
fn written(machine: &Namespace) -> String {
    machine.run("sh", &["-c", "cd usr/upper && find . -name '*yandro*' | sort; ls /etc | grep yandro; :"]).stdout
}

#[test]
fn the_debian_package_is_installed_used_and_purged_without_a_rest() {
    let Some(machine) = machine() else { return };
    let script = repository().join("scripts/package");
    let folder = machine.path("packages");
    let built = Command::new(script).args(["--program", YANDRO]).arg(&folder).output().unwrap();
    assert!(built.status.success(), "{}", String::from_utf8_lossy(&built.stderr));
    let package = String::from_utf8(built.stdout).unwrap().trim().to_owned();
    machine.run("dpkg", &["--install", &package]).succeeds();
    insta::assert_snapshot!(machine.run("dpkg", &["--status", "yandro"]).stdout.lines().take(2).collect::<Vec<_>>().join("\n"), @r"
    Package: yandro
    Status: install ok installed
    ");
    machine.run("dpkg", &["--verify", "yandro"]).succeeds();
    for file in ["man/man1/yandro-map.1.gz", "bash-completion/completions/yandro", "doc/yandro/copyright"] {
        machine.run("test", &["-s", &format!("/usr/share/{file}")]).succeeds();
    }
    machine.run("/usr/bin/yandro", &["map", "saltmarsh.test", "./saltmarsh", "--server", "apache"]).succeeds();
    machine.run("/usr/bin/yandro", &["unmap", "saltmarsh.test"]).succeeds();
    machine.run("dpkg", &["--purge", "yandro"]).succeeds();
    assert_eq!(written(&machine), "");
    machine.run("apache2ctl", &["stop"]).succeeds();
}

#[test]
fn every_crate_can_be_packaged_with_its_licence_and_readme() {
    for name in ["yandro-core", "yandro-machine", "yandro-serve", "yandro-sys", "yandro-cli"] {
        let list = Command::new(env!("CARGO"))
            .args(["package", "--offline", "--list", "--allow-dirty", "--package", name])
            .current_dir(repository())
            .output()
            .unwrap();
        let files = String::from_utf8(list.stdout).unwrap();
        assert!(list.status.success(), "{}", String::from_utf8_lossy(&list.stderr));
        for needed in ["Cargo.toml", "LICENSE-APACHE", "LICENSE-MIT", "README.md", "src/"] {
            assert!(files.lines().any(|file| file.starts_with(needed)), "{name}: {needed}\n{files}");
        }
        let manifest = fs::read_to_string(repository().join("crates").join(name).join("Cargo.toml")).unwrap();
        assert!(manifest.contains("description"), "{name}");
    }
}
