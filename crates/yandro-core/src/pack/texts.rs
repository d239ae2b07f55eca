//! The texts of a packed folder.

use super::{HOST, Inside, PHP, PROJECT, PackRequest};
use crate::servers::Image;
use crate::site::{Content, Logs, Site};

/// The content of the parts.
pub(super) struct Parts<'p> {
    pub(super) request: &'p PackRequest<'p>,
    /// The site as it is within.
    pub(super) site: &'p Site,
    pub(super) inside: &'p Inside,
    pub(super) has_project: bool,
}

impl Parts<'_> {
    fn image(&self) -> Image {
        self.request.kind.software().image()
    }

    /// Source and target of each copied folder.
    fn copies(&self) -> Vec<(String, String)> {
        let mut copies = vec![("virtual-hosts/".to_owned(), format!("{}/", self.inside.virtual_hosts))];
        if self.request.certificate.is_some() {
            copies.push(("certificates/".into(), format!("{}/", self.inside.certificates)));
        }
        if self.request.extra.is_some() {
            copies.push(("extra.conf".into(), self.inside.extra.to_string()));
        }
        if self.has_project {
            copies.push((format!("{PROJECT}/"), format!("{}/", self.inside.project)));
        }
        copies
    }

    fn ports(&self) -> Vec<u16> {
        self.site.http_ports(80).into_iter().chain(self.site.https_ports(443)).collect()
    }

    pub(super) fn dockerfile(&self) -> String {
        let mut text = format!(
            "# A part of a Dockerfile: take the lines below FROM into yours, or build it as it is.\nFROM {}\n",
            self.image().name
        );
        for (from, to) in self.copies() {
            text += &format!("COPY {from} {to}\n");
        }
        if let Image { main: Some(main), virtual_hosts, .. } = self.image() {
            text += &format!("RUN echo 'Include {virtual_hosts}/*.conf' >> {main}\n");
        }
        let ports: Vec<String> = self.ports().iter().map(u16::to_string).collect();
        text + &format!("EXPOSE {}\n", ports.join(" "))
    }

    pub(super) fn compose(&self) -> String {
        let service = self.site.name.as_str().replace('.', "-");
        let mut text = format!(
            "# A part of a compose file: take the services into yours, or use it as it is.\nservices:\n  {service}:\n    build: .\n    ports:\n"
        );
        for port in self.ports() {
            text += &format!("      - \"{}:{port}\"\n", self.request.published.here_or_same(port));
        }
        let project = format!("      - ./{PROJECT}:{}:ro\n", self.inside.project);
        let mounts: String = [
            self.request.certificate.map(|_| format!("      - ./certificates:{}:ro\n", self.inside.certificates)),
            self.has_project.then(|| project.clone()),
        ]
        .into_iter()
        .flatten()
        .collect();
        if !mounts.is_empty() {
            text += "    # In the place of what is built in, so that a change needs no new image.\n    volumes:\n";
            text += &mounts;
        }
        if matches!(&self.site.content, Content::Upstream(upstream) if upstream.host_port().host() == HOST) {
            text += &format!(
                "    # The machine that the container runs on, where the upstream listens.\n    extra_hosts:\n      - \"{HOST}:host-gateway\"\n"
            );
        }
        if self.site.serving.php.is_some() {
            let name = PHP.split(':').next().unwrap_or_default();
            text += &format!("  {name}:\n    image: php:fpm\n    volumes:\n{project}");
        }
        text
    }

    pub(super) fn readme(&self) -> String {
        let name = &self.site.name;
        let mut text = format!(
            "# {name}, packed for a container\n\nMade by `yandro pack`. Use the folder as it is (`compose.yaml` builds it and publishes its ports), or\ntake its parts into files of your own.\n\n| here | in the image | what it is |\n|---|---|---|\n"
        );
        for (from, to) in self.copies() {
            let what = match from.as_str() {
                "virtual-hosts/" => format!("what {} answers for {name}", self.request.kind),
                "certificates/" => "the certificate with its chain, and its key".to_owned(),
                "extra.conf" => "the further directives of the site".to_owned(),
                _ => "the files that are served".to_owned(),
            };
            text += &format!("| `{from}` | `{to}` | {what} |\n");
        }
        if self.request.root.is_some() {
            text += "| `root.pem` | – | the authority's root certificate, for clients that are to trust the site |\n";
        }
        text += "\n";
        if self.request.certificate.is_some() {
            text += "`certificates/` holds a private key. An image with it in is for your own machine: leave the line out of the\nDockerfile, and mount the folder, before the image goes anywhere else. The certificate ends one day:\n`yandro check` tells in time; then pack the site again.\n\n";
        }
        if matches!(&self.site.content, Content::Upstream(upstream) if upstream.host_port().host() == HOST) {
            text += &format!(
                "Requests are forwarded to `{}`: `{HOST}` is the machine that the container runs on. The upstream has\nto listen on an address that containers reach, not only on loopback.\n\n",
                self.site.content
            );
        }
        if self.site.serving.php.is_some() {
            text += &format!(
                "PHP is run by the service behind `{PHP}`, which sees the site's files under the same path.\n\n"
            );
        }
        if !matches!(self.request.site.serving.logs, Logs::Usual) {
            text += "Logs go where the image has them: its engine shows them.\n\n";
        }
        text + &format!(
            "The name has to point to the address where the container's ports are published:\n\n```sh\nyandro map {name} --server elsewhere --address 127.0.0.1\n```\n"
        )
    }
}
