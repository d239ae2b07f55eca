//! The demo.

use std::process::Command;

use super::kit::YANDRO;

#[test]
fn the_demo_proves_three_sites_explains_one_failure_and_leaves_nothing() {
    let temporary = tempfile::tempdir().unwrap();
    let demo = |arguments: &[&str]| {
        let mut command = Command::new(YANDRO);
        command.env_clear().env("TMPDIR", temporary.path()).env("HOME", "/home/ada").arg("demo").args(arguments);
        command.output().unwrap()
    };
    let ran = demo(&[]);
    let text = String::from_utf8(ran.stdout).unwrap();
    assert!(ran.status.success(), "{text}{}", String::from_utf8_lossy(&ran.stderr));
    assert!(text.contains("3 sites, 4 names: all proven"), "{text}");
    assert!(text.contains("names `depot.saltmarsh.test`\n    fix: yandro map depot.saltmarsh.test"), "{text}");
    assert!(text.contains("3 sites, 4 names: 3 proven, 1 not"), "{text}");
    assert_eq!(std::fs::read_dir(temporary.path()).unwrap().count(), 0);

    let kept = String::from_utf8(demo(&["--keep"]).stdout).unwrap();
    let folder = std::fs::read_dir(temporary.path()).unwrap().next().unwrap().unwrap().path();
    assert!(kept.contains(&format!("yandro --sysroot {} serve", folder.display())), "{kept}");
    assert!(folder.join("home/ada/.config/yandro/sites.toml").is_file());
}
