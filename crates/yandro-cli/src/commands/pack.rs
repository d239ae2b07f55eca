//! `yandro pack`.

use serde_json::json;
use yandro_core::config::{Published, PublishedPort};
use yandro_core::name::HostName;
use yandro_core::pack::{self, PROJECT, PackError, Packed, Request};
use yandro_core::site::{ServerKind, Site};
use yandro_machine::{files, pack as disk};

use crate::args::PackArgs;
use crate::context::Context;
use crate::error::{CommandError, Status};
use crate::view::change::labelled;
use crate::view::{COMMAND, STRONG, Ui, count};

pub(crate) fn run(context: &Context, args: &PackArgs, ui: &mut Ui) -> Result<Status, CommandError> {
    let name = HostName::parse(&args.name)?;
    let (_, list) = context.list()?;
    let site = list.site(&name).ok_or_else(|| {
        CommandError::usage(format!("there is no site `{name}`"))
            .hint(format!("map it first: yandro map {name} FOLDER; or see which there are: yandro sites"))
    })?;
    let out = context.given(&args.out);
    if out.read_dir_utf8().is_ok_and(|mut entries| entries.next().is_some()) || out.is_file() {
        return Err(CommandError::usage(format!("there is something in {out} already"))
            .hint("give a folder that isn't there yet, or take it away first"));
    }
    let packed = packed(context, args, site)?;
    if context.preview {
        preview(&packed, &out, ui);
        return Ok(Status::Well);
    }
    let copied = disk::write(&context.machine, &packed, &out)?;
    let left_out: Vec<_> = copied.left_out.iter().map(|path| path.as_str()).collect();
    if ui.json {
        let files: Vec<_> = packed.files.iter().map(|file| &file.path).collect();
        ui.json(&json!({
            "version": 1, "site": name.as_str(), "out": out, "files": files, "project": packed.project,
            "copied": copied.files, "bytes": copied.bytes, "left-out": left_out,
        }));
        return Ok(Status::Well);
    }
    ui.say(&format!("{STRONG}{name}{STRONG:#} is packed into {out}"));
    let mut lines: Vec<(&str, String)> =
        packed.files.iter().map(|file| (what(file.path.as_str()), file.path.to_string())).collect();
    if packed.project.is_some() {
        lines.push((
            "project",
            format!("{PROJECT}/ ({}, {} kB)", count(copied.files, "file"), copied.bytes.div_ceil(1000)),
        ));
    }
    ui.say(&labelled(&lines));
    if !left_out.is_empty() {
        ui.note(&format!("left out, since hidden or leading out of the folder: {}", left_out.join(", ")));
    }
    ui.say(&format!("\nWhat goes where: {COMMAND}{}{COMMAND:#}", out.join("README.md")));
    Ok(Status::Well)
}

fn preview(packed: &Packed, out: &camino::Utf8Path, ui: &mut Ui) {
    ui.say(&format!("{out} would hold:"));
    let mut lines: Vec<(&str, String)> =
        packed.files.iter().map(|file| (what(file.path.as_str()), file.path.to_string())).collect();
    lines.extend(packed.project.iter().map(|from| ("project", format!("{PROJECT}/, a copy of {from}"))));
    ui.say(&labelled(&lines));
    ui.say("\nNothing was written: this was a preview.");
}

/// What a packed file is.
fn what(path: &str) -> &'static str {
    match path {
        _ if path.ends_with("key.pem") => "key",
        _ if path.starts_with("certificates/") => "certificate",
        _ if path.starts_with("virtual-hosts/") => "virtual host",
        "root.pem" => "root",
        "extra.conf" => "directives",
        "compose.yaml" => "compose part",
        "Dockerfile" => "image part",
        _ => "explained in",
    }
}

fn packed(context: &Context, args: &PackArgs, site: &Site) -> Result<Packed, CommandError> {
    let places = &context.machine.places;
    let found = site.server.and_then(|id| context.server(id));
    let kind = args.kind.or(found.map(|found| found.kind)).unwrap_or(ServerKind::Nginx);
    let ports: Vec<PublishedPort> = args
        .ports
        .iter()
        .map(|text| PublishedPort::parse(text).map_err(CommandError::usage))
        .collect::<Result<_, _>>()?;
    let published = Published(ports);
    let (chain, key) =
        (files::read_if_there(&places.chain(&site.name))?, files::read_if_there(&places.key(&site.name))?);
    let certificate = chain.as_deref().zip(key.as_deref()).filter(|_| site.https.is_on());
    if site.https.is_on() && certificate.is_none() {
        return Err(CommandError::not_made(format!("`{}` has no certificate yet", site.name))
            .hint(format!("have it made: yandro map {}", site.name)));
    }
    let root = files::read_if_there(&places.root_certificate())?;
    let extra = site.serving.extra.as_ref().map(|path| files::read_if_there(path)).transpose()?.flatten();
    let request = Request {
        site,
        kind,
        published: &published,
        certificate,
        root: root.as_deref().filter(|_| certificate.is_some()),
        extra: extra.as_deref(),
    };
    pack::pack(&request).map_err(|error| match error {
        PackError::NotPublished(port) => {
            CommandError::usage(error).hint(format!("publish it, too: add `--port HERE:{port}`"))
        }
        error => CommandError::usage(error),
    })
}
