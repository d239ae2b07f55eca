//! Web servers in real containers of podman: their images are made of this machine's own programs.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;

use super::kit::{Ran, eventually, has, steady};
use super::namespace::Namespace;

/// The folder of the engine: $1 is for its storage and its images.
const ENGINE: &str = r#"
set -e
mkdir -p "$1/bin"
printf '[storage]\ndriver = "vfs"\ngraphroot = "%s/graph"\nrunroot = "%s/run"\n' "$1" "$1" > "$1/storage.conf"
printf '[network]\nnetwork_backend = "netavark"\n[engine]\ncgroup_manager = "cgroupfs"\nruntime = "/usr/sbin/runc"\nevents_logger = "file"\n' > "$1/containers.conf"
cat > "$1/bin/podman" <<END
#!/bin/sh
export CONTAINERS_STORAGE_CONF="$1/storage.conf" CONTAINERS_CONF="$1/containers.conf"
exec /usr/bin/podman --log-level error "\$@"
END
chmod 755 "$1/bin/podman"
"#;

/// A root file system with these programs and what they load, as image $2. What follows is done in it, and more of the machine
/// can be taken by `take`.
const IMAGE: &str = r#"
set -e
root=$1/$2.root
mkdir -p $root/dev $root/proc $root/sys $root/tmp $root/run $root/etc $root/var/log/nginx $root/var/lib/nginx $root/srv
chmod 1777 $root/tmp
take() {
  for file in "$@"; do
    mkdir -p "$root$(dirname "$file")" && cp -aL "$file" "$root$file"
    for library in $(ldd "$file" 2>/dev/null | grep -o '/[^ )]*'); do
      mkdir -p "$root$(dirname $library)" && cp -Lu $library $root$library
    done
  done
}
take /bin/sh
cp -a /etc/passwd /etc/group /etc/mime.types $root/etc
"#;

const NGINX: &str = r"
take /usr/sbin/nginx
cp -a /etc/nginx $root/etc
rm -rf $root/etc/nginx/sites-* $root/etc/nginx/modules-enabled $root/etc/nginx/conf.d
mkdir $root/etc/nginx/modules-enabled $root/etc/nginx/conf.d
sed -i '/sites-enabled/d' $root/etc/nginx/nginx.conf
";

