//! `yandro pack`: the folder is built and run as a container would.

use std::fs;
use std::path::Path;

use super::kit::{eventually, steady};
use super::layouts::as_shipped;
use super::namespace::Namespace;

/// A root file system with the machine's programs and nothing of its `/etc` but users.
const IMAGE: &str = r"
set -e
mkdir -p $1/usr $1/etc $1/srv $1/run $1/tmp $1/dev $1/var/log/nginx $1/var/lib/nginx
for folder in bin sbin lib lib64; do ln -s usr/$folder $1/$folder; done
chmod 755 $1 && chmod 1777 $1/tmp
mount --rbind /usr $1/usr
mount --bind /dev $1/dev
cp -a /etc/passwd /etc/group /etc/mime.types $1/etc
cp -a /etc/nginx $1/etc && rm -r $1/etc/nginx/sites-enabled
";

/// Does what a Dockerfile says, line by line.
fn build(machine: &Namespace, folder: &Path, image: &str) {
    let text = fs::read_to_string(folder.join("Dockerfile")).unwrap();
    for line in text.lines() {
        let (verb, rest) = line.split_once(' ').unwrap();
        match verb {
            "COPY" => {
                let (from, to) = rest.split_once(' ').unwrap();
                let from = if from.ends_with('/') { format!("{from}.") } else { from.to_owned() };
                let script = r#"mkdir -p "$3$2" && cp -a "$1" "$3$2""#;
                let from = folder.join(from);
                machine.run("sh", &["-c", script, "sh", from.to_str().unwrap(), to, image]).succeeds();
            }
            "RUN" => _ = machine.run("chroot", &[image, "sh", "-c", rest]).succeeds(),
            "#" | "FROM" | "EXPOSE" => {}
            other => panic!("{other}"),
        }
    }
}

#[test]
fn a_packed_site_is_served_from_an_image_of_either_server() {
    let Some(machine) = Namespace::new(&["nginx", "chroot"]) else { return };
    as_shipped(&machine);
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "built-in"]).succeeds();
    // The ports are for the servers of the image.
    machine.yandro(&["servers", "stop", "built-in"]).succeeds();
    fs::write(machine.path("saltmarsh/.env"), "TIDE=secret\n").unwrap();
    let image = machine.path("image").display().to_string();
    fs::create_dir(&image).unwrap();
    machine.run("sh", &["-c", IMAGE, "sh", &image]).succeeds();

    let preview = machine.yandro(&["pack", "saltmarsh.test", "--out", "packed", "--preview"]).succeeds();
    insta::assert_snapshot!(steady(&preview), @"
    $ROOT/packed would hold:
      virtual host  virtual-hosts/saltmarsh.test.conf
      certificate  certificates/saltmarsh.test/fullchain.pem
      key  certificates/saltmarsh.test/key.pem
      root  root.pem
      image part  Dockerfile
      compose part  compose.yaml
      explained in  README.md
      project  site/, a copy of $ROOT/saltmarsh

    Nothing was written: this was a preview.
    [status 0]
    ");
    assert!(!machine.path("packed").exists());
    let ran = machine.yandro(&["pack", "saltmarsh.test", "--out", "packed"]).succeeds();
    insta::assert_snapshot!(steady(&ran), @"
    saltmarsh.test is packed into $ROOT/packed
      virtual host  virtual-hosts/saltmarsh.test.conf
      certificate  certificates/saltmarsh.test/fullchain.pem
      key  certificates/saltmarsh.test/key.pem
      root  root.pem
      image part  Dockerfile
      compose part  compose.yaml
      explained in  README.md
      project  site/ (1 file, 1 kB)

    What goes where: $ROOT/packed/README.md
    note: left out, since hidden or leading out of the folder: $ROOT/saltmarsh/.env
    [status 0]
    ");
    build(&machine, &machine.path("packed"), &image);
    machine.run("chroot", &[&image, "nginx"]).succeeds();
    let page = || machine.curl(&["--location", "http://saltmarsh.test/"]);
    eventually("nginx answers from the image", || page().stdout == "<h1>Saltmarsh Ferries</h1>\n");
    let secret = fs::metadata(machine.path("image/etc/yandro/certificates/saltmarsh.test/key.pem")).unwrap();
    assert_eq!(std::os::unix::fs::PermissionsExt::mode(&secret.permissions()) & 0o777, 0o600);
    machine.run("chroot", &[&image, "nginx", "-s", "stop"]).succeeds();
    // Nothing is written over.
    let ran = machine.yandro(&["pack", "saltmarsh.test", "--out", "packed"]);
    insta::assert_snapshot!(steady(&ran), @"
    error: there is something in $ROOT/packed already
    fix: give a folder that isn't there yet, or take it away first
    [status 2]
    ");

    machine.yandro(&["pack", "saltmarsh.test", "--out", "second", "--kind", "apache"]).succeeds();
    build(&machine, &machine.path("second"), &image);
    let server = ["/usr/local/apache2/bin/httpd", "-f", "/usr/local/apache2/conf/httpd.conf", "-k", "start"];
    eventually("port 80 is free again", || machine.curl(&["http://127.0.0.1/"]).status != 0);
    machine.run("chroot", &[&[image.as_str()][..], &server].concat()).succeeds();
    eventually("Apache httpd answers from the image", || page().stdout == "<h1>Saltmarsh Ferries</h1>\n");
    machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
}
