//! Causes with nginx.

use super::{Cause, listener, shell};

const BLOCK: &str = "/etc/nginx/sites-available/yandro-saltmarsh.test.conf";

/// With nginx.
pub(super) const NGINX: &[Cause] = &[
    ("server-down", |m| shell(m, "nginx -s stop; gone")),
    ("configuration-broken", |m| {
        shell(m, "nginx -s stop; gone; sed -i 's/^http {/http {\\ntide high;/' /etc/nginx/nginx.conf")
    }),
    ("log-folder-missing", |m| {
        shell(
            m,
            "nginx -s stop; gone; echo 'server { listen 81; access_log /var/log/ferries/access.log; }' > /etc/nginx/sites-enabled/zz.conf",
        )
    }),
    ("port-held", |m| {
        shell(m, "nginx -s stop; gone");
        vec![listener(m, &[80, 443])]
    }),
    ("site-file-missing", |m| {
        shell(m, &format!("rm {BLOCK} /etc/nginx/sites-enabled/*saltmarsh.test.conf && nginx -s reload"))
    }),
    ("site-not-enabled", |m| shell(m, "rm /etc/nginx/sites-enabled/*saltmarsh.test.conf && nginx -s reload")),
    ("sites-not-included", |m| shell(m, "sed -i '/sites-enabled/d' /etc/nginx/nginx.conf && nginx -s reload")),
    ("not-reloaded", |m| {
        shell(
            m,
            "cp -P /etc/nginx/sites-enabled/*saltmarsh.test.conf $HOME/; rm /etc/nginx/sites-enabled/*saltmarsh.test.conf; nginx -s reload; left; cp -P $HOME/*saltmarsh.test.conf /etc/nginx/sites-enabled/",
        )
    }),
    ("default-answers", |m| {
        shell(
            m,
            "echo 'server { listen localhost:80; server_name harbour.test; }' > /etc/nginx/conf.d/harbour.conf; nginx -s reload",
        )
    }),
    ("default-answers", |m| {
        shell(m, &format!("sed -i 's/server_name saltmarsh.test/server_name tides.test/' {BLOCK} && nginx -s reload"))
    }),
    ("page-leaves", |m| shell(m, "printf '<link rel=canonical href=https://localhost/>' > saltmarsh/index.html")),
    ("key-mismatch", |m| {
        shell(
            m,
            "cd $HOME && yandro cert issue saltmarsh.test --out tides -q && cp tides/key.pem .local/share/yandro/certificates/saltmarsh.test/; pkill -x nginx; sleep 1",
        )
    }),
    ("hosts-missing", |m| shell(m, "echo '127.0.0.1 localhost' > /etc/hosts")),
    ("port-not-listened", |m| {
        shell(
            m,
            &format!(
                "sed -i '/listen.*443/d' {BLOCK} /etc/nginx/sites-available/yandro-0.invalid.conf && nginx -s reload"
            ),
        )
    }),
    ("other-site-answers", |m| shell(m, "nginx_host 'server_name saltmarsh.test;'; nginx -s reload")),
    ("tls-off", |m| {
        shell(
            m,
            &format!(
                "sed -i 's/\\(listen.*443\\) ssl/\\1/' {BLOCK} /etc/nginx/sites-available/yandro-0.invalid.conf && nginx -s reload"
            ),
        )
    }),
    ("answered-elsewhere", |m| {
        shell(
            m,
            &format!(
                "mkdir other; echo other > other/index.html; sed -i '/root /s#/saltmarsh#/other#' {BLOCK}; reload"
            ),
        )
    }),
    ("access-denied", |m| {
        shell(m, &format!("sed -i 's/^\\(\\s*\\)allow 127/\\1deny all;\\n\\1allow 127/' {BLOCK} && nginx -s reload"))
    }),
    ("access-denied", |m| {
        // In an included file, for all sites without access rules.
        shell(
            m,
            "yandro map saltmarsh.test --only-here off -q; printf 'allow 10.0.0.0/8;\\ndeny all;\\n' > /etc/nginx/conf.d/ferries.conf; nginx -s reload",
        )
    }),
    ("proof-intercepted", |m| {
        shell(
            m,
            "printf 'location ~ .* {\\nreturn 200 tides;\\n}\\n' > more.conf; yandro map saltmarsh.test --extra ./more.conf -q || true",
        )
    }),
    ("redirect-loop", |m| {
        shell(
            m,
            &format!(
                "sed -i 's/^\\(\\s*\\)root /\\1rewrite ^\\/$ \\/a redirect; rewrite ^\\/a$ \\/b redirect; rewrite ^\\/b$ \\/a redirect;\\n\\1root /' {BLOCK} && nginx -s reload"
            ),
        )
    }),
    ("redirect-missing", |m| shell(m, &format!("sed -i 's/return 307.*/return 204;/' {BLOCK} && nginx -s reload"))),
    ("php-source", |m| {
        shell(
            m,
            "rm saltmarsh/index.html; printf '<?php echo 1; ?>' > saltmarsh/index.php; printf 'default_type text/plain; index index.php;\\n' > more.conf; yandro map saltmarsh.test --extra ./more.conf -q || true",
        )
    }),
    ("certificate-name", |m| {
        shell(
            m,
            "cd $HOME && yandro cert issue tides.test --out tides -q && cp tides/* .local/share/yandro/certificates/saltmarsh.test/ && nginx -s reload",
        )
    }),
    ("certificate-unknown", |m| {
        shell(m, "self_signed $certificates/key.pem $certificates/fullchain.pem; nginx -s reload")
    }),
    ("authority-missing", |m| shell(m, "mv $HOME/.local/share/yandro/authority $HOME/gone")),
];
