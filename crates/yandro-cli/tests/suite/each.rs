//! Each folder of a folder becomes a site: `yandro map --each`.

use super::kit::{Sysroot, steady};

#[test]
fn each_project_of_a_folder_is_mapped_once_the_list_was_agreed_to() {
    let sysroot = Sysroot::new();
    sysroot.write("etc/hosts", "127.0.0.1 localhost\n");
    for file in ["saltmarsh/index.html", "depot/public/index.html", "Tide Tables/index.php", "tides/index.html"] {
        sysroot.write(&format!("home/ada/ferries/{file}"), "<h1>Ferries</h1>\n");
    }
    sysroot.write("home/ada/ferries/clone/yandro.toml", "[[site]]\nname = \"clone.test\"\n");
    for folder in ["tide_tables", "pier", "node_modules/x", ".git/x"] {
        std::fs::create_dir_all(sysroot.path(&format!("home/ada/ferries/{folder}"))).unwrap();
    }
    sysroot.write("home/ada/ferries/tide_tables/index.html", "<h1>Tides</h1>\n");
    let ferries = sysroot.path("home/ada/ferries");
    std::os::unix::fs::symlink("saltmarsh", ferries.join("to-saltmarsh")).unwrap();
    let folder = ferries.to_str().unwrap();
    sysroot.yandro(&["map", "tides.test", &format!("{folder}/tides"), "--server", "built-in"]).succeeds();
    let before = sysroot.tree();
    let each = ["map", "--each", folder, "--server", "built-in"];
    insta::assert_snapshot!(steady(&sysroot.yandro(&each)), @"
    error: 3 folders of $ROOT/home/ada/ferries would become 3 sites:

    FOLDER  SITE  SERVES  PHP
    Tide Tables  tide-tables.test  all of it  not by this server
    depot  depot.test  public
    saltmarsh  saltmarsh.test  all of it
    left out: clone: it has a yandro.toml: cd clone && yandro map
    left out: pier: it is empty
    left out: tide_tables: Tide Tables would have the same name
    left out: tides: it is tides.test already
    left out: to-saltmarsh: it is a link to saltmarsh
    fix: to map them, add `--accept`; to leave one out, add `--except FOLDER`; to see every line that would be written: --preview
    [status 2]
    ");
    assert_eq!(sysroot.tree(), before);
    sysroot.yandro(&[&each[..], &["--except", "depot", "--accept"]].concat()).succeeds();
    let list = sysroot.read("home/ada/.config/yandro/sites.toml");
    let names: Vec<&str> = list.lines().filter_map(|line| line.strip_prefix("name = ")).collect();
    assert_eq!(names, ["\"tides.test\"", "\"tide-tables.test\"", "\"saltmarsh.test\""]);
    // All of it is one change, so a single undo takes it back.
    sysroot.yandro(&["undo"]).succeeds();
    assert!(!sysroot.read("home/ada/.config/yandro/sites.toml").contains("saltmarsh"));
    sysroot.yandro(&[&each[..], &["--below", "ferries.test", "--accept"]].concat()).succeeds();
    assert!(sysroot.read("etc/hosts").contains("\tdepot.ferries.test\n"));
    let ran = sysroot.yandro(&each);
    assert!(ran.status == 2 && ran.stderr.contains("left out: depot: it is depot.ferries.test already"), "{ran}");
    for (words, said) in
        [(&["--alias", "x.test"][..], "belong to one site"), (&["--below", "not a name"], "left out: depot: ")]
    {
        let ran = sysroot.yandro(&[&each[..], words].concat());
        assert!(ran.status == 2 && ran.stderr.contains(said), "{ran}");
    }
    let ran = sysroot.yandro(&["map", "--each", "/nonexistent"]);
    assert!(ran.status == 2 && ran.stderr.contains("/nonexistent can't be listed"), "{ran}");
}
