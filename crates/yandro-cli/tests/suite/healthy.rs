//! Sites that are well, as people have them: whatever a project does with its requests, `map` takes it, and
//! `check` finds nothing.

use super::causes::{background, shell};
use super::kit::Background;
use super::namespace::Namespace;

/// How a site is made: its name's first label, what a script puts into its folder, what it is mapped with.
struct Healthy(&'static str, &'static str, &'static str);

/// With either server.
const FOLDERS: &[Healthy] = &[
    Healthy("plain", "", ""),
    Healthy("aliases", "", "--alias www.@ --alias fähre.@ --alias a.very.long.name.of.a.harbour.on.the.tide.@"),
    Healthy("wildcard", "", "--cert-wildcard on"),
    Healthy("address", "", "--cert-address 127.0.0.1 --cert-address ::1"),
    Healthy("rsa", "", "--cert-key-kind rsa3072"),
    Healthy("short", "", "--cert-days 7"),
    Healthy("ports", "", "--http-port 8080 --https-port 8443"),
    Healthy("more-ports", "", "--http-port 80 --http-port 8081 --https-port 443 --https-port 8444"),
    Healthy("http-alone", "", "--https off"),
    Healthy("both", "", "--https both"),
    Healthy("public", "mkdir public; mv index.html public/", "--document-root public"),
    Healthy("no-index", "rm index.html; echo a > tides.txt", ""),
    Healthy("other-index", "mv index.html tides.htm", "--index tides.htm --listing off"),
    Healthy("well-known", "mkdir .well-known; echo a > .well-known/security.txt", ""),
    Healthy("published", "echo '<link rel=canonical href=https://www.saltmarsh-ferries.com/>' > index.html", ""),
    Healthy("base", "echo '<base href=/app/><link rel=canonical href=/tides>' > index.html", ""),
    Healthy("own-base", "echo \"<base href='https://own-base.saltmarsh.test/'>\" > index.html", ""),
    Healthy("words", "echo 'see http://localhost:3000/ and <?xml version=1.0?>' > index.html", ""),
    Healthy("large", "head -c 3000000 /dev/zero | tr '\\0' x > index.html", ""),
    Healthy("empty", ": > index.html", ""),
    Healthy("one-page", "mkdir js; echo 1 > js/a.js", "--fallback index.html"),
    Healthy("linked", "mv index.html ../real.html; ln -s ../real.html index.html", ""),
    Healthy("grouped", "chgrp www-data . index.html; chmod 750 .; chmod 640 index.html", ""),
    Healthy("my_names", "", "--alias other_one.@"),
    Healthy(
        "scripts",
        "echo '<script>let a = \"<base href=http://localhost/>\"; </script><a href=http://www.saltmarsh-ferries.com/>us</a>' > index.html",
        "",
    ),
    Healthy("no-page-yet", "mkdir css; mv index.html css/", ""),
    Healthy("listing-title", "echo '<title>Index of /tides</title>' > index.html", ""),
    Healthy("binary", "head -c 4000 /dev/urandom > index.html", ""),
    Healthy("utf-16", "echo tides | iconv -t UTF-16 > index.html", ""),
];

/// Files of the project that Apache httpd reads.
const OVERRIDES: &[Healthy] = &[
    Healthy("dot-403", "printf 'RewriteEngine on\\nRewriteRule \"(^|/)\\.\" - [F]\\n' > .htaccess", ""),
    Healthy("dot-404", "printf 'RedirectMatch 404 \"(^|/)\\.\"\\n' > .htaccess", ""),
    Healthy(
        "one-name",
        "printf 'RewriteEngine on\\nRewriteCond %%{HTTP_HOST} !^www\\.\\nRewriteRule ^(.*)$ https://www.%%{HTTP_HOST}/$1 [R=301,L]\\n' > .htaccess",
        "--alias www.@",
    ),
    Healthy(
        "secure",
        "printf 'RewriteEngine on\\nRewriteCond %%{HTTPS} off\\nRewriteRule (.*) https://%%{HTTP_HOST}%%{REQUEST_URI} [R=301,L]\\n' > .htaccess",
        "",
    ),
    Healthy(
        "front",
        "mv index.html front.html; printf 'RewriteEngine on\\nRewriteCond %%{REQUEST_FILENAME} !-f\\nRewriteRule ^ front.html [L]\\n' > .htaccess",
        "",
    ),
    Healthy(
        "to-page",
        "mkdir app; cp index.html app/; printf 'RedirectMatch 302 ^/$ /app/?tide=low\\n' > .htaccess",
        "",
    ),
    Healthy(
        "cookie",
        "printf 'RewriteEngine on\\nRewriteCond %%{HTTP_COOKIE} !seen\\nRewriteRule ^$ / [R=302,L,CO=seen:1:cookie.saltmarsh.test]\\n' > .htaccess",
        "",
    ),
    Healthy("local", "printf 'Require local\\n' > .htaccess", ""),
    Healthy("files", "printf '<Files \".env\">\\nRequire all denied\\n</Files>\\n' > .htaccess", ""),
    Healthy(
        "password",
        "printf 'AuthType Basic\\nAuthName tides\\nAuthUserFile /dev/null\\nRequire valid-user\\n' > .htaccess",
        "",
    ),
    Healthy(
        "hurried",
        "printf 'RedirectMatch 404 \"(^|/)\\.\"\\n' > .htaccess; echo 'KeepAlive off' > extra",
        "--extra extra",
    ),
    Healthy("gone", "printf 'ErrorDocument 404 /index.html\\nOptions -Indexes\\n' > .htaccess", ""),
    Healthy(
        "retry",
        "printf 'RewriteEngine on\\nRewriteRule ^ - [R=503,L]\\nHeader always set Retry-After 120\\n' > .htaccess",
        "",
    ),
    Healthy(
        "endings",
        "printf 'Require all denied\\n<FilesMatch \"(^$|\\.(html|css|js|png))$\">\\nRequire all granted\\n</FilesMatch>\\n' > .htaccess",
        "",
    ),
    Healthy(
        "browsers",
        "printf 'SetEnvIfNoCase User-Agent mozilla is_browser\\nRequire env is_browser\\n' > .htaccess",
        "",
    ),
    Healthy(
        "no-robots",
        "printf 'RewriteEngine on\\nRewriteCond %%{HTTP_USER_AGENT} (curl|wget|python|bot) [NC]\\nRewriteRule ^ - [F]\\n' > .htaccess",
        "",
    ),
    Healthy(
        "no-hotlinks",
        "printf 'RewriteEngine on\\nRewriteCond %%{HTTP_REFERER} !^$\\nRewriteRule \\.(png|jpg)$ - [F]\\n' > .htaccess",
        "",
    ),
    Healthy(
        "languages",
        "mv index.html index.html.en; cp index.html.en index.html.de; printf 'Options +MultiViews\\nAddLanguage en .en\\nAddLanguage de .de\\n' > .htaccess",
        "",
    ),
    Healthy(
        "headers",
        "printf 'Header set Strict-Transport-Security max-age=300\\nHeader set Content-Security-Policy \"default-src self\"\\nHeader unset ETag\\nFileETag None\\n' > .htaccess",
        "",
    ),
    Healthy(
        "to-language",
        "mkdir de; cp index.html de/; printf 'RewriteEngine on\\nRewriteRule ^$ /de/ [R=302,L]\\n' > .htaccess",
        "",
    ),
    Healthy(
        "old-rules",
        "printf 'Order allow,deny\\nAllow from all\\n<Files \"*.log\">\\nDeny from all\\n</Files>\\n' > .htaccess",
        "",
    ),
    Healthy("no-directories", "mkdir vendor; printf 'RedirectMatch 403 ^/vendor\\n' > .htaccess", ""),
];

/// Further directives of the user for nginx.
const EXTRA: &[Healthy] = &[
    Healthy("dot-403", "echo 'location ~ /\\. { deny all; }' > extra", "--extra extra"),
    Healthy("dot-404", "echo 'location ~ /\\. { return 404; }' > extra", "--extra extra"),
    Healthy(
        "one-name",
        "echo 'if ($host = one-name.saltmarsh.test) { return 301 https://www.$host$request_uri; }' > extra",
        "--alias www.@ --extra extra",
    ),
    Healthy(
        "to-page",
        "mkdir app; cp index.html app/; echo 'location = / { return 302 /app/; }' > extra",
        "--extra extra",
    ),
    Healthy("password", "echo 'auth_basic tides; auth_basic_user_file /dev/null;' > extra", "--extra extra"),
    Healthy("hurried", "echo 'keepalive_timeout 0; location ~ /\\. { deny all; }' > extra", "--extra extra"),
    Healthy("local", "echo 'allow 127.0.0.0/8; allow ::1; deny all;' > extra", "--extra extra"),
    Healthy("retry", "echo 'add_header Retry-After 120 always; return 503;' > extra", "--extra extra"),
    Healthy(
        "endings",
        "echo 'location ~ [.](html|css|js|png)$ { } location = / { } location ~ . { return 403; }' > extra",
        "--extra extra",
    ),
    Healthy("browsers", "echo 'if ($http_user_agent !~ Mozilla) { return 403; }' > extra", "--extra extra"),
    Healthy(
        "no-robots",
        "echo 'if ($http_user_agent ~* (curl|wget|python|bot)) { return 403; }' > extra",
        "--extra extra",
    ),
    Healthy("rate", "echo 'limit_req zone=tides;' > extra", "--extra extra"),
    Healthy("rate-429", "echo 'limit_req zone=tides; limit_req_status 429;' > extra", "--extra extra"),
    Healthy(
        "headers",
        "echo 'add_header Strict-Transport-Security max-age=300; etag off; charset utf-8;' > extra",
        "--extra extra",
    ),
    Healthy(
        "to-language",
        "mkdir de; cp index.html de/; echo 'location = / { return 302 /de/; }' > extra",
        "--extra extra",
    ),
    Healthy("no-directories", "mkdir vendor; echo 'location ^~ /vendor { return 403; }' > extra", "--extra extra"),
    Healthy(
        "own-errors",
        "echo 'error_page 404 /index.html; location = /tides { internal; }' > extra",
        "--extra extra",
    ),
];

/// Upstreams, each by the rule that it answers by.
const UPSTREAMS: &[(&str, &str)] = &[
    ("app", "self.answer(200, b'tides')"),
    ("varies", "self.answer(200, os.urandom(8).hex().encode())"),
    ("login", "self.answer(200, b'login') if self.path == '/login' else self.answer(302, b'', ('Location', '/login'))"),
    ("guarded", "self.answer(401, b'', ('WWW-Authenticate', 'Basic realm=tides'))"),
    (
        "absolute",
        "host = self.headers.get('X-Forwarded-Host', self.headers['Host']); self.answer(200, b'in') if self.path == '/in' else self.answer(302, b'', ('Location', self.headers['X-Forwarded-Proto'] + '://' + host + '/in'))",
    ),
    (
        "session",
        "has = 'sid=' in self.headers.get('Cookie', ''); self.answer(200, b'in') if has else self.answer(302, b'', ('Location', '/'), ('Set-Cookie', 'sid=1; Path=/; HttpOnly'))",
    ),
    ("api", "self.answer(404, b'{}')"),
    ("slow", "time.sleep(0.7); self.answer(200, b'tides')"),
    (
        "chunked",
        "self.protocol_version = 'HTTP/1.1'; self.send_response(200); self.send_header('Transfer-Encoding', 'chunked'); self.end_headers(); self.wfile.write(b'5\\r\\ntides\\r\\n0\\r\\n\\r\\n')",
    ),
    ("later", "self.answer(503, b'', ('Retry-After', '120'))"),
    ("too-many", "self.answer(429, b'')"),
    ("elsewhere", "self.answer(302, b'', ('Location', 'https://login.saltmarsh.test/login?next=1'))"),
    ("json-error", "self.answer(404, b'{\"error\": 1}', ('Content-Type', 'application/json'))"),
    ("forbidden-root", "self.answer(403, b'no')"),
    ("accepted", "self.answer(202, b'{}')"),
    ("no-content", "self.answer(204, b'')"),
    (
        "own-headers",
        "self.answer(200, b'tides', ('Strict-Transport-Security', 'max-age=300'), ('Server', 'tides'), ('Set-Cookie', 'a=1'))",
    ),
    ("by-name", "self.answer(200 if self.headers['Host'].startswith('by-name.') else 404, b'tides')"),
];

/// A server for each, from port 3000 on.
fn upstreams(machine: &Namespace) -> Background {
    let rules: Vec<String> = UPSTREAMS
        .iter()
        .map(|(name, rule)| format!("class {}(H):\n    def do_GET(self): {rule}", name.replace('-', "_")))
        .collect();
    let names: Vec<String> = UPSTREAMS.iter().map(|(name, _)| name.replace('-', "_")).collect();
    background(
        machine,
        &format!(
            "import http.server, os, threading, time
class H(http.server.BaseHTTPRequestHandler):
    def answer(self, status, body, *headers):
        self.send_response(status)
        for header in headers: self.send_header(*header)
        self.send_header('Content-Length', str(len(body))); self.end_headers(); self.wfile.write(body)
    def log_message(self, *words): pass
{}
http.server.ThreadingHTTPServer.allow_reuse_address = True
servers = [http.server.ThreadingHTTPServer(('127.0.0.1', 3000 + at), own) for at, own in enumerate([{}])]
for server in servers: threading.Thread(target=server.serve_forever).start()
READY",
            rules.join("\n"),
            names.join(", ")
        ),
    )
}

/// The text below the table.
fn findings(stdout: &str) -> &str {
    stdout.split_once("\n\n").map_or(stdout, |(_, rest)| rest)
}

fn all_are_well(server: &str, own: &[&[Healthy]], at_least: usize) {
    let Some(machine) = Namespace::new(&["nginx", "python3", "openssl"]) else { return };
    shell(
        &machine,
        "ln -sf ../mods-available/rewrite.load ../mods-available/auth_basic.load ../mods-available/authn_core.load ../mods-available/authn_file.load ../mods-available/authz_user.load /etc/apache2/mods-enabled/",
    );
    let _upstreams = upstreams(&machine);
    shell(
        &machine,
        "echo 'limit_req_zone $server_name zone=tides:1m rate=6r/m;' > /etc/nginx/conf.d/tides.conf; ln -sf ../mods-available/headers.load ../mods-available/access_compat.load /etc/apache2/mods-enabled/",
    );
    let mut sites = 0;
    let mut map = |name: &str, content: &str, arguments: &str| {
        let host = format!("{name}.saltmarsh.test");
        let arguments = arguments.replace('@', &host);
        let mut all = vec!["map", &host, content, "--server", server, "--json"];
        all.extend(arguments.split_whitespace());
        let ran = machine.yandro(&all);
        assert!(ran.status == 0 && ran.stdout.contains("\"findings\":[]"), "{server} {name}: {ran}");
        sites += 1;
    };
    for Healthy(name, make, arguments) in own.iter().copied().flatten() {
        // Blanks and letters beyond ASCII occur.
        let folder = format!("fähren {name}");
        shell(&machine, &format!("mkdir '{folder}'; cd '{folder}'; echo '<h1>{name}</h1>' > index.html; {make}"));
        let extra = machine.path(&format!("extra-{name}"));
        let with_extra = arguments.replace("extra extra", &format!("extra {}", extra.display()));
        if with_extra != *arguments {
            shell(&machine, &format!("mv '{folder}/extra' {}", extra.display()));
        }
        map(name, &format!("./{folder}"), &with_extra);
    }
    for (at, (name, _)) in UPSTREAMS.iter().enumerate() {
        map(name, &format!("http://127.0.0.1:{}", 3000 + at), "");
    }
    assert!(sites >= at_least, "{sites}");
    for _ in 0..3 {
        let ran = machine.yandro(&["check", "--json"]);
        let is_well = ran.status == 0 && !ran.stdout.contains("\"code\"");
        assert!(is_well, "{server}: {}", findings(&machine.yandro(&["check"]).stdout));
    }
    // Sites that can't be proven say so.
    let told: serde_json::Value = serde_json::from_str(&machine.yandro(&["check", "--json"]).stdout).unwrap();
    let names = told["sites"].as_array().unwrap().iter().flat_map(|site| site["names"].as_array().unwrap());
    let unproven: Vec<&str> =
        names.filter(|name| name["proven"] == false).map(|name| name["name"].as_str().unwrap()).collect();
    let limited: &[&str] = if server == "nginx" { &["rate.saltmarsh.test", "rate-429.saltmarsh.test"] } else { &[] };
    let usual = ["password", "retry", "varies"].map(|name| format!("{name}.saltmarsh.test"));
    let expected = |name: &&str| usual.iter().any(|own| own == name) || limited.contains(name);
    assert!(unproven.iter().all(expected) && unproven.len() >= usual.len(), "{server}: {unproven:?}");
    let left = machine.run("find", &[".", "-name", "yandro-proof*"]).stdout;
    assert_eq!(left, "", "no proof file is left");
}

#[test]
fn nothing_is_found_on_healthy_sites_of_apache_httpd() {
    all_are_well("apache", &[FOLDERS, OVERRIDES], 69);
}

#[test]
fn nothing_is_found_on_healthy_sites_of_nginx() {
    all_are_well("nginx", &[FOLDERS, EXTRA], 64);
}
