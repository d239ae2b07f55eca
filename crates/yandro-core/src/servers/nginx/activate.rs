//! Bringing nginx to include sites' files.

use crate::server_path::ServerPath;

use super::parse::{Piece, Pieces};
use super::run::NginxRun;
use super::syntax::NginxSyntax;
use crate::config::{FileImage, Files, Journal, Syntax as _, matches_path};
use crate::source::{self, Splice};

/// The main file with the include, and the line that was put in.
pub(crate) type Included = (Vec<u8>, Journal);

/// The files that sites share as they were read, and what they amount to.
#[derive(Clone, Debug, Default)]
pub struct NginxShared {
    main: ServerPath,
    image: FileImage,
    /// The configuration as the server reads it.
    pub configuration: NginxRun,
}

impl NginxShared {
    /// Runs through the configuration of a main file, and keeps what was read.
    pub fn of(main: &ServerPath, files: &dyn Files) -> Self {
        let (image, configuration) = FileImage::of(files, |files| NginxRun::run(main, files));
        Self { main: main.to_owned(), image, configuration }
    }

    /// The same with other content of a file.
    pub fn with(&self, path: &ServerPath, content: Vec<u8>) -> Self {
        let mut image = self.image.clone();
        image.set(path, content);
        let configuration = NginxRun::run(&self.main, &image);
        Self { main: self.main.clone(), image, configuration }
    }

    /// The main file.
    pub fn main(&self) -> &ServerPath {
        &self.main
    }

    /// The text of a file that it was read from.
    pub fn text(&self, path: &ServerPath) -> Option<&[u8]> {
        self.image.file(path)
    }

    /// Whether sites' files, given with a wildcard, are included in the `http` block.
    pub fn includes(&self, sites: &ServerPath) -> bool {
        let sample = sites.as_str().replace('*', "saltmarsh.test");
        self.configuration.includes.iter().any(|pattern| matches_path(pattern, &ServerPath::new(&sample)))
    }

    /// The main file with an `include` of sites' files at the end of its `http` block; `None` if
    /// it has no such block.
    pub fn include(&self, sites: &ServerPath) -> Option<Included> {
        let text = self.text(&self.main)?;
        let at = http_end(text)?;
        let eol = source::line_end(text);
        let is_line_start = at == 0 || text[..at].ends_with(b"\n");
        let include = NginxSyntax.directive("include", &[sites.to_string()]);
        let mut journal = Journal::default();
        let changed = if is_line_start {
            let changed = source::apply(text, &[Splice::insert(at, format!("\t{include}{eol}"))]);
            journal.put_down(&self.main, None, &changed, at);
            changed
        } else {
            // Within a line that holds more than the end of the block it is that line that changes.
            let line = source::lines(text).find(|line| line.full.contains(&at))?;
            let was = std::str::from_utf8(&text[line.text.clone()]).ok()?;
            let changed = source::apply(text, &[Splice::insert(at, format!("{include} "))]);
            journal.put_down(&self.main, Some(was), &changed, line.full.start);
            changed
        };
        let included = self.with(&self.main, changed.clone()).includes(sites);
        included.then_some((changed, journal))
    }
}

/// The start of the lines that end the first `http` block of a main file, if it can be read.
fn http_end(text: &[u8]) -> Option<usize> {
    let (mut pieces, mut around, mut end) = (Pieces::of(text), Vec::new(), None);
    while let Some(piece) = pieces.next().ok()? {
        match piece {
            Piece::Open => around.push(around.is_empty() && pieces.is("http")),
            Piece::Close if around.pop() == Some(true) => end = end.or_else(|| Some(pieces.close().start)),
            _ => {}
        }
    }
    end
}
