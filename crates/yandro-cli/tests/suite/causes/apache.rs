//! Causes with Apache httpd.

use super::{Cause, listener, shell};

const SITE: &str = "sites-available/yandro-saltmarsh.test.conf";

/// With Apache httpd.
pub(super) const APACHE: &[Cause] = &[
    ("hosts-missing", |m| shell(m, "echo '127.0.0.1 localhost' > /etc/hosts")),
    ("hosts-elsewhere", |m| shell(m, "echo '10.9.9.9 saltmarsh.test' > /etc/hosts")),
    ("hosts-shadowed", |m| {
        shell(
            m,
            "printf '10.9.9.9 saltmarsh.test\\n' | cat - /etc/hosts > $HOME/.h && cat $HOME/.h > /etc/hosts; rm $HOME/.h",
        )
    }),
    ("resolver-order", |m| shell(m, "sed -i 's/^hosts:.*/hosts: dns/' /etc/nsswitch.conf")),
    ("server-down", |m| shell(m, "apache2ctl stop; gone")),
    ("configuration-broken", |m| shell(m, "apache2ctl stop; gone; echo 'Tide high' >> /etc/apache2/apache2.conf")),
    ("log-folder-missing", |m| {
        shell(
            m,
            "apache2ctl stop; gone; printf '<VirtualHost *:80>\\nServerName depot.test\\nErrorLog /var/log/ferries/error.log\\n</VirtualHost>\\n' > /etc/apache2/sites-enabled/zz.conf",
        )
    }),
    ("port-held", |m| {
        shell(m, "apache2ctl stop; gone");
        vec![listener(m, &[80, 443])]
    }),
    ("site-file-missing", |m| shell(m, &format!("rm /etc/apache2/{SITE} && apache2ctl graceful"))),
    ("site-not-enabled", |m| shell(m, "rm /etc/apache2/sites-enabled/*saltmarsh.test.conf && apache2ctl graceful")),
    ("sites-not-included", |m| shell(m, "sed -i '/sites-enabled/d' /etc/apache2/apache2.conf && apache2ctl graceful")),
    ("not-reloaded", |m| {
        shell(
            m,
            "cp -a /etc/apache2 $HOME/.kept; rm /etc/apache2/sites-enabled/*saltmarsh.test.conf; apache2ctl graceful; left; cp -a $HOME/.kept/sites-enabled/. /etc/apache2/sites-enabled/; touch -h /etc/apache2/sites-enabled/*saltmarsh.test.conf; rm -r $HOME/.kept",
        )
    }),
    ("port-not-listened", |m| {
        shell(m, "sed -i 's/^\\s*Listen 443.*//' /etc/apache2/ports.conf && apache2ctl restart; sleep 0.3")
    }),
    ("other-site-answers", |m| {
        let plain = r"printf '<VirtualHost *:80>\nServerName saltmarsh.test\n</VirtualHost>\n'";
        let plain = format!("{plain} >> /etc/apache2/sites-enabled/000-aa.conf");
        shell(m, &format!("httpd_host 'ServerName saltmarsh.test'; {plain}; apache2ctl graceful"))
    }),
    ("other-site-answers", |m| {
        // By a wildcard, and since it comes first.
        shell(m, "httpd_host 'ServerName harbour.test\nServerAlias *.test'; apache2ctl graceful")
    }),
    ("default-answers", |m| {
        shell(
            m,
            &format!(
                "sed -i 's/ServerName saltmarsh.test/ServerName tides.test/' /etc/apache2/{SITE} && apache2ctl graceful"
            ),
        )
    }),
    // Virtual hosts at one of the site's two addresses only: by address and port, by name, without a port.
    ("default-answers", |m| shell(m, "httpd_host_at 127.0.0.1:443 'ServerName harbour.test'; apache2ctl graceful")),
    ("default-answers", |m| shell(m, "httpd_host_at localhost:80 'ServerName harbour.test'; apache2ctl graceful")),
    ("default-answers", |m| shell(m, "httpd_host_at '[::1]:80' 'ServerName harbour.test'; apache2ctl graceful")),
    ("default-answers", |m| shell(m, "httpd_host_at 127.0.0.1 'ServerName harbour.test'; apache2ctl graceful")),
    ("module-off", |m| {
        shell(m, "apache2ctl stop; gone; rm /etc/apache2/mods-enabled/ssl.load /etc/apache2/mods-enabled/ssl.conf")
    }),
    ("answered-elsewhere", |m| {
        shell(
            m,
            &format!(
                "mkdir other; echo other > other/index.html; sed -i 's#/saltmarsh\"#/other\"#' /etc/apache2/{SITE}; reload"
            ),
        )
    }),
    ("access-denied", |m| shell(m, "printf 'Require all denied\\n' > saltmarsh/.htaccess")),
    ("access-denied", |m| {
        // Rules for some files come before, and are not reported.
        let lines = "<Files .env>\\nRequire all denied\\n</Files>\\nRewriteEngine on\\nRewriteRule ^ - [F]\\n";
        shell(
            m,
            &format!(
                "printf '{lines}' > saltmarsh/.htaccess; ln -sf ../mods-available/rewrite.load /etc/apache2/mods-enabled/; apache2ctl graceful"
            ),
        )
    }),
    ("proof-intercepted", |m| {
        let lines = "RewriteEngine on\\nRewriteRule !^index.html$ /index.html [L]\\n";
        shell(
            m,
            &format!(
                "printf '{lines}' > saltmarsh/.htaccess; ln -sf ../mods-available/rewrite.load /etc/apache2/mods-enabled/; apache2ctl graceful"
            ),
        )
    }),
    ("override-fault", |m| shell(m, "printf 'Tide high\\n' > saltmarsh/.htaccess")),
    ("redirect-loop", |m| {
        shell(
            m,
            "printf 'RewriteEngine on\\nRewriteRule ^a$ /b [R=302,L]\\nRewriteRule ^b$ /a [R=302,L]\\nRewriteRule ^$ /a [R=302,L]\\n' > saltmarsh/.htaccess; a2enmod -q rewrite 2>/dev/null; ln -sf ../mods-available/rewrite.load /etc/apache2/mods-enabled/; apache2ctl graceful",
        )
    }),
    ("redirect-loop", |m| {
        // Each of its names leads to the other.
        let lines = "RewriteEngine on\\nRewriteCond %%{HTTP_HOST} ^www\\nRewriteRule ^ https://saltmarsh.test%%{REQUEST_URI} [R=302,L]\\nRewriteRule ^ https://www.saltmarsh.test%%{REQUEST_URI} [R=302,L]\\n";
        shell(
            m,
            &format!(
                "yandro map saltmarsh.test --alias www.saltmarsh.test -q; printf '{lines}' > saltmarsh/.htaccess; ln -sf ../mods-available/rewrite.load /etc/apache2/mods-enabled/; apache2ctl graceful"
            ),
        )
    }),
    ("redirect-leaves", |m| {
        shell(
            m,
            "printf 'Redirect 302 /index.html http://localhost/\\nRedirectMatch 302 ^/$ http://localhost:8080/\\n' > saltmarsh/.htaccess",
        )
    }),
    ("page-leaves", |m| shell(m, "printf '<base href=\"http://old.saltmarsh.test/\">' > saltmarsh/index.html")),
    ("php-source", |m| shell(m, "rm saltmarsh/index.html; printf '<?php echo 1; ?>' > saltmarsh/index.php")),
    ("redirect-missing", |m| {
        shell(m, &format!("sed -i 's/^\\s*Redirect.*//;s/^\\s*Rewrite.*//' /etc/apache2/{SITE} && apache2ctl graceful"))
    }),
    ("redirect-loses-path", |m| {
        shell(
            m,
            &format!(
                "sed -i 's#^\\(\\s*\\)Rewrite.*#\\1RedirectMatch 307 .* https://saltmarsh.test/#;s#^\\(\\s*\\)Redirect .*#\\1RedirectMatch 307 .* https://saltmarsh.test/#' /etc/apache2/{SITE} && apache2ctl graceful"
            ),
        )
    }),
    ("redirect-elsewhere", |m| {
        shell(
            m,
            &format!(
                "sed -i 's#^\\(\\s*\\)Rewrite.*#\\1RedirectMatch 307 .* https://localhost/#;s#^\\(\\s*\\)Redirect .*#\\1RedirectMatch 307 .* https://localhost/#' /etc/apache2/{SITE} && apache2ctl graceful"
            ),
        )
    }),
    ("tls-off", |m| {
        shell(m, &format!("sed -i 's/SSLEngine on/SSLEngine off/' /etc/apache2/{SITE} && apache2ctl graceful"))
    }),
    ("tls-off", |m| {
        shell(m, "sed -i 's/SSLEngine on/SSLEngine off/' /etc/apache2/sites-available/*.conf && apache2ctl graceful")
    }),
    ("certificate-unknown", |m| {
        shell(m, "self_signed $certificates/key.pem $certificates/fullchain.pem; apache2ctl graceful")
    }),
    ("certificate-unknown", |m| {
        // The person has named another one.
        shell(
            m,
            &format!(
                "self_signed $HOME/k.pem $HOME/c.pem; sed -i \"s#SSLCertificateFile .*#SSLCertificateFile $HOME/c.pem#;s#SSLCertificateKeyFile .*#SSLCertificateKeyFile $HOME/k.pem#\" /etc/apache2/{SITE}; sleep 0.1; apache2ctl graceful"
            ),
        )
    }),
    ("certificate-name", |m| {
        shell(
            m,
            "cd $HOME && yandro cert issue tides.test --out tides -q && cp tides/* .local/share/yandro/certificates/saltmarsh.test/ && apache2ctl graceful",
        )
    }),
    ("not-reloaded", |m| {
        // The old certificate is still served.
        shell(
            m,
            "cd $HOME && sleep 0.1 && yandro cert issue saltmarsh.test --out tides -q && cp tides/* .local/share/yandro/certificates/saltmarsh.test/",
        )
    }),
    ("key-mismatch", |m| {
        shell(
            m,
            "cd $HOME && yandro cert issue saltmarsh.test --out tides -q && cp tides/key.pem .local/share/yandro/certificates/saltmarsh.test/ && (apache2ctl restart || true); sleep 0.3; pkill -x apache2 || true; sleep 0.3",
        )
    }),
    ("store-untrusting", |m| {
        shell(
            m,
            "mkdir -p $HOME/.pki/nssdb && certutil -N -d sql:$HOME/.pki/nssdb --empty-password && yandro authority trust --store system -q",
        )
    }),
    ("family-half", |m| {
        shell(
            m,
            "sed -i 's/^Listen 80.*/Listen 127.0.0.1:80/;s/^\\(\\s*\\)Listen 443.*/\\1Listen 127.0.0.1:443/' /etc/apache2/ports.conf; apache2ctl stop; gone; apache2ctl start; sleep 0.3",
        )
    }),
    ("address-gone", |m| {
        shell(
            m,
            "ip address add 10.7.0.2/24 dev lo && yandro map saltmarsh.test --address 10.7.0.2 -q && ip address del 10.7.0.2/24 dev lo",
        )
    }),
    ("authority-missing", |m| shell(m, "mv $HOME/.local/share/yandro/authority $HOME/gone")),
    ("resolver-bypassed", |m| {
        shell(
            m,
            "firefox_profile 'user_pref(\"network.trr.mode\", 3);\nuser_pref(\"network.trr.exclude-etc-hosts\", false);'",
        )
    }),
    ("confined", |m| {
        shell(
            m,
            "mkdir -p /var/log/audit; echo \"type=AVC msg=audit($(date +%s).000:1): apparmor=\\\"DENIED\\\" operation=\\\"open\\\" profile=\\\"apache2\\\" name=\\\"$PWD/saltmarsh/index.html\\\"\" > /var/log/kern.log; printf 'Require all denied\\n' > saltmarsh/.htaccess",
        )
    }),
];
