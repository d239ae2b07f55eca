//! A site as a folder for a container image: what is built into it or mounted, with the paths that
//! it has inside.
//!
//! The parts are open formats: a Dockerfile and a compose file.

mod texts;

use camino::Utf8PathBuf;

use crate::config::{ParseError, PathError, Published, ServerTraits, SiteFiles, site_file};
use crate::name::HostName;
use crate::plan::Access;
use crate::server_path::ServerPath;
use crate::site::{Content, FastCgi, ServerKind, Site, Upstream};

/// A request to pack a site.
#[derive(Debug)]
pub struct PackRequest<'r> {
    /// The site, as it is in the list.
    pub site: &'r Site,
    /// The kind of server in the image.
    pub kind: ServerKind,
    /// Under which ports of this machine the container is to be reached.
    pub published: &'r Published,
    /// The site's chain and key in PEM, if it has HTTPS.
    pub certificate: Option<(&'r [u8], &'r [u8])>,
    /// The authority's root certificate in PEM, if there is one.
    pub root: Option<&'r [u8]>,
    /// The file with further directives, if the site has one.
    pub extra: Option<&'r [u8]>,
}

/// A file of the packed folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PackedFile {
    /// Its path, relative to the folder.
    pub path: Utf8PathBuf,
    /// All bytes that it holds.
    pub content: Vec<u8>,
    /// Its readers.
    pub access: Access,
}

/// A packed site.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Packed {
    /// The files, but for those of the project.
    pub files: Vec<PackedFile>,
    /// The folder of the project whose files go into `site`, on this machine.
    pub project: Option<Utf8PathBuf>,
}

