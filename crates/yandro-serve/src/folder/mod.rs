//! A site that is a folder: its files, indexes, listings, and PHP files.

mod conditions;
mod file;
mod listing;
#[cfg(target_os = "linux")]
mod quick;
mod rules;

use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

use camino::{Utf8Path, Utf8PathBuf};
use hyper::body::Incoming;
use hyper::header::{ALLOW, HeaderValue, LOCATION};
use hyper::http::request::Parts;
use hyper::{Method, Response, StatusCode};
use yandro_core::{Caching, Listing, Site};

use crate::body::{Body, drain, text};
use crate::compress::compressed;
use crate::fastcgi::{Php, Script};
use crate::respond::Asked;
use rules::{OpenFile, Opened, Rules, SitePath};

/// A folder that is slower than this is read on threads that may wait, so that other sites don't.
const SLOW: Duration = Duration::from_millis(2);
/// How many requests are answered so before it is tried directly again.
const WARY: u32 = 200;
/// The index names of a site that says none.
const INDEX: [&str; 2] = ["index.html", "index.htm"];

/// A folder with what its site says about serving it.
pub(crate) struct Folder {
    rules: Rules,
    /// The index names, the first that is there answers.
    index: Vec<String>,
    lists: bool,
    /// The path below the document root that answers for what is missing.
    fallback: Option<Utf8PathBuf>,
    php: Option<Php>,
    /// The value of `Cache-Control`.
    caching: HeaderValue,
    /// How many requests are still to be answered by threads that may wait.
    wary: AtomicU32,
}

/// The answer of the files: it is there, or a PHP file makes it.
enum Looked {
    Answer(Response<Body>),
    Run(Script),
}

impl Folder {
    /// The folder of a site; `None` for a site with an upstream. Files below `private` are never served.
    pub(crate) fn of(site: &Site, project: &Utf8Path, private: &[Utf8PathBuf]) -> Option<Self> {
        let (root, serving) = (site.document_root()?, &site.serving);
        let php = serving.php.as_ref().map(|address| Php::new(address, &root, &serving.variables));
        let mut index = serving.index.clone();
        if index.is_empty() {
            index.extend(php.iter().map(|_| "index.php".to_owned()));
            index.extend(INDEX.map(str::to_owned));
        }
        let caching = match serving.caching {
            Caching::Revalidate => "no-cache",
            Caching::Off => "no-store",
        };
        Some(Self {
            rules: Rules::new(root, project, serving.symlinks, private),
            index,
            lists: serving.listing == Listing::On,
            fallback: serving.fallback.as_ref().map(|path| path.trim_start_matches('/').into()),
            php,
            caching: HeaderValue::from_static(caching),
            wary: AtomicU32::new(0),
        })
    }

    /// The answer to a request.
    pub(crate) async fn answer(self: &Arc<Self>, asked: &Asked<'_>, body: Incoming) -> Response<Body> {
        let request = asked.request;
        match self.looked(request).await {
            Looked::Run(script) => {
                let php = self.php.as_ref().expect("only PHP files of a site with PHP are run");
                compressed(&request.headers, php.run(asked, &script, body).await).await
            }
            Looked::Answer(_) if ![Method::GET, Method::HEAD].contains(&request.method) => {
                drain(body).await;
                let mut refusal = text(StatusCode::METHOD_NOT_ALLOWED, "A file answers GET and HEAD only.\n");
                refusal.headers_mut().insert(ALLOW, HeaderValue::from_static("GET, HEAD"));
                refusal
            }
            Looked::Answer(answer) => compressed(&request.headers, answer).await,
        }
    }

    /// Looks for what answers: at once as long as the folder is quick, which saves two changes of threads for each request.
    async fn looked(self: &Arc<Self>, request: &Parts) -> Looked {
        let less = |wary: u32| wary.checked_sub(1);
        if self.wary.fetch_update(Ordering::Relaxed, Ordering::Relaxed, less).is_ok() {
            let (folder, request) = (self.clone(), request.clone());
            let look = tokio::task::spawn_blocking(move || folder.look(&request));
            return look.await.expect("looking for a file doesn't panic");
        }
        let began = Instant::now();
        let looked = self.look(request);
        if began.elapsed() > SLOW {
            self.wary.store(WARY, Ordering::Relaxed);
        }
        looked
    }

