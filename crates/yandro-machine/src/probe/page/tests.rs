//! Redirects and proofs against a server that is made up for each case.

use camino::Utf8Path;
use proptest::prelude::*;
use tokio::io::{AsyncBufReadExt as _, AsyncWriteExt as _, BufReader, DuplexStream};
use yandro_core::Content;

use super::*;

/// An answer: status, `Location`, a cookie that it sets, a body.
type Page = (u16, Option<String>, Option<&'static str>, Vec<u8>);

/// Answers each request by its path and its cookies, until the other side is gone, or only one.
async fn serve(stream: DuplexStream, is_short: bool, answer: impl Fn(&str, &str) -> Page) {
    let (read, mut write) = tokio::io::split(stream);
    let mut lines = BufReader::new(read).lines();
    let (mut path, mut cookies) = (String::new(), String::new());
    while let Ok(Some(line)) = lines.next_line().await {
        if let Some(rest) = line.strip_prefix("GET ") {
            rest.split(' ').next().unwrap().clone_into(&mut path);
            cookies.clear();
        } else if let Some(rest) = line.strip_prefix("cookie: ") {
            rest.clone_into(&mut cookies);
        } else if line.is_empty() {
            let (status, location, cookie, body) = answer(&path, &cookies);
            let mut head = format!("HTTP/1.1 {status} x\r\ncontent-length: {}\r\n", body.len());
            head += &location.map(|to| format!("location: {to}\r\n")).unwrap_or_default();
            head += &cookie.map(|own| format!("set-cookie: {own}; Path=/\r\n")).unwrap_or_default();
            if write.write_all(&[head.as_bytes(), b"\r\n", &body].concat()).await.is_err() || is_short {
                return;
            }
        }
    }
}

fn site() -> Site {
    let name = |text: &str| HostName::parse(text).unwrap();
    let site = Site::new(name("saltmarsh.test"), Content::folder("/srv/saltmarsh"));
    Site { aliases: vec![name("www.saltmarsh.test")], ..site }
}

/// Asks such a server for the page and the proof of a site; it may end each connection behind its first answer.
fn fetched(
    evidence: &ProofEvidence,
    is_short: bool,
    answer: impl Fn(&str, &str) -> Page + Clone + Send + Sync + 'static,
) -> Pages {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        let within = Limit::default();
        let anew = || async {
            let (here, there) = tokio::io::duplex(1 << 16);
            tokio::spawn(serve(there, is_short, answer.clone()));
            HttpSession::open(here, within).await
        };
        let session = anew().await.unwrap();
        let (site, name) = (site(), HostName::parse("saltmarsh.test").unwrap());
        let asked =
            AskedPage { name: &name, site: &site, scheme: "https", ports: &[443], evidence, is_brief: false, within };
        fetch(session, &asked, anew).await
    })
}

fn to(path: usize) -> String {
    if path == 0 { "/".to_owned() } else { format!("/{path}") }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// Each page leads to one more or to none; one of them may set a cookie and then let by who brings it. Whether
    /// that ends or goes round is what walking it says.
    #[test]
    fn redirects_end_or_go_round_as_they_do(
        leads in prop::collection::vec(prop::option::weighted(0.8, 0_usize..8), 8),
        setter in prop::option::of(0_usize..8),
        is_short: bool,
    ) {
        let next = {
            let leads = leads.clone();
            move |path: usize, has_cookie: bool| if setter == Some(path) && has_cookie { None } else { leads[path] }
        };
        let expected = {
            let (mut path, mut has_cookie, mut steps) = (0, false, 0);
            loop {
                let Some(on) = next(path, has_cookie) else { break Some(steps) };
                has_cookie |= setter == Some(path);
                (path, steps) = (on, steps + 1);
                if steps > 20 {
                    break None;
                }
            }
        };
        let pages = fetched(&ProofEvidence::None(Proof::UpstreamUnseen), is_short, move |path, cookies| {
            let path = path.trim_start_matches('/').parse().unwrap_or(0);
            let cookie = (setter == Some(path)).then_some("tide=low");
            match next(path, cookies.contains("tide=low")) {
                Some(on) => (302, Some(to(on)), cookie, Vec::new()),
                None => (200, None, cookie, b"a page".to_vec()),
            }
        });
        match (pages.trail.map(|trail| trail.seen), expected) {
            (None, Some(0)) => {}
            (Some(Trail::Ends(steps)), Some(wanted)) => prop_assert_eq!(steps, wanted),
            (Some(Trail::Loops(way)), None) => prop_assert!(way.len() <= 22, "{:?}", way),
            (trail, wanted) => prop_assert!(false, "{:?} for {:?}: {:?}", trail, wanted, leads),
        }
    }
}

#[test]
fn the_proof_goes_around_a_projects_own_rules() {
    let folder = tempfile::tempdir().unwrap();
    let root = Utf8Path::from_path(folder.path()).unwrap().to_owned();
    let file = |root: &Utf8Path, path: &str| std::fs::read(root.join(path.trim_start_matches('/')));
    let with = |rule: fn(&str) -> Option<Page>| {
        let (evidence, root) = (ProofEvidence::File(ProofFile::put(&root).unwrap()), root.clone());
        let answer = move |path: &str, _: &str| {
            let of_file = || match file(&root, path) {
                Ok(body) => (200, None, None, body),
                Err(_) => (404, None, None, Vec::new()),
            };
            rule(path).unwrap_or_else(of_file)
        };
        let [kept, short] =
            [false, true].map(|is_short| fetched(&evidence, is_short, answer.clone()).proof.unwrap().seen);
        assert_eq!(kept, short, "whether connections are kept or not");
        kept
    };
    assert_eq!(with(|_| None), Proof::Given);
    assert_eq!(with(|path| path.contains("/.").then(|| (403, None, None, Vec::new()))), Proof::Given);
    assert_eq!(with(|path| path.contains("/.").then(|| (404, None, None, Vec::new()))), Proof::Given);
    let www = |path: &str| Some((301, Some(format!("https://www.saltmarsh.test{path}")), None, Vec::new()));
    assert_eq!(with(www), Proof::LeadsTo(HostName::parse("www.saltmarsh.test").unwrap()));
    // Another place: the file is found under that path as well.
    std::fs::create_dir(root.join("en")).unwrap();
    std::os::unix::fs::symlink(root.join(".well-known"), root.join("en/.well-known")).unwrap();
    let moved = |path: &str| (!path.starts_with("/en")).then(|| (302, Some(format!("/en{path}")), None, Vec::new()));
    assert_eq!(with(moved), Proof::Given);
    for (rule, seen) in [
        ((|_| Some((401, None, None, Vec::new()))) as fn(&str) -> Option<Page>, Proof::Guarded),
        (|_| Some((403, None, None, Vec::new())), Proof::Status(403)),
        (|_| Some((200, None, None, b"all requests are mine".to_vec())), Proof::OtherContent),
        (|_| Some((302, Some("https://www.saltmarsh.test/".into()), None, Vec::new())), Proof::Status(302)),
        (|_| Some((302, Some("http://localhost/".into()), None, Vec::new())), Proof::Status(302)),
        (|path| Some((302, Some(format!("{path}x")), None, Vec::new())), Proof::OtherContent),
    ] {
        assert_eq!(with(rule), seen);
    }
    std::fs::remove_dir_all(root.join("en")).unwrap();
    assert_eq!(std::fs::read_dir(&root).unwrap().count(), 0, "nothing is left");
}
