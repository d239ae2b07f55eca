//! Causes of PHP's server, with either web server.

use super::{Cause, background, shell};

/// With either server.
pub(super) const PHP: &[Cause] = &[
    ("php-down", |m| shell(m, "php_site; rm /run/php/*.sock")),
    ("php-down", |m| shell(m, "php_site; php_end")),
    ("php-down", |m| shell(m, "php_site; pkill -KILL php-fpm; sleep 0.2")),
    ("php-down", |m| {
        // It has moved to a port.
        shell(m, "php_site; php_end; sed -i 's/^listen = .*/listen = 127.0.0.1:9000/' $(pool); php_start; opened 9000")
    }),
    ("php-down", |m| {
        // The site is for a version that isn't there.
        shell(
            m,
            "php_site; sed -i 's#php[0-9.]*-fpm.sock#php8.1-fpm.sock#' $(site) $HOME/.config/yandro/sites.toml; reload",
        )
    }),
    ("php-forbidden", |m| {
        shell(m, "php_site; php_end; sed -i 's/^listen.\\(owner\\|group\\) = .*/listen.\\1 = root/' $(pool); php_start")
    }),
    ("php-busy", |m| {
        let one = "sed -i 's/^pm.max_children.*/pm.max_children = 1/;s/^pm = .*/pm = static/' $(pool)";
        shell(m, &format!("{one}; php_site; echo '<?php sleep(60);' > saltmarsh/slow.php"));
        vec![background(m, TWO)]
    }),
    // The page never ends, and others would.
    ("php-busy", |m| shell(m, "php_site; echo '<?php sleep(60);' > saltmarsh/index.php")),
    ("php-source", |m| shell(m, "php_site; sed -i '/SetHandler/d;/fastcgi_pass/d' $(site); reload")),
    ("php-source", |m| {
        shell(
            m,
            "php_start; rm saltmarsh/index.html; echo '<?php echo 1;' > saltmarsh/index.php; [ $(server) = apache ] || set_extra 'default_type text/plain; index index.php;'",
        )
    }),
];

/// With Apache httpd, which has modules for it.
pub(super) const PHP_APACHE: &[Cause] = &[
    ("php-source", |m| shell(m, "php_site; rm /etc/apache2/mods-enabled/proxy_fcgi.load; apache2ctl graceful")),
    ("php-source", |m| shell(m, "php_site; rm /etc/apache2/mods-enabled/proxy*; apache2ctl graceful")),
];

/// Two requests that take a minute.
const TWO: &str = "import socket, ssl, time
held = []
for _ in range(2):
    s = ssl._create_unverified_context().wrap_socket(socket.create_connection(('127.0.0.1', 443)), server_hostname='saltmarsh.test')
    s.send(b'GET /slow.php HTTP/1.1\\r\\nHost: saltmarsh.test\\r\\n\\r\\n'); held.append(s)
READY
time.sleep(600)";