/// Apache httpd as Debian has it, with PHP beside it.
const APACHE: &str = r"
take /usr/sbin/apache2 /usr/share/apache2/ask-for-passphrase /usr/lib/apache2/modules/*.so $(ls /usr/sbin/php-fpm* | head -n 1)
mkdir -p $root/var/log/apache2 $root/run/apache2 $root/run/lock
ln -s ../run $root/var/run
ln -s $(basename $(ls /usr/sbin/php-fpm* | head -n 1)) $root/usr/sbin/php-fpm
printf '[global]\nerror_log = /dev/null\n[www]\nuser = www-data\nlisten = 127.0.0.1:9000\npm = static\npm.max_children = 1\n' > $root/etc/fpm.conf
";

/// The environment that Debian's configuration needs, which images set.
const ENVIRONMENT: [&str; 6] = [
    "APACHE_RUN_USER=www-data",
    "APACHE_RUN_GROUP=www-data",
    "APACHE_RUN_DIR=/run/apache2",
    "APACHE_PID_FILE=/run/apache2/apache2.pid",
    "APACHE_LOCK_DIR=/run/lock",
    "APACHE_LOG_DIR=/var/log/apache2",
];

/// A machine with an engine of its own.
struct Dock {
    machine: Namespace,
}

impl Dock {
    fn new() -> Option<Self> {
        if !has(&["podman", "runc", "iptables"], true) {
            return None;
        }
        let machine = Namespace::new(&["nginx"])?;
        let dock = Self { machine };
        dock.script(ENGINE, &[]);
        let settings = dock.machine.path("home/.config/yandro/settings.toml");
        fs::create_dir_all(settings.parent().unwrap()).unwrap();
        fs::write(settings, format!("[containers]\nengine = \"{}\"\n", dock.path("pod/bin/podman"))).unwrap();
        fs::create_dir_all(dock.machine.path("home/.local/share/yandro/certificates")).unwrap();
        let private = fs::Permissions::from_mode(0o700);
        fs::set_permissions(dock.machine.path("home/.local/share/yandro/certificates"), private).unwrap();
        Some(dock)
    }

    fn path(&self, below: &str) -> String {
        self.machine.path(below).display().to_string()
    }

    fn script(&self, text: &str, arguments: &[&str]) {
        let pod = self.path("pod");
        self.machine.run("bash", &[&["-c", text, "bash", &pod], arguments].concat()).succeeds();
    }

    fn podman(&self, words: &[&str]) -> Ran {
        self.machine.run(&self.path("pod/bin/podman"), words)
    }

    fn image(&self, name: &str, tag: &str, more: &str) {
        let import = "tar -C $root -cf - . | $1/bin/podman import -q - $3";
        self.script(&format!("{IMAGE}{more}{import}"), &[name, tag]);
    }

    /// Starts a container with these mounts, each of a folder of this machine, and with two ports published.
    fn start(&self, name: &str, image: &str, mounts: &[(&str, &str)], command: &[&str]) {
        self.podman(&["rm", "--force", "--ignore", name]).succeeds();
        let limits = ["--ulimit", "nofile=1024:1024", "--ulimit", "nproc=1024:1024"];
        let ports = ["-p", "127.0.0.1:8080:80", "-p", "127.0.0.1:8443:443"];
        let mounts: Vec<String> =
            mounts.iter().flat_map(|(here, there)| ["-v".into(), format!("{}:{there}:ro", self.path(here))]).collect();
        let mounts: Vec<&str> = mounts.iter().map(String::as_str).collect();
        let environment: Vec<&str> = ENVIRONMENT.iter().flat_map(|variable| ["-e", variable]).collect();
        let words =
            [&["run", "-d", "--name", name], &limits[..], &environment, &ports, &mounts, &[image], command].concat();
        self.podman(&words).succeeds();
    }
}

impl Drop for Dock {
    fn drop(&mut self) {
        self.podman(&["rm", "--force", "--all"]);
    }
}

const RUN_NGINX: [&str; 3] = ["/usr/sbin/nginx", "-g", "daemon off;"];
const CERTIFICATES: (&str, &str) = ("home/.local/share/yandro/certificates", "/certificates");

#[test]
fn a_server_in_a_container_is_known_by_its_engine() {
    let Some(dock) = Dock::new() else { return };
    let machine = &dock.machine;
    dock.image("nginx", "ferry:1", NGINX);
    for folder in ["conf.d", "tides"] {
        fs::create_dir(machine.path(folder)).unwrap();
    }
    let add = ["servers", "add", "harbour", "--container", "harbour"];
    // What is missing is said with what to do.
    let ran = machine.yandro(&add);
    assert!(ran.status == 2 && ran.stderr.contains("harbour") && ran.stderr.contains("podman ps --all"), "{ran}");
    dock.start("harbour", "ferry:1", &[], &RUN_NGINX);
    insta::assert_snapshot!(steady(&machine.yandro(&add)), @"
    error: the container `harbour` has nginx, but no folder of this computer is mounted where its virtual hosts are
    fix: start it again with these, and with your project's folder: -v ./conf.d:/etc/nginx/conf.d:ro -v $ROOT/home/.local/share/yandro/certificates:/certificates:ro -v ./FOLDER:/srv/FOLDER:ro
    [status 2]
    ");
    let mounts = [("conf.d", "/etc/nginx/conf.d"), ("saltmarsh", "/srv/saltmarsh")];
    dock.start("harbour", "ferry:1", &mounts, &RUN_NGINX);
    let ran = machine.yandro(&add).succeeds();
    assert!(ran.stderr.contains("the certificates can't be read from within"), "{ran}");
    dock.start("harbour", "ferry:1", &[&mounts[..], &[CERTIFICATES]].concat(), &RUN_NGINX);
    insta::assert_snapshot!(steady(&machine.yandro(&add)), @"
    harbour is known now: nginx with $ROOT/conf.d
      sees $ROOT/home/.local/share/yandro/certificates as /certificates
      sees $ROOT/conf.d as /etc/nginx/conf.d
      sees $ROOT/saltmarsh as /srv/saltmarsh
      port 8080 of this computer is its 80
      port 8443 of this computer is its 443

    Map a site on it: yandro map NAME FOLDER --server harbour
    [status 0]
    ");

    let ran = machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "harbour"]).succeeds();
    assert!(ran.stdout.contains("https://saltmarsh.test:8443/ answers from there, over HTTPS"), "{ran}");
    let ran = machine.yandro(&["map", "tides.test", "./tides", "--server", "harbour"]);
    assert!(ran.status == 3 && ran.stderr.contains("servers add harbour --path"), "{ran}");
    machine.yandro(&["check"]).succeeds();
    // Stopped and started by its engine, as the fix says.
    machine.yandro(&["servers", "stop", "harbour"]).succeeds();
    let ran = machine.yandro(&add);
    assert!(ran.status == 3 && ran.stderr.contains("podman start harbour"), "{ran}");
    let ran = machine.yandro(&["check"]);
    assert!(ran.stdout.contains("fix: yandro servers start harbour\n"), "{ran}");
    machine.yandro(&["servers", "start", "harbour"]).succeeds();
    eventually("it answers", || machine.yandro(&["check"]).status == 0);
    // A configuration that it refuses is never reloaded.
    fs::write(machine.path("conf.d/wrong.conf"), "server { nonsense }\n").unwrap();
    let ran = machine.yandro(&["map", "saltmarsh.test", "--alias", "www.saltmarsh.test"]);
    assert!(ran.status == 3 && ran.stderr.contains("wrong.conf:1"), "{ran}");
    fs::remove_file(machine.path("conf.d/wrong.conf")).unwrap();
    machine.yandro(&["unmap", "saltmarsh.test"]).succeeds();
    assert_eq!(fs::read_dir(machine.path("conf.d")).unwrap().count(), 0);
}

#[test]
fn apache_httpd_and_php_in_a_container_serve_a_project_of_this_machine() {
    let Some(dock) = Dock::new() else { return };
    let machine = &dock.machine;
    dock.image("apache", "ferry:2", APACHE);
    machine.run("cp", &["-a", "/etc/apache2", &dock.path("httpd")]).succeeds();
    fs::write(machine.path("saltmarsh/index.php"), "<?php echo 6 * 7, ' boats at ', __DIR__;\n").unwrap();
    let mounts = [("httpd", "/etc/apache2"), ("saltmarsh", "/srv/saltmarsh"), CERTIFICATES];
    let both = "php-fpm -y /etc/fpm.conf -D; exec apache2 -DFOREGROUND";
    dock.start("quay", "ferry:2", &mounts, &["/bin/sh", "-c", both]);
    let ran = machine.yandro(&["servers", "add", "quay", "--container", "quay"]).succeeds();
    assert!(ran.stdout.contains("Apache httpd with"), "{ran}");
    let map = ["map", "saltmarsh.test", "./saltmarsh", "--server", "quay", "--php=127.0.0.1:9000"];
    let ran = machine.yandro(&map).succeeds();
    assert!(ran.stdout.contains("https://saltmarsh.test:8443/ answers from there, over HTTPS"), "{ran}");
    assert_eq!(machine.curl(&["-k", "https://saltmarsh.test:8443/"]).stdout, "42 boats at /srv/saltmarsh");
    machine.yandro(&["check"]).succeeds();
}

#[test]
fn a_packed_site_is_built_and_run_by_an_engine() {
    let Some(dock) = Dock::new() else { return };
    let machine = &dock.machine;
    machine.yandro(&["map", "saltmarsh.test", "./saltmarsh", "--server", "built-in"]).succeeds();
    machine.yandro(&["servers", "stop", "built-in"]).succeeds();
    let words =
        ["pack", "saltmarsh.test", "--out", "packed", "--kind", "nginx", "--port", "8080:80", "--port", "8443:443"];
    machine.yandro(&words).succeeds();
    let packed = fs::read_to_string(machine.path("packed/Dockerfile")).unwrap();
    let from = packed.lines().find_map(|line| line.strip_prefix("FROM ")).unwrap();
    // The image that it builds on is not to be had here: one of this machine's programs has its name.
    dock.image("nginx", from, NGINX);
    let limits = ["--ulimit", "nofile=1024:1024", "--ulimit", "nproc=1024:1024"];
    let build = ["build", "--pull=never", "--isolation", "chroot", "-t", "packed:1"];
    dock.podman(&[&build[..], &limits, &[&dock.path("packed")]].concat()).succeeds();
    dock.start("packed", "packed:1", &[], &RUN_NGINX);
    let page = || machine.curl(&["-k", "https://saltmarsh.test:8443/"]).stdout;
    eventually("the packed site answers", || page() == "<h1>Saltmarsh Ferries</h1>\n");
    let compose = fs::read_to_string(machine.path("packed/compose.yaml")).unwrap();
    assert!(compose.contains("8443:443"), "{compose}");
}
