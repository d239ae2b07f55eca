//! `yandro pack`.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{
    HostName, PACK_PROJECT, PackError, PackRequest, Packed, Published, PublishedPort, ServerKind, Site, pack_site,
};
use yandro_machine::{files, pack as disk};

use crate::args::PackArgs;
use crate::context::Context;
use crate::error::{CommandError, no_site};
use crate::view::change::labelled;
use crate::view::{COMMAND, Data, Outcome, STRONG, Ui, count, data};

pub(crate) fn run<'c>(context: &'c Context, args: &'c PackArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let name = HostName::parse(&args.name)?;
    let (_, list) = context.list()?;
    let site = list.site(&name).ok_or_else(|| no_site(&name).hint(format!("map it: yandro map {name} FOLDER")))?;
    let out = free_folder(context, &args.out)?;
    let packed = packed(context, args, site)?;
    if context.preview {
        preview(&packed, &out, ui);
        return Ok(Outcome::printed());
    }
    let copied = disk::write(&context.machine, &packed, &out)?;
    let data = PackedData {
        copied: copied.files,
        bytes: copied.bytes,
        left_out: copied.left_out.iter().map(ToString::to_string).collect(),
        ..to_data(&name, &out, &packed)
    };
    Ok(Outcome::new(data, move |data, ui| show(data, &out, ui)))
}

/// A folder with nothing in it, or none yet.
fn free_folder(context: &Context, out: &Utf8Path) -> Result<Utf8PathBuf, CommandError> {
    let out = context.given(out);
    if out.read_dir_utf8().is_ok_and(|mut entries| entries.next().is_some()) || out.is_file() {
        return Err(CommandError::usage(format!("there is something in {out} already"))
            .hint("give a folder that isn't there yet, or take it away first"));
    }
    Ok(out)
}

/// The packed parts, before anything is copied.
fn to_data(name: &HostName, out: &Utf8Path, packed: &Packed) -> PackedData {
    PackedData {
        site: name.to_string(),
        out: out.to_string(),
        files: packed.files.iter().map(|file| file.path.to_string()).collect(),
        project: packed.project.as_ref().map(ToString::to_string),
        copied: 0,
        bytes: 0,
        left_out: Vec::new(),
    }
}

data! {
    /// Data of `yandro pack`.
    struct PackedData {
        site: String,
        /// The folder that was written.
        out: String,
        /// The files in it, but for those of the project.
        files: Vec<String>,
        /// The folder that the project's files were copied from.
        project: Option<String>,
        /// How many files of the project were copied.
        copied: usize,
        /// How many bytes they have.
        bytes: u64,
        /// Files that were not copied, since they are hidden or lead out of the folder.
        left_out: Vec<String>,
    }
}

impl Data for PackedData {}

fn show(data: &PackedData, out: &Utf8Path, ui: &mut Ui) {
    ui.say(&format!("{STRONG}{}{STRONG:#} is packed into {out}", data.site));
    let mut lines: Vec<(&str, String)> = data.files.iter().map(|file| (what(file), file.clone())).collect();
    if data.project.is_some() {
        let size = format!("{PACK_PROJECT}/ ({}, {} kB)", count(data.copied, "file"), data.bytes.div_ceil(1000));
        lines.push(("project", size));
    }
    ui.say(&labelled(&lines));
    if !data.left_out.is_empty() {
        ui.note(&format!("left out, since hidden or leading out of the folder: {}", data.left_out.join(", ")));
    }
    ui.say(&format!("\nWhat goes where: {COMMAND}{}{COMMAND:#}", out.join("README.md")));
}

fn preview(packed: &Packed, out: &Utf8Path, ui: &mut Ui) {
    ui.say(&format!("{out} would hold:"));
    let mut lines: Vec<(&str, String)> =
        packed.files.iter().map(|file| (what(file.path.as_str()), file.path.to_string())).collect();
    lines.extend(packed.project.iter().map(|from| ("project", format!("{PACK_PROJECT}/, a copy of {from}"))));
    ui.say(&labelled(&lines));
    ui.say("\nNothing was written: this was a preview.");
}

/// Description of a packed file.
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
    let certificate = if site.https.is_on() { chain.as_deref().zip(key.as_deref()) } else { None };
    if site.https.is_on() && certificate.is_none() {
        return Err(CommandError::not_made(format!("`{}` has no certificate yet", site.name))
            .hint(format!("have it made: yandro map {}", site.name)));
    }
    let root = files::read_if_there(&places.root_certificate())?;
    let extra = site.serving.extra.as_ref().map(|path| files::read_if_there(path)).transpose()?.flatten();
    let request = PackRequest {
        site,
        kind,
        published: &published,
        certificate,
        root: certificate.and(root.as_deref()),
        extra: extra.as_deref(),
    };
    pack_site(&request).map_err(|error| match error {
        PackError::NotPublished(port) => {
            CommandError::usage(error).hint(format!("publish it, too: add `--port HERE:{port}`"))
        }
        error => CommandError::usage(error),
    })
}
