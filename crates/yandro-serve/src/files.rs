//! Static files.

use camino::Utf8Path;
use tower_http::services::ServeDir;

/// A service for the files below `root`: content types, `index.html`, HEAD,
/// conditional (`If-Modified-Since`) and range requests (RFC 9110). A path that leads
/// out of the folder by `..` is answered with 404.
pub(crate) fn of(root: &Utf8Path) -> ServeDir {
    ServeDir::new(root).append_index_html_on_directories(true)
}
