//! Apache httpd for Windows: its layouts on trees of files, as no program of it is here.

use std::fs;
use std::path::Path;

use super::machine::{BY_HAND, HOSTS, Machine, read, tree, write};

/// The main file as the plain distribution and bundles in a folder have it.
const MAIN: &str = "Define SRVROOT \"ROOT\"
ServerRoot \"${SRVROOT}\"
Listen 80
LoadModule authz_core_module modules/mod_authz_core.so
LoadModule authz_host_module modules/mod_authz_host.so
LoadModule dir_module modules/mod_dir.so
LoadModule mime_module modules/mod_mime.so
LoadModule log_config_module modules/mod_log_config.so
#LoadModule ssl_module modules/mod_ssl.so
#LoadModule socache_shmcb_module modules/mod_socache_shmcb.so
#LoadModule headers_module modules/mod_headers.so
#LoadModule rewrite_module modules/mod_rewrite.so
#LoadModule http2_module modules/mod_http2.so
<Directory />
    AllowOverride none
    Require all denied
</Directory>
DocumentRoot \"${SRVROOT}/htdocs\"
<Directory \"${SRVROOT}/htdocs\">
    Require all granted
</Directory>
#Include conf/extra/httpd-vhosts.conf
#Include conf/extra/httpd-ssl.conf
";
const DUMMY: &str = "<VirtualHost *:80>
    DocumentRoot \"${SRVROOT}/docs/dummy-host.example.com\"
    ServerName dummy-host.example.com
</VirtualHost>
";

/// The sysroot.
const TREE: &str = r"C:\sites\tree";

/// A bundle in a folder of the tree.
fn bundle(folder: &str) {
    let at = |below: &str| Path::new(TREE).join(folder).join(below);
    let root = format!("C:/{}", folder.replace('\\', "/"));
    write(at(r"conf\httpd.conf"), &MAIN.replace("ROOT\"\nServer", &format!("{root}\"\nServer")).replace('\n', "\r\n"));
    write(at(r"conf\extra\httpd-vhosts.conf"), &DUMMY.replace('\n', "\r\n"));
    for module in ["ssl", "socache_shmcb", "headers", "rewrite", "http2", "alias"] {
        write(at(&format!(r"modules\mod_{module}.so")), "");
    }
    fs::create_dir_all(at("logs")).unwrap();
}

#[test]
fn each_of_several_versions_gets_its_sites_and_is_as_before() {
    let Some(machine) = Machine::take() else { return };
    let hosts = Path::new(TREE).join(r"Windows\System32\drivers\etc\hosts");
    write(&hosts, BY_HAND);
    let folders = ["Apache24", r"web tools\apache-2.4.62"];
    folders.iter().for_each(|folder| bundle(folder));
    let all = || folders.map(|folder| tree(&Path::new(TREE).join(folder).join("conf")));
    let before = all();
    let yandro = |arguments: &[&str]| machine.yandro(&[&["--sysroot", TREE], arguments].concat());
    yandro(&["servers"]).succeeds().says("Windows  /Apache24/conf/httpd.conf");
    yandro(&["servers", "add", "tools", "--config", r"C:\web tools\apache-2.4.62"]).succeeds();
    for (server, folder) in [("apache", folders[0]), ("tools", folders[1])] {
        let name = format!("{server}.test");
        yandro(&["map", &name, "saltmarsh", "--server", server]).succeeds();
        let conf = Path::new(TREE).join(folder).join("conf");
        let main = read(conf.join("httpd.conf"));
        assert!(main.contains("\r\nLoadModule ssl_module modules/mod_ssl.so\r\n"), "{main}");
        assert!(main.contains("#Include conf/extra/httpd-vhosts.conf\r\n"), "the dummies stay off: {main}");
        let line = main.lines().find(|line| line.contains("yandro-*.conf")).unwrap_or_else(|| panic!("{main}"));
        assert!(line.contains(&folder.replace('\\', "/")), "{line}");
        let own = read(conf.join(format!(r"extra\yandro-{name}.conf")));
        assert!(own.contains("SSLCertificateFile ") && own.contains("/saltmarsh/public"), "{own}");
    }
    assert_eq!(read(HOSTS), BY_HAND, "the machine's own stays as it is");
    for server in ["apache", "tools"] {
        yandro(&["unmap", &format!("{server}.test")]).succeeds();
    }
    assert_eq!(all(), before);
    assert_eq!(read(&hosts), BY_HAND);
}
