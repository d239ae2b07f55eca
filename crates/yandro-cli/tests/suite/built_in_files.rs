//! The files of a folder on the built-in server: indexes, listings, copies, compression, conditions.

use std::fs;
use std::time::{Duration, SystemTime};

use super::built_in::Served;
use super::kit::Ran;

impl Served {
    fn get(&self, more: &[&str], path: &str) -> String {
        self.curl(&[more, &[&self.url(path)]].concat()).stdout
    }

    /// The status and the headers, in lower case.
    fn headers(&self, more: &[&str], path: &str) -> String {
        self.get(&[&["--dump-header", "-", "--output", "/dev/null"], more].concat(), path).to_lowercase()
    }

    fn map_with(&self, options: &[&str]) -> Ran {
        self.sysroot.yandro(&[&["map", "saltmarsh.test"], options].concat())
    }
}

#[test]
fn folders_have_indexes_lists_and_a_fallback() {
    let Some(served) = Served::new() else { return };
    for (file, text) in [
        ("saltmarsh/quays/Oyster & <b>.txt", "oyster"),
        ("saltmarsh/quays/100%.txt", "all"),
        ("saltmarsh/quays/inner/tide.md", "x"),
        ("saltmarsh/quays/.env", "hidden"),
        ("saltmarsh/harbour/start.html", "start"),
    ] {
        served.sysroot.write(file, text);
    }
    std::os::unix::fs::symlink("/etc/passwd", served.sysroot.path("saltmarsh/quays/users")).unwrap();
    assert!(served.headers(&[], "/quays?a=b").contains("location: /quays/?a=b\r\n"));
    assert!(served.headers(&[], "//quays").contains("location: /quays/\r\n"));
    let page = served.get(&[], "/quays/");
    for there in [
        "<a href=\"./Oyster%20%26%20%3Cb%3E.txt\">Oyster &amp; &lt;b&gt;.txt</a>",
        "<a href=\"./inner/\">inner/</a>",
        "<a href=\"./100%25.txt\">",
        "<a href=\"../\">",
        ">6 B<",
    ] {
        assert!(page.contains(there), "{there} in {page}");
    }
    assert!(!page.contains(".env") && !page.contains("users"), "{page}");
    assert!(page.find("inner/").unwrap() < page.find(">100%").unwrap(), "folders first: {page}");
    // Each link leads to its file.
    assert_eq!(served.get(&[], "/quays/Oyster%20%26%20%3Cb%3E.txt"), "oyster");
    assert_eq!(served.get(&[], "/quays/100%25.txt"), "all");
    assert!(served.headers(&[], "/tides.css/").contains(" 404 "));

    let status = |path: &str| served.get(&["--output", "/dev/null", "--write-out", "%{http_code}"], path);
    // What is mapped is served when the command ends.
    served.map_with(&["--listing", "off"]).succeeds();
    assert_eq!(status("/quays/"), "404");
    let ran = served.map_with(&["--index", "start.html"]);
    assert_eq!(served.get(&[], "/harbour/"), "start");
    assert_eq!(status("/"), "404", "its index has another name now");
    assert!(ran.status == 1 && ran.stdout.contains("fix: yandro map saltmarsh.test --index index.html\n"), "{ran}");
    served.map_with(&["--fallback", "/harbour/start.html"]).succeeds();
    assert_eq!(served.get(&[], "/booking/7") + &served.get(&[], "/"), "startstart");
    assert_eq!(status("/harbour/nothing"), "200");
    served.map_with(&["--fallback", "/nowhere.html"]);
    assert!(served.get(&[], "/booking").contains("/nowhere.html"));
    served.map_with(&["--index", "off", "--fallback", "off"]).succeeds();
    assert!(served.get(&[], "/").contains("Saltmarsh Ferries"));
    let ran = served.sysroot.yandro(&["map", "saltmarsh.test", "--overrides", "off"]);
    assert!(ran.status == 2 && ran.stderr.contains("no `--overrides`"), "{ran}");
}

