//! Virtual hosts as people and packages write them: taken over, answering as before, and given back to the byte.

use std::fs;

use super::harbour::{Harbour, Server};
use super::kit::{Background, eventually, tree};

/// A site as its user wrote it: a label, a script that changes its folder, and its virtual hosts. `ROOT` stands for
/// the folder, `@` for its name, `CERT` for the lines of a self-signed certificate.
struct Hand(&'static str, &'static str, &'static str);

const APACHE: &[Hand] = &[
    Hand("least", "", "<VirtualHost *:80>\n\tServerName @\n\tDocumentRoot ROOT\n</VirtualHost>\n"),
    Hand(
        "tutorial",
        "",
        "<VirtualHost *:80>\n    ServerAdmin the-harbour-master\n    ServerName @\n    ServerAlias www.@\n    DocumentRoot ROOT\n    ErrorLog ${APACHE_LOG_DIR}/error.log\n    CustomLog ${APACHE_LOG_DIR}/access.log combined\n</VirtualHost>\n",
    ),
    Hand(
        "folder",
        "mkdir tides; echo a > tides/a.txt; echo 'Options -Indexes' > .htaccess",
        "<VirtualHost *:80>\nServerName @\nDocumentRoot \"ROOT\"\n<Directory \"ROOT\">\nOptions Indexes FollowSymLinks MultiViews\nAllowOverride All\nRequire all granted\n</Directory>\n</VirtualHost>\n",
    ),
    Hand(
        "old-access",
        "",
        "<VirtualHost *:80>\n  ServerName @\n  DocumentRoot ROOT/\n  <Directory ROOT/>\n    Options -Indexes +FollowSymLinks\n    AllowOverride None\n    Order allow,deny\n    Allow from all\n  </Directory>\n</VirtualHost>\n",
    ),
    Hand(
        "headers",
        "",
        "# The ferries' own headers\n<VirtualHost *:80>\n\tServerName @\n\tDocumentRoot ROOT\n\tSetEnv TIDE high\n\tHeader always set X-Ferry tide\n\tHeader set Cache-Control \"no-store\"\n\t# until the new pier is open\n\tErrorDocument 404 \"no such pier\"\n</VirtualHost>\n",
    ),
    Hand(
        "rewritten",
        "mkdir app; echo front > app/front.html",
        "<VirtualHost *:80>\n\tServerName @\n\tDocumentRoot ROOT\n\t<Directory ROOT>\n\t\tRewriteEngine On\n\t\tRewriteCond %{REQUEST_FILENAME} !-f\n\t\tRewriteCond %{REQUEST_FILENAME} !-d\n\t\tRewriteRule ^ /app/front.html [L]\n\t\tRequire all granted\n\t</Directory>\n</VirtualHost>\n",
    ),
    Hand(
        "fallback",
        "echo front > front.html",
        "<VirtualHost *:80>\n\tServerName @\n\tDocumentRoot ROOT\n\t<Directory ROOT>\n\t\tFallbackResource /front.html\n\t\tDirectoryIndex front.html\n\t\tRequire all granted\n\t</Directory>\n</VirtualHost>\n",
    ),
    Hand(
        "index",
        "mv index.html tides.htm",
        "<VirtualHost *:80>\n\tServerName @\n\tDocumentRoot ROOT\n\tDirectoryIndex tides.htm index.php\n</VirtualHost>\n",
    ),
    Hand(
        "secure",
        "",
        "<VirtualHost *:80>\n\tServerName @\n\tRedirect permanent / https://@/\n</VirtualHost>\n\n<VirtualHost *:443>\n\tServerName @\n\tDocumentRoot ROOT\n\tSSLEngine on\nCERT</VirtualHost>\n",
    ),
    Hand(
        "rewritten-secure",
        "",
        "<VirtualHost *:80>\n\tServerName @\n\tServerAlias www.@\n\tRewriteEngine on\n\tRewriteCond %{HTTPS} off\n\tRewriteRule ^(.*)$ https://%{HTTP_HOST}$1 [R=301,L]\n</VirtualHost>\n<IfModule mod_ssl.c>\n<VirtualHost *:443>\n\tServerName @\n\tServerAlias www.@\n\tDocumentRoot ROOT\n\tHeader always set Strict-Transport-Security \"max-age=60\"\n\tSSLEngine on\nCERT\tSSLProtocol all -SSLv3\n\tSSLHonorCipherOrder on\n</VirtualHost>\n</IfModule>\n",
    ),
    Hand(
        "both",
        "",
        "<VirtualHost *:80>\n\tServerName @\n\tDocumentRoot ROOT\n</VirtualHost>\n<VirtualHost *:443>\n\tServerName @\n\tDocumentRoot ROOT\n\tSSLEngine on\nCERT</VirtualHost>\n",
    ),
    Hand(
        "only-secure",
        "",
        "<VirtualHost _default_:443>\n\tServerName @:443\n\tDocumentRoot ROOT\n\tSSLEngine on\nCERT</VirtualHost>\n",
    ),
    Hand("port", "", "Listen 8081\n<VirtualHost *:8081>\n\tServerName @\n\tDocumentRoot ROOT\n</VirtualHost>\n"),
    Hand(
        "two-ports",
        "",
        "Listen 8082\n<VirtualHost *:80 *:8082>\n\tServerName @\n\tDocumentRoot ROOT\n</VirtualHost>\n",
    ),
    Hand("address", "", "<VirtualHost 127.0.0.1:80>\n\tServerName @\n\tDocumentRoot ROOT\n</VirtualHost>\n"),
    Hand("own-address", "", "<VirtualHost 127.0.0.7:80>\n\tServerName @\n\tDocumentRoot ROOT\n</VirtualHost>\n"),
    Hand(
        "logs",
        "mkdir -p ../logs",
        "<VirtualHost *:80>\n\tServerName @\n\tDocumentRoot ROOT\n\tErrorLog ROOT/../logs/tide-error.log\n\tCustomLog ROOT/../logs/tide-access.log common\n\tLogLevel warn\n</VirtualHost>\n",
    ),
    Hand(
        "proxied",
        "",
        "<VirtualHost *:80>\n\tServerName @\n\tProxyPreserveHost On\n\tProxyRequests Off\n\tProxyPass / http://127.0.0.1:8090/\n\tProxyPassReverse / http://127.0.0.1:8090/\n</VirtualHost>\n",
    ),
    Hand(
        "partly-proxied",
        "",
        "<VirtualHost *:80>\n\tServerName @\n\tDocumentRoot ROOT\n\tProxyPass /api http://127.0.0.1:8090/\n\tProxyPassReverse /api http://127.0.0.1:8090/\n</VirtualHost>\n",
    ),
    Hand(
        "protected",
        "printf 'tide:$apr1$Zp0kq3Ee$9pJW3b1vUe7LJq8R3J9lD1\\n' > ../passwords",
        "<VirtualHost *:80>\n\tServerName @\n\tDocumentRoot ROOT\n\t<Location />\n\t\tAuthType Basic\n\t\tAuthName \"Crew only\"\n\t\tAuthUserFile ROOT/../passwords\n\t\tRequire valid-user\n\t</Location>\n</VirtualHost>\n",
    ),
    Hand(
        "aliased",
        "mkdir ../pictures; echo p > ../pictures/p.txt",
        "<VirtualHost *:80>\n\tServerName @\n\tDocumentRoot ROOT\n\tAlias /pictures ROOT/../pictures\n\t<Directory ROOT/../pictures>\n\t\tRequire all granted\n\t</Directory>\n</VirtualHost>\n",
    ),
    Hand("pattern", "", "<VirtualHost *:80>\n\tServerName @\n\tServerAlias *.@\n\tDocumentRoot ROOT\n</VirtualHost>\n"),
    Hand(
        "several-aliases",
        "",
        "<VirtualHost *:80>\n\tServerName @\n\tServerAlias a.@\n\tServerAlias b.@ c.@\n\tDocumentRoot ROOT\n</VirtualHost>\n",
    ),
    Hand("upper", "", "<virtualhost *:80>\n\tservername @\n\tdocumentroot ROOT\n</virtualhost>\n"),
    Hand(
        "windows",
        "",
        "<VirtualHost *:80>\r\n  ServerName @\r\n  DocumentRoot \"ROOT\"\r\n  # tides\r\n  SetEnv TIDE low\r\n</VirtualHost>\r\n",
    ),
    Hand(
        "php",
        "echo '<?php echo 1;' > index.php",
        "<VirtualHost *:80>\n\tServerName @\n\tDocumentRoot ROOT\n\tDirectoryIndex index.php index.html\n\t<FilesMatch \\.php$>\n\t\tSetHandler \"proxy:unix:/run/php/tides.sock|fcgi://localhost\"\n\t</FilesMatch>\n</VirtualHost>\n",
    ),
    Hand(
        "guarded",
        "",
        "<VirtualHost *:80>\n\tServerName @\n\tDocumentRoot ROOT\n\t<IfModule mod_headers.c>\n\t\tHeader set X-Ferry tide\n\t</IfModule>\n\t<IfModule mod_expires.c>\n\t\tExpiresActive On\n\t</IfModule>\n</VirtualHost>\n",
    ),
    Hand(
        "to-www",
        "",
        "<VirtualHost *:80>\n\tServerName www.@\n\tServerAlias @\n\tDocumentRoot ROOT\n\tRewriteEngine On\n\tRewriteCond %{HTTP_HOST} !^www\\. [NC]\n\tRewriteRule ^(.*)$ http://www.%{HTTP_HOST}$1 [R=301,L]\n</VirtualHost>\n",
    ),
    Hand(
        "defined",
        "",
        "Define PIER ROOT\n<VirtualHost *:80>\n\tServerName @\n\tDocumentRoot ${PIER}\n\t<Directory ${PIER}>\n\t\tRequire all granted\n\t</Directory>\n</VirtualHost>\n",
    ),
    Hand(
        "continued",
        "",
        "<VirtualHost *:80>\n\tServerName @\n\tServerAlias www.@ \\\n\t\tpier.@\n\tDocumentRoot \\\n\t\tROOT\n</VirtualHost>",
    ),
];

const NGINX: &[Hand] = &[
    Hand("least", "", "server {\n\tlisten 80;\n\tserver_name @;\n\troot ROOT;\n}\n"),
    Hand(
        "packaged",
        "",
        "server {\n\tlisten 80;\n\tlisten [::]:80;\n\n\tserver_name @ www.@;\n\n\troot ROOT;\n\tindex index.html index.htm index.nginx-debian.html;\n\n\tlocation / {\n\t\t# First attempt to serve request as file, then\n\t\t# as directory, then fall back to displaying a 404.\n\t\ttry_files $uri $uri/ =404;\n\t}\n}\n",
    ),
    Hand("no-listen", "", "server {\n  server_name @;\n  root ROOT;\n}\n"),
    Hand(
        "default",
        "",
        "server {\n\tlisten 80 default_server;\n\tlisten [::]:80 default_server;\n\tserver_name @;\n\troot ROOT;\n}\n",
    ),
    Hand(
        "secure",
        "",
        "server {\n\tlisten 80;\n\tserver_name @;\n\treturn 301 https://$host$request_uri;\n}\nserver {\n\tlisten 443 ssl;\n\tserver_name @;\nCERT\troot ROOT;\n}\n",
    ),
    Hand(
        "one-block",
        "",
        "server {\n\tlisten 80;\n\tlisten 443 ssl;\n\tserver_name @;\nCERT\troot ROOT;\n\tadd_header X-Ferry tide always;\n}\n",
    ),
    Hand(
        "only-secure",
        "",
        "server {\n    listen 443 ssl http2;\n    server_name @;\nCERT    ssl_protocols TLSv1.2 TLSv1.3;\n    ssl_session_cache shared:pier:1m;\n    root ROOT;\n}\n",
    ),
    Hand(
        "front",
        "echo front > front.html; mkdir tides",
        "server {\n\tlisten 80;\n\tserver_name @;\n\troot ROOT;\n\tlocation / {\n\t\ttry_files $uri $uri/ /front.html?$query_string;\n\t}\n}\n",
    ),
    Hand(
        "bare-front",
        "echo front > front.html",
        "server {\n\tlisten 80;\n\tserver_name @;\n\troot ROOT;\n\ttry_files $uri /front.html;\n}\n",
    ),
    Hand(
        "listed",
        "mkdir tides; echo a > tides/a.txt",
        "server {\n\tlisten 80;\n\tserver_name @;\n\troot ROOT;\n\tautoindex on;\n}\n",
    ),
    Hand(
        "unlisted",
        "mkdir tides; echo a > tides/a.txt",
        "server {\n\tlisten 80;\n\tserver_name @;\n\troot ROOT;\n\tindex tides.html;\n}\n",
    ),
    Hand(
        "php",
        "echo '<?php echo 1;' > index.php",
        "server {\n\tlisten 80;\n\tserver_name @;\n\troot ROOT;\n\tindex index.php index.html;\n\tlocation / {\n\t\ttry_files $uri $uri/ /index.php?$args;\n\t}\n\tlocation ~ \\.php$ {\n\t\tinclude snippets/fastcgi-php.conf;\n\t\tfastcgi_pass unix:/run/php/tides.sock;\n\t\tfastcgi_read_timeout 300;\n\t}\n\tlocation ~ /\\.ht {\n\t\tdeny all;\n\t}\n}\n",
    ),
    Hand(
        "proxied",
        "",
        "server {\n\tlisten 80;\n\tserver_name @;\n\tlocation / {\n\t\tproxy_pass http://127.0.0.1:8090;\n\t\tproxy_set_header Host $host;\n\t\tproxy_set_header X-Real-IP $remote_addr;\n\t\tproxy_http_version 1.1;\n\t\tproxy_set_header Upgrade $http_upgrade;\n\t\tproxy_set_header Connection \"upgrade\";\n\t}\n}\n",
    ),
    Hand(
        "partly-proxied",
        "",
        "server {\n\tlisten 80;\n\tserver_name @;\n\troot ROOT;\n\tlocation /api/ {\n\t\tproxy_pass http://127.0.0.1:8090/;\n\t}\n}\n",
    ),
    Hand(
        "logs",
        "mkdir -p ../logs",
        "server {\n\tlisten 80;\n\tserver_name @;\n\troot ROOT;\n\taccess_log ROOT/../logs/tide.log;\n\terror_log ROOT/../logs/tide-error.log warn;\n}\n",
    ),
    Hand(
        "usual-logs",
        "",
        "server {\n\tlisten 80;\n\tserver_name @;\n\troot ROOT;\n\taccess_log /var/log/nginx/tide.log;\n\terror_log /var/log/nginx/tide-error.log;\n}\n",
    ),
    Hand("port", "", "server {\n\tlisten 8083;\n\tserver_name @;\n\troot ROOT;\n}\n"),
    Hand("address", "", "server {\n\tlisten 127.0.0.1:80;\n\tserver_name @;\n\troot ROOT;\n}\n"),
    Hand("own-address", "", "server {\n\tlisten 127.0.0.8:80;\n\tserver_name @;\n\troot ROOT;\n}\n"),
    Hand("pattern", "", "server {\n\tlisten 80;\n\tserver_name @ *.@;\n\troot ROOT;\n}\n"),
    Hand(
        "locations",
        "mkdir css; echo c > css/c.css",
        "# Ferries\nserver {\n\tlisten 80;\n\tserver_name @;\n\troot ROOT;\n\tcharset utf-8;\n\tclient_max_body_size 20m;\n\tgzip on;\n\terror_page 404 /index.html;\n\tlocation = /favicon.ico { access_log off; log_not_found off; }\n\tlocation ~* \\.(css|js)$ {\n\t\texpires 30d;\n\t}\n}\n",
    ),
    Hand(
        "protected",
        "printf 'tide:x\\n' > ../passwords",
        "server {\n\tlisten 80;\n\tserver_name @;\n\troot ROOT;\n\tauth_basic \"Crew only\";\n\tauth_basic_user_file ROOT/../passwords;\n}\n",
    ),
    Hand("windows", "", "server {\r\n  listen 80;\r\n  server_name @;\r\n  # tides\r\n  root ROOT;\r\n}\r\n"),
    Hand("in-a-line", "", "server { listen 80; server_name @; root ROOT; }\n"),
    Hand(
        "to-www",
        "",
        "server {\n\tlisten 80;\n\tserver_name www.@ @;\n\troot ROOT;\n\tif ($host = @) {\n\t\treturn 301 http://www.@$request_uri;\n\t}\n}\n",
    ),
    Hand(
        "mapped",
        "",
        "map $uri $pier {\n\tdefault north;\n\t/a south;\n}\nserver {\n\tlisten 80;\n\tserver_name @;\n\troot ROOT;\n\tadd_header X-Pier $pier;\n}\n",
    ),
];

/// A machine with a server, an application behind it, and a certificate that its user signed.
fn harbour(server: Server) -> Option<Harbour> {
    let harbour = Harbour::new(server, &[])?;
    let sign = "openssl req -x509 -newkey rsa:2048 -nodes -keyout /etc/ssl/pier.key -out /etc/ssl/pier.pem -days 30 -subj /CN=pier 2>/dev/null
        for module in headers expires rewrite proxy proxy_http proxy_fcgi ssl socache_shmcb setenvif alias auth_basic; do
            ln -sf ../mods-available/$module.load /etc/apache2/mods-enabled/; done
        mkdir -p /run/php; rm -f /etc/nginx/sites-enabled/default
        echo \"<Directory $PWD/hand>
            Options Indexes FollowSymLinks
            Require all granted
        </Directory>\" > /etc/apache2/conf-enabled/hand.conf";
    harbour.machine.run("sh", &["-c", sign]).succeeds();
    Some(harbour)
}

/// An application that listens on a port.
fn application(harbour: &Harbour) -> Background {
    let listen = ["-m", "http.server", "8090", "--bind", "127.0.0.1", "--directory", "/usr/share/misc"];
    Background::start(harbour.machine.command("python3").args(listen))
}

impl Harbour {
    fn configured(&self) -> String {
        let folder =
            if self.server == Server::Apache { self.machine.path("apache2") } else { self.machine.path("etc/nginx") };
        tree(&folder) + &self.machine.hosts()
    }

    /// Reloads the server, and waits until the new configuration is active.
    fn reload(&self) {
        self.machine.yandro(&["servers", "reload", self.server.word()]).succeeds();
    }
}

/// Takes a hand-written site over, and gives it back: by `undo` and by `uninstall` in turn.
fn adopts(harbour: &Harbour, turn: usize, Hand(label, script, text): &Hand) -> Option<String> {
    let machine = &harbour.machine;
    let back: &[&str] = if turn.is_multiple_of(2) { &["undo"] } else { &["uninstall", "--yes"] };
    let name = format!("{label}.saltmarsh.test");
    let root = machine.path(&format!("hand/{label}/site"));
    fs::create_dir_all(&root).unwrap();
    fs::write(root.join("index.html"), format!("<h1>{label}</h1>\n")).unwrap();
    let in_root = format!("cd '{}' && {{ {script}\n}}", root.display());
    machine.run("sh", &["-c", if script.is_empty() { "true" } else { &in_root }]).succeeds();
    let tls = if harbour.server == Server::Apache {
        "\tSSLCertificateFile /etc/ssl/pier.pem\n\tSSLCertificateKeyFile /etc/ssl/pier.key\n"
    } else {
        "\tssl_certificate /etc/ssl/pier.pem;\n\tssl_certificate_key /etc/ssl/pier.key;\n"
    };
    let text = text.replace("ROOT", root.to_str().unwrap()).replace('@', &name).replace("CERT", tls);
    let folder = if harbour.server == Server::Apache { "apache2" } else { "etc/nginx" };
    let file = format!("{folder}/sites-available/{label}.conf");
    fs::write(machine.path(&file), &text).unwrap();
    let link = machine.path(&format!("{folder}/sites-enabled/{label}.conf"));
    std::os::unix::fs::symlink(format!("../sites-available/{label}.conf"), &link).unwrap();
    fs::write(machine.path("hosts"), format!("{}\n127.0.0.1 {name} www.{name} # by hand\n", machine.hosts())).unwrap();
    harbour.reload();
    let before = harbour.configured();
    let fault = taken_over(harbour, label, &name, &before, back);
    if fault.is_some() {
        machine.yandro(&["undo"]);
    }
    if let Some(fault) = &fault {
        eprintln!("{label}: {fault}");
    }
    _ = fs::remove_file(&link);
    _ = fs::remove_file(machine.path(&file));
    fs::write(machine.path("hosts"), "127.0.0.1 localhost\n").unwrap();
    harbour.reload();
    fault.map(|fault| format!("{label}: {fault}\n{text}"))
}

/// Takes the site over and gives it back by the command `back`; tells what goes wrong.
fn taken_over(harbour: &Harbour, label: &str, name: &str, before: &str, back: &[&str]) -> Option<String> {
    let machine = &harbour.machine;
    let ran = machine.yandro(&["adopt", name]);
    if ran.status > 1 || !ran.stdout.contains(" as before\n") {
        return Some(ran.to_string());
    }
    // A file with more in it stays; only the virtual host goes.
    let stays = if harbour.server == Server::Apache { &["port", "two-ports", "defined"][..] } else { &["mapped"] };
    let folder = if harbour.server == Server::Apache { "apache2" } else { "etc/nginx" };
    let link = machine.path(&format!("{folder}/sites-enabled/{label}.conf"));
    if link.symlink_metadata().is_ok() != stays.contains(&label) {
        return Some(format!("its file: {ran}"));
    }
    // A site on another port than 80 doesn't get port 443 either.
    let port = if ran.stdout.contains(&format!("https://{name}:8443/")) { ":8443" } else { "" };
    let secure = machine.run(
        "curl",
        &["-ks", "--max-time", "10", "-o", "/dev/null", "-w", "%{http_code}", &format!("https://{name}{port}/")],
    );
    if secure.stdout == "000" {
        return Some(format!("no HTTPS: {secure}\n{ran}"));
    }
    let settled = machine.yandro(&["settle"]);
    if !settled.stdout.contains("nothing was changed") {
        return Some(format!("{settled}\n{ran}"));
    }
    let undone = machine.yandro(back);
    let after = harbour.configured();
    let differs: Vec<&str> = after.lines().filter(|line| !before.lines().any(|own| own == *line)).collect();
    (after != before || undone.status != 0).then(|| format!("{undone}\n{differs:#?}"))
}

#[test]
fn virtual_hosts_of_apache_httpd_are_taken_over_and_given_back() {
    let Some(harbour) = harbour(Server::Apache) else { return };
    let _application = application(&harbour);
    eventually("the application answers", || {
        harbour.machine.run("curl", &["-s", "http://127.0.0.1:8090/"]).status == 0
    });
    harbour.machine.run("apache2ctl", &["graceful"]).succeeds();
    let faults: Vec<String> =
        APACHE.iter().enumerate().filter_map(|(turn, hand)| adopts(&harbour, turn, hand)).collect();
    assert!(faults.is_empty(), "{} of {}:\n{}", faults.len(), APACHE.len(), faults.join("\n"));
}

#[test]
fn server_blocks_of_nginx_are_taken_over_and_given_back() {
    let Some(harbour) = harbour(Server::Nginx) else { return };
    let _application = application(&harbour);
    eventually("the application answers", || {
        harbour.machine.run("curl", &["-s", "http://127.0.0.1:8090/"]).status == 0
    });
    let faults: Vec<String> =
        NGINX.iter().enumerate().filter_map(|(turn, hand)| adopts(&harbour, turn, hand)).collect();
    assert!(faults.is_empty(), "{} of {}:\n{}", faults.len(), NGINX.len(), faults.join("\n"));
}

#[test]
fn all_leaves_the_sites_of_other_people() {
    let Some(harbour) = harbour(Server::Nginx) else { return };
    let machine = &harbour.machine;
    for (name, owner) in [("depot", "33"), ("crew", "4321")] {
        let root = machine.path(&format!("hand/{name}"));
        fs::create_dir_all(&root).unwrap();
        fs::write(root.join("index.html"), format!("<h1>{name}</h1>\n")).unwrap();
        machine.run("chown", &["-R", owner, root.to_str().unwrap()]).succeeds();
        let text = format!("server {{\n\tlisten 80;\n\tserver_name {name}.test;\n\troot {};\n}}\n", root.display());
        fs::write(machine.path(&format!("etc/nginx/sites-enabled/{name}")), text).unwrap();
    }
    harbour.reload();
    let crew = || fs::read(machine.path("etc/nginx/sites-enabled/crew")).ok();
    let before = crew();
    let table = machine.yandro(&["adopt", "--server", "nginx"]).stdout;
    assert!(table.contains("only by name: the folder belongs to 4321"), "{table}");
    let ran = machine.yandro(&["adopt", "--all", "--server", "nginx"]).succeeds();
    assert!(ran.stdout.contains("depot.test -> ") && !ran.stdout.contains("crew.test -> "), "{ran}");
    assert!(ran.stderr.contains("crew.test stays as it is, since its folder belongs to 4321"), "{ran}");
    assert_eq!(crew(), before);
    machine.yandro(&["adopt", "crew.test"]).succeeds();
    assert_eq!(crew(), None);
    // However short a history is kept, the text of what was taken over is in it.
    fs::write(machine.path("home/.config/yandro/settings.toml"), "[history]\nnumber = 1\n").unwrap();
    for command in ["map", "unmap", "map"] {
        machine
            .yandro(&[&[command, "tides.test"][..], if command == "map" { &["./saltmarsh"] } else { &[] }].concat())
            .succeeds();
    }
    machine.yandro(&["uninstall", "--yes"]).succeeds();
    assert_eq!(crew(), before);
}