    fn look(&self, request: &Parts) -> Looked {
        let Some(path) = SitePath::read(request.uri.path()) else { return missing() };
        if let Some(found) = self.script(&path.below) {
            return found;
        }
        match self.rules.open(&path.below) {
            Opened::Withheld => missing(),
            Opened::File(file) if !path.of_folder => self.send(file, request),
            Opened::File(_) | Opened::Nothing => self.instead(request),
            Opened::Folder(_) if !path.of_folder && !path.below.as_str().is_empty() => with_slash(request),
            Opened::Folder(folder) => self.index(&path.below, &folder, request),
        }
    }

    /// What a path with a PHP file in it means: the first part that is one runs, with the rest for it.
    fn script(&self, below: &Utf8Path) -> Option<Looked> {
        let mut parts = below.components();
        let mut script = Utf8PathBuf::new();
        parts.by_ref().find(|part| {
            script.push(part.as_str());
            is_source(part.as_str())
        })?;
        let rest = parts.as_path().as_str();
        match self.rules.open(&script) {
            Opened::File(file) => Some(self.run(&script, file, rest)),
            Opened::Withheld => Some(missing()),
            // What is missing has the fallback; a folder may have any name.
            Opened::Nothing | Opened::Folder(_) => None,
        }
    }

    /// A PHP file that runs, if the site has PHP: its source is never sent.
    fn run(&self, script: &Utf8Path, file: OpenFile, rest: &str) -> Looked {
        let runs = [script, file.real()].iter().all(|path| path.extension() == Some("php"));
        if self.php.is_none() || !runs {
            return Looked::Answer(text(
                StatusCode::NOT_IMPLEMENTED,
                "This site runs no such file, and its source is not sent. To run PHP: yandro map NAME --php\n",
            ));
        }
        let with_slashes = |path: &str| format!("/{}", path.replace('\\', "/"));
        let info = if rest.is_empty() { String::new() } else { with_slashes(rest) };
        Looked::Run(Script { name: with_slashes(script.as_str()), file: file.path, info })
    }

    fn send(&self, file: OpenFile, request: &Parts) -> Looked {
        if is_source(file.real().as_str()) {
            // By a link with another name.
            return missing();
        }
        Looked::Answer(file::answer(&self.rules, file, request, &self.caching))
    }

    /// A folder's index, or its list.
    fn index(&self, below: &Utf8Path, folder: &Utf8Path, request: &Parts) -> Looked {
        for name in &self.index {
            let below = below.join(name);
            match self.rules.open(&below) {
                Opened::File(file) if is_source(name) => return self.run(&below, file, ""),
                Opened::File(file) => return self.send(file, request),
                Opened::Withheld => return missing(),
                Opened::Nothing | Opened::Folder(_) => {}
            }
        }
        if self.lists {
            return Looked::Answer(listing::answer(&self.rules, below, folder, &self.caching));
        }
        self.instead(request)
    }

    /// The answer for what is missing.
    fn instead(&self, request: &Parts) -> Looked {
        let Some(fallback) = &self.fallback else { return missing() };
        match self.rules.open(fallback) {
            Opened::File(file) if is_source(fallback.as_str()) => self.run(fallback, file, ""),
            Opened::File(file) => self.send(file, request),
            _ => Looked::Answer(text(
                StatusCode::NOT_FOUND,
                format!("There is no such file, and none at /{fallback}, which answers for missing ones.\n"),
            )),
        }
    }
}

/// Whether a file is PHP source, which must run or stay.
fn is_source(path: &str) -> bool {
    let ending = path.rsplit('.').next().unwrap_or_default();
    ["php", "phtml", "phar"].iter().any(|own| ending.eq_ignore_ascii_case(own)) && path.contains('.')
}

fn missing() -> Looked {
    Looked::Answer(text(StatusCode::NOT_FOUND, "There is no such file, or it is not served.\n"))
}

/// To the same path with a slash, which links on a folder's page need.
fn with_slash(request: &Parts) -> Looked {
    let path = request.uri.path().trim_start_matches('/');
    let query = request.uri.query().map(|query| format!("?{query}")).unwrap_or_default();
    let location = format!("/{path}/{query}");
    let mut answer = text(StatusCode::TEMPORARY_REDIRECT, format!("This folder is at {location}\n"));
    match HeaderValue::try_from(location) {
        Ok(location) => _ = answer.headers_mut().insert(LOCATION, location),
        Err(_) => return missing(),
    }
    Looked::Answer(answer)
}
