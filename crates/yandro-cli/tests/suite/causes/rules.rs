//! Causes by lines of the configuration that answer in the place of the site's folder, and servers that don't answer.

use super::{Cause, background, shell};

/// With Apache httpd.
pub(super) const RULES_APACHE: &[Cause] = &[
    ("access-denied", |m| shell(m, "httpd_lines '<Location />' 'Require all denied' '</Location>'")),
    ("access-denied", |m| shell(m, "httpd_lines '<Location />' 'Require ip 10.0.0.0/8' '</Location>'")),
    ("access-denied", |m| shell(m, "httpd_lines '<LocationMatch \"^/\">' 'Require all denied' '</LocationMatch>'")),
    ("access-denied", |m| shell(m, "httpd_lines '<Files index.html>' 'Require all denied' '</Files>'")),
    ("access-denied", |m| {
        shell(m, "httpd_lines \"<If \\\"%{HTTP_HOST} == 'saltmarsh.test'\\\">\" 'Require all denied' '</If>'")
    }),
    ("access-denied", |m| shell(m, "httpd_lines '<Location />' 'Order deny,allow' 'Deny from all' '</Location>'")),
    ("access-denied", |m| shell(m, "in_host 'RewriteEngine on' 'RewriteRule ^ - [F]'")),
    ("access-denied", |m| shell(m, "printf 'Redirect gone /\\n' > saltmarsh/.htaccess")),
    ("access-denied", |m| {
        // The index page is a symbolic link.
        let link = "mkdir real; mv saltmarsh/index.html real/; ln -s ../real/index.html saltmarsh/index.html";
        shell(m, &format!("{link}; sed -i 's/Options .*/Options SymLinksIfOwnerMatch/' $(site); reload"))
    }),
    ("client-certificate", |m| {
        shell(m, "in_host 'SSLVerifyClient require' \"SSLCACertificateFile $authority/root.pem\"")
    }),
    ("tls-version", |m| {
        shell(
            m,
            "sed -i 's/SSLProtocol .*/SSLProtocol -all +TLSv1.1/;s/SSLCipherSuite .*/SSLCipherSuite ALL:@SECLEVEL=0/' $(site); reload",
        )
    }),
    ("tls-plain", |m| {
        // The first virtual host of the address decides.
        shell(
            m,
            "printf '<VirtualHost *:443>\\nServerName harbour.test\\n</VirtualHost>\\n' > /etc/apache2/sites-enabled/000-aa.conf; reload",
        )
    }),
    ("index-missing", |m| shell(m, "in_host 'DirectoryIndex tides.html'; reload")),
    ("index-missing", |m| shell(m, "printf 'DirectoryIndex disabled\\n' > saltmarsh/.htaccess")),
    ("server-silent", |m| shell(m, "pkill -STOP apache2")),
    ("server-silent", |m| {
        let few = "printf '<IfModule mpm_event_module>\\nStartServers 1\\nServerLimit 1\\nThreadsPerChild 2\\nMaxRequestWorkers 2\\nMinSpareThreads 1\\nMaxSpareThreads 2\\n</IfModule>\\n' > /etc/apache2/conf-enabled/zz.conf; rm -f /etc/apache2/mods-enabled/reqtimeout*; apache2ctl stop; gone; apache2ctl start; opened 80";
        shell(m, few);
        let held = background(m, SLOW);
        // It notices once a second.
        shell(m, "eventually 'grep -q MaxRequestWorkers /var/log/apache2/error.log'");
        vec![held]
    }),
];

/// With nginx.
pub(super) const RULES_NGINX: &[Cause] = &[
    ("access-denied", |m| shell(m, "in_block 'location = / { return 403; }'")),
    ("access-denied", |m| shell(m, "in_block 'return 403;'")),
    ("access-denied", |m| shell(m, "in_block 'return 503;'")),
    ("access-denied", |m| shell(m, "in_block 'return 444;'")),
    ("access-denied", |m| shell(m, "in_block 'location = /index.html { internal; deny all; }'")),
    ("access-denied", |m| shell(m, "in_block 'if ($host = saltmarsh.test) { return 403; }'")),
    ("access-denied", |m| {
        shell(
            m,
            "echo 'location = /index.html { return 403; }' > /etc/nginx/snippets/tide.conf; in_block 'include snippets/tide.conf;'",
        )
    }),
    ("access-denied", |m| {
        let link = "mkdir real; mv saltmarsh/index.html real/; ln -s ../real/index.html saltmarsh/index.html";
        shell(m, &format!("{link}; in_block 'disable_symlinks on;'"))
    }),
    ("client-certificate", |m| {
        shell(m, "in_block \"ssl_verify_client on; ssl_client_certificate $authority/root.pem;\"")
    }),
    ("index-missing", |m| shell(m, "sed -i 's/index index.*/index tides.html;/' $(site); reload")),
    ("server-silent", |m| shell(m, "pkill -STOP nginx")),
];

/// Many connections that never send a whole request.
const SLOW: &str = "import socket, time
held = []
for _ in range(16):
    s = socket.create_connection(('127.0.0.1', 80)); s.send(b'GET / HTTP/1.1\\r\\nHost: saltmarsh.test\\r\\nContent-Length: 9\\r\\n'); held.append(s)
READY
time.sleep(600)";