#[test]
fn answers_are_compressed_and_kept_as_the_standards_want() {
    let Some(served) = Served::new() else { return };
    let script = "let tide = 'high';\n".repeat(200);
    served.sysroot.write("saltmarsh/app.js", &script);
    let big = format!("{{\"tide\":\"{}\"}}", "x".repeat(3_000_000));
    served.sysroot.write("saltmarsh/big.json", &big);
    served.sysroot.write("saltmarsh/boat.png", &"p".repeat(5000));
    let gzip = ["--header", "Accept-Encoding: gzip, br"];
    for (path, whole) in [("/app.js", &script), ("/big.json", &big)] {
        for version in ["--http1.1", "--http2"] {
            let told = served.headers(&[&[version], &gzip[..]].concat(), path);
            assert!(told.contains("content-encoding: gzip") && !told.contains("content-length"), "{told}");
            assert!(told.contains("vary: accept-encoding") && told.contains("etag: w/\""), "{told}");
            assert_eq!(&served.get(&[version, "--compressed"], path), whole, "{path}");
        }
        let plain = served.headers(&[], path);
        assert!(plain.contains(&format!("content-length: {}", whole.len())) && !plain.contains("encoding: gzip"));
        assert_eq!(&served.get(&[], path), whole);
    }
    for (path, more) in
        [("/boat.png", &gzip[..]), ("/tides.css", &gzip[..]), ("/app.js", &["--header", "Accept-Encoding: gzip;q=0"])]
    {
        assert!(!served.headers(more, path).contains("content-encoding"), "{path}");
    }
    // A part is a part of the file itself.
    let part = served.get(&[&["--range", "4-7"], &gzip[..]].concat(), "/app.js");
    assert_eq!(part, "tide");
    let far = served.get(&["--range", "2999990-2999995", "--write-out", " %{http_code}"], "/big.json");
    assert_eq!(far, "xxxxxx 206");

    // A copy that was compressed before counts, unless it is older than the file.
    served.sysroot.write("saltmarsh/app.js.br", "brotli");
    served.sysroot.write("saltmarsh/app.js.gz", "gzipped");
    assert_eq!(served.get(&gzip, "/app.js"), "brotli");
    assert_eq!(served.get(&["--header", "Accept-Encoding: gzip"], "/app.js"), "gzipped");
    assert!(served.headers(&gzip, "/app.js").contains("content-encoding: br\r\n"));
    let file = fs::File::options().append(true).open(served.sysroot.path("saltmarsh/app.js")).unwrap();
    file.set_modified(SystemTime::now() + Duration::from_secs(5)).unwrap();
    assert!(served.headers(&gzip, "/app.js").contains("content-encoding: gzip"));

    // Browsers ask again each time; a change is seen at once, also within the second.
    let headers = served.headers(&[], "/tides.css");
    assert!(headers.contains("cache-control: no-cache"), "{headers}");
    let etag = headers.lines().find_map(|line| line.strip_prefix("etag: ")).unwrap().to_owned();
    let known = format!("If-None-Match: {etag}");
    let status = |known: &str| {
        served.get(&["--output", "/dev/null", "--write-out", "%{http_code}", "--header", known], "/tides.css")
    };
    assert_eq!(status(&known), "304");
    served.sysroot.write("saltmarsh/tides.css", "9876543210");
    assert_eq!((status(&known), served.get(&[], "/tides.css")), ("200".to_owned(), "9876543210".to_owned()));
    served.map_with(&["--caching", "off"]).succeeds();
    assert!(served.headers(&[], "/").contains("cache-control: no-store"));
    let (ran, list) =
        (served.sysroot.yandro(&["map", "saltmarsh.test", "--caching", "never"]), "home/ada/.config/yandro/sites.toml");
    assert!(ran.status == 2 && fs::read_to_string(served.sysroot.path(list)).unwrap().contains("caching = \"off\""));
}