/// Why a site can't be packed.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PackError {
    /// A path that the configuration can't hold.
    #[error(transparent)]
    Path(#[from] PathError),
    /// It could not be written.
    #[error(transparent)]
    Written(#[from] ParseError),
    /// The upstream answers by itself.
    #[error("{0} speaks TLS itself: there is nothing that a web server could do for it")]
    OwnTls(String),
    /// A port of the site that nobody reaches.
    #[error("the site's port {0} is not published")]
    NotPublished(u16),
}

/// The folder of the project's files in the packed one.
pub const PROJECT: &str = "site";

/// The container's name for this machine, used for an upstream here.
const HOST: &str = "upstream";
/// The container with PHP, and the port of its php-fpm.
const PHP: &str = "php:9000";

/// Paths in the image.
struct Inside {
    project: ServerPath,
    certificates: ServerPath,
    virtual_hosts: &'static str,
    extra: ServerPath,
}

impl Inside {
    fn of(name: &HostName, kind: ServerKind) -> Self {
        Self {
            project: ServerPath::new("/srv").join(name.as_str()),
            certificates: "/etc/yandro/certificates".into(),
            virtual_hosts: kind.software().image().virtual_hosts,
            extra: "/etc/yandro/extra.conf".into(),
        }
    }
}

/// The files of a packed site.
///
/// # Errors
/// A [`PackError`] for a port that isn't published, and for paths that the server would read as
/// something else.
pub fn pack(request: &PackRequest<'_>) -> Result<Packed, PackError> {
    if request.site.own_tls().is_some() {
        return Err(PackError::OwnTls(request.site.content.to_string()));
    }
    let site = &inside_of(request.site);
    let inside = Inside::of(&site.name, request.kind);
    let mut ports = site.http_ports(80).into_iter().chain(site.https_ports(443));
    if let Some(port) = ports.find(|port| request.published.here(*port).is_none()) {
        return Err(PackError::NotPublished(port));
    }
    let (project, below) = project(site);
    let at = inside.certificates.join(site.name.as_str());
    let files = SiteFiles {
        list: None,
        document_root: project
            .as_ref()
            .map(|_| below.as_ref().map_or_else(|| inside.project.clone(), |below| inside.project.join(below))),
        certificate: at.join("fullchain.pem"),
        key: at.join("key.pem"),
        extra: request.extra.map(|_| inside.extra.clone()),
        logs: None,
        server: traits(request),
    };
    files.check(&site.serving)?;
    let mut packed: Vec<PackedFile> = Vec::new();
    let mut add = |path: String, content: Vec<u8>, access: Access| {
        packed.push(PackedFile { path: path.into(), content, access });
    };
    add(
        format!("virtual-hosts/{}.conf", site.name),
        site_file(request.kind.software().dialect(), None, None, (site, &files))?,
        Access::Public,
    );
    if let Some((name, text)) = request.kind.software().image_modules(site) {
        add(format!("virtual-hosts/{name}"), text.into_bytes(), Access::Public);
    }
    if let Some((chain, key)) = request.certificate {
        add(format!("certificates/{}/fullchain.pem", site.name), chain.to_vec(), Access::Private);
        add(format!("certificates/{}/key.pem", site.name), key.to_vec(), Access::Secret);
    }
    if let Some(root) = request.root {
        add("root.pem".into(), root.to_vec(), Access::Public);
    }
    if let Some(extra) = request.extra {
        add("extra.conf".into(), extra.to_vec(), Access::Public);
    }
    let parts = texts::Parts { request, site, inside: &inside, has_project: project.is_some() };
    add("Dockerfile".into(), parts.dockerfile().into_bytes(), Access::Public);
    add("compose.yaml".into(), parts.compose().into_bytes(), Access::Public);
    add("README.md".into(), parts.readme().into_bytes(), Access::Public);
    Ok(Packed { files: packed, project })
}

/// The site as it is within the container: what listens on this machine is reached by a name.
fn inside_of(site: &Site) -> Site {
    let mut site = site.clone();
    if let Content::Upstream(upstream) = &site.content
        && upstream.host_port().is_loopback()
    {
        let address = format!("http://{HOST}:{}", upstream.host_port().port());
        site.content = Content::Upstream(Upstream::parse(&address).expect("it is an address"));
    }
    if site.serving.php.is_some() {
        site.serving.php = FastCgi::parse(PHP).ok();
        site.serving.php_as_owner = None;
    }
    // The container's own logs are what its engine shows.
    site.serving.logs = crate::site::Logs::Usual;
    site.serving.by_address = false;
    // Requests come from outside the container.
    site.serving.only_here = false;
    site
}

/// The folder to pack, and the part of it that is served. With PHP the code next to the document root
/// is needed, too.
fn project(site: &Site) -> (Option<Utf8PathBuf>, Option<Utf8PathBuf>) {
    match &site.content {
        Content::Upstream(_) => (None, None),
        Content::Folder { folder, document_root } if site.serving.php.is_some() => {
            (Some(folder.clone()), document_root.clone())
        }
        Content::Folder { .. } => (site.document_root(), None),
    }
}

fn traits(request: &PackRequest<'_>) -> ServerTraits {
    ServerTraits {
        // An image has a server of today.
        upgrades: true,
        variable: request.kind.software().dialect().variable(),
        published: request.published.clone(),
        ..ServerTraits::default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn packed(site: &Site, kind: ServerKind) -> Packed {
        let published = Published::default();
        let certificate = site.https.is_on().then_some((&b"chain"[..], &b"key"[..]));
        pack(&PackRequest { site, kind, published: &published, certificate, root: Some(b"root"), extra: None }).unwrap()
    }

    fn text(packed: &Packed, path: &str) -> String {
        let file = packed.files.iter().find(|file| file.path == path).expect(path);
        String::from_utf8(file.content.clone()).unwrap()
    }

    #[test]
    fn php_and_an_upstream_are_reached_from_within() {
        let name = HostName::parse("saltmarsh.test").unwrap();
        let content = Content::Folder { folder: "/home/ada/saltmarsh".into(), document_root: Some("public".into()) };
        let mut site = Site::new(name.clone(), content);
        site.serving.php = Some(FastCgi::Socket("/run/php/php-fpm.sock".into()));
        let done = packed(&site, ServerKind::Nginx);
        // The code above the document root goes with it.
        assert_eq!(done.project.as_deref(), Some(camino::Utf8Path::new("/home/ada/saltmarsh")));
        let file = text(&done, "virtual-hosts/saltmarsh.test.conf");
        assert!(file.contains("root /srv/saltmarsh.test/public;") && file.contains("fastcgi_pass php:9000;"), "{file}");
        assert!(!file.contains("/home/ada"), "{file}");
        insta::assert_snapshot!(text(&done, "compose.yaml"), @r#"
        # A part of a compose file: take the services into yours, or use it as it is.
        services:
          saltmarsh-test:
            build: .
            ports:
              - "80:80"
              - "443:443"
            # In the place of what is built in, so that a change needs no new image.
            volumes:
              - ./certificates:/etc/yandro/certificates:ro
              - ./site:/srv/saltmarsh.test:ro
          php:
            image: php:fpm
            volumes:
              - ./site:/srv/saltmarsh.test:ro
        "#);

        let site = Site::new(name, Content::Upstream(Upstream::parse("http://127.0.0.1:3000").unwrap()));
        let done = packed(&site, ServerKind::Apache);
        assert_eq!(done.project, None);
        assert!(text(&done, "virtual-hosts/saltmarsh.test.conf").contains("http://upstream:3000/"));
        insta::assert_snapshot!(text(&done, "compose.yaml"), @r#"
        # A part of a compose file: take the services into yours, or use it as it is.
        services:
          saltmarsh-test:
            build: .
            ports:
              - "80:80"
              - "443:443"
            # In the place of what is built in, so that a change needs no new image.
            volumes:
              - ./certificates:/etc/yandro/certificates:ro
            # The machine that the container runs on, where the upstream listens.
            extra_hosts:
              - "upstream:host-gateway"
        "#);
        insta::assert_snapshot!(text(&done, "virtual-hosts/0-modules.conf"), @"
        # What the site needs beyond what the image has switched on
        <IfModule !ssl_module>
        	LoadModule ssl_module modules/mod_ssl.so
        </IfModule>
        <IfModule !rewrite_module>
        	LoadModule rewrite_module modules/mod_rewrite.so
        </IfModule>
        <IfModule !authz_core_module>
        	LoadModule authz_core_module modules/mod_authz_core.so
        </IfModule>
        <IfModule !proxy_module>
        	LoadModule proxy_module modules/mod_proxy.so
        </IfModule>
        <IfModule !proxy_http_module>
        	LoadModule proxy_http_module modules/mod_proxy_http.so
        </IfModule>
        <IfModule !headers_module>
        	LoadModule headers_module modules/mod_headers.so
        </IfModule>
        <IfModule !log_config_module>
        	LoadModule log_config_module modules/mod_log_config.so
        </IfModule>
        <IfModule !socache_shmcb_module>
        	LoadModule socache_shmcb_module modules/mod_socache_shmcb.so
        </IfModule>
        Listen 443
        ");
        insta::assert_snapshot!(text(&done, "Dockerfile"), @"
        # A part of a Dockerfile: take the lines below FROM into yours, or build it as it is.
        FROM httpd:2.4
        COPY virtual-hosts/ /usr/local/apache2/conf/yandro/
        COPY certificates/ /etc/yandro/certificates/
        RUN echo 'Include /usr/local/apache2/conf/yandro/*.conf' >> /usr/local/apache2/conf/httpd.conf
        EXPOSE 80 443
        ");
        insta::assert_snapshot!(text(&done, "README.md"), @"
        # saltmarsh.test, packed for a container

        Made by `yandro pack`. Use the folder as it is (`compose.yaml` builds it and publishes its ports), or
        take its parts into files of your own.

        | here | in the image | what it is |
        |---|---|---|
        | `virtual-hosts/` | `/usr/local/apache2/conf/yandro/` | what Apache httpd answers for saltmarsh.test |
        | `certificates/` | `/etc/yandro/certificates/` | the certificate with its chain, and its key |
        | `root.pem` | – | the authority's root certificate, for clients that are to trust the site |

        `certificates/` holds a private key. An image with it in is for your own machine: leave the line out of the
        Dockerfile, and mount the folder, before the image goes anywhere else. The certificate ends one day:
        `yandro check` tells in time; then pack the site again.

        Requests are forwarded to `http://upstream:3000`: `upstream` is the machine that the container runs on. The upstream has
        to listen on an address that containers reach, not only on loopback.

        The name has to point to the address where the container's ports are published:

        ```sh
        yandro map saltmarsh.test --server elsewhere --address 127.0.0.1
        ```
        ");
    }

    #[test]
    fn keys_are_secret_and_ports_are_published_or_refused() {
        let site = Site::new(HostName::parse("saltmarsh.test").unwrap(), Content::folder("/srv/a"));
        let secret: Vec<_> =
            packed(&site, ServerKind::Nginx).files.into_iter().filter(|file| file.access == Access::Secret).collect();
        assert_eq!(
            secret.iter().map(|file| file.path.as_str()).collect::<Vec<_>>(),
            ["certificates/saltmarsh.test/key.pem"]
        );
        let published = Published(vec![crate::config::PublishedPort { here: 8080, there: 80 }]);
        let request = PackRequest {
            site: &site,
            kind: ServerKind::Nginx,
            published: &published,
            certificate: None,
            root: None,
            extra: None,
        };
        assert_eq!(pack(&request), Err(PackError::NotPublished(443)));
    }
}
