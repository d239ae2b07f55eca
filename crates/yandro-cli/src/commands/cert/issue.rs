//! `yandro cert issue` and `yandro cert sign`.

use camino::{Utf8Path, Utf8PathBuf};
use yandro_core::{
    Access, CertificateFacts, ChangeSet, Fresh as _, HostName, Leaf, LeafRequest, Role, SigningRequest, date,
    note_issued,
};
use yandro_machine::{OpensslError, SystemFresh, files, observe, openssl};

use crate::args::IssueArgs;
use crate::commands::apply::{Planned, apply, done};
use crate::commands::authority::none_yet;
use crate::context::{Context, now};
use crate::error::CommandError;
use crate::passphrase;
use crate::view::change::labelled;
use crate::view::{Data, Outcome, STRONG, Ui, data};

pub(super) fn issue<'c>(context: &'c Context, args: &'c IssueArgs, ui: &mut Ui) -> Result<Outcome<'c>, CommandError> {
    let (wild, plain): (Vec<&String>, Vec<&String>) = args.names.iter().partition(|name| name.starts_with("*."));
    let leaf = &Leaf {
        names: names_of(plain)?,
        wildcards: names_of(wild)?,
        addresses: args.addresses.clone(),
        days: args.days,
    };
    let folder = context.given(&args.out);
    let bundle = folder.join("certificate.p12");
    let (chain_path, key_path) = (folder.join("fullchain.pem"), folder.join("key.pem"));
    let made = if args.p12 { vec![&bundle] } else { vec![&chain_path, &key_path] };
    // Asked for before the lock is taken: a person takes their time.
    let passphrase = if args.p12 && !context.preview {
        let option = "--p12-passphrase-file FILE";
        Some(passphrase::new("the PKCS#12 file", args.p12_passphrase_file.as_deref(), option)?)
    } else {
        None
    };
    let plan = || {
        if let Some(path) = made.iter().find(|path| path.exists()) {
            return Err(CommandError::usage(format!("there is a file {path} already"))
                .hint("give another folder, or take it away first"));
        }
        let files = context.observer().authority()?.ok_or_else(none_yet)?;
        let mut fresh = SystemFresh::new();
        let key = fresh.key(args.key_kind.into())?;
        let request = LeafRequest { leaf, now: now(), serial: fresh.serial() };
        let chain = files.authority.issue(files.key()?, &request, &key)?;
        let mut set = ChangeSet::default();
        if !folder.is_dir() {
            set.folder(Role::Export, folder.clone(), Access::Private);
        }
        if args.p12 {
            let name = leaf.names.first().or(leaf.wildcards.first()).map(ToString::to_string).unwrap_or_default();
            let passphrase = passphrase.as_ref().map(|own| own.as_str()).unwrap_or_default();
            let content = openssl::pkcs12(&name, &key, &chain, passphrase).map_err(|error| no_bundle(&error))?;
            set.file(Role::Export, bundle.clone(), (None::<Vec<u8>>, Some(content)), Access::Secret);
        } else {
            let pem = key.to_secret_pem().as_bytes().to_vec();
            set.file(Role::Export, key_path.clone(), (None::<Vec<u8>>, Some(pem)), Access::Secret);
            let content = (None::<Vec<u8>>, Some(chain.clone().into_bytes()));
            set.file(Role::IssuedCertificate, chain_path.clone(), content, Access::Public);
            note_issued(&mut set, &context.machine.places, observe::issued(&context.machine)?.0, &chain_path);
        }
        Ok(Planned { set, starts: false, about: chain })
    };
    let done = done!(apply(context, ui, plan, |_| Ok(())));
    let form = if args.p12 { ExportForm::Pkcs12(bundle) } else { ExportForm::Pem(chain_path, Some(key_path)) };
    tell(&done.about, form)
}

/// Host names, `*.` in front of each left out.
fn names_of(texts: Vec<&String>) -> Result<Vec<HostName>, CommandError> {
    texts.into_iter().map(|text| Ok(HostName::parse(text.strip_prefix("*.").unwrap_or(text))?)).collect()
}

fn no_bundle(error: &OpensslError) -> CommandError {
    let words = format!("the PKCS#12 file can't be made: {error}");
    match error {
        OpensslError::Missing => CommandError::not_made(words)
            .hint("install the package `openssl`, or leave `--p12` out: you get certificate and key as two PEM files"),
        _ => CommandError::not_made(words),
    }
}

/// In which form a certificate was written, and where.
enum ExportForm {
    Pem(Utf8PathBuf, Option<Utf8PathBuf>),
    Pkcs12(Utf8PathBuf),
}

data! {
    /// Data of `yandro cert issue` and `yandro cert sign`.
    struct IssuedData {
        /// The file with the certificate and its chain.
        certificate: String,
        /// The file with its key, if a key was made.
        key: Option<String>,
        names: Vec<String>,
        addresses: Vec<std::net::IpAddr>,
        /// The day on which it ends.
        not_after: String,
    }
}

impl Data for IssuedData {}

/// Signs a request of somebody else's, for the key that they have.
pub(super) fn sign<'c>(
    context: &'c Context,
    request: &'c Utf8Path,
    days: i64,
    out: &'c Utf8Path,
    ui: &mut Ui,
) -> Result<Outcome<'c>, CommandError> {
    let (request, path) = (context.given(request), context.given(out));
    let text = files::read_given(&request, 1 << 20)?;
    let text = text.ok_or_else(|| CommandError::usage(format!("no such file: `{request}`")))?;
    let asked = SigningRequest::from_pem(&String::from_utf8_lossy(&text)).map_err(CommandError::usage)?;
    let done = done!(apply(context, ui, || plan_signed(context, &asked, days, &path), |_| Ok(())));
    tell(&done.about, ExportForm::Pem(path, None))
}

/// The certificate that is asked for, as a new file.
fn plan_signed(
    context: &Context,
    asked: &SigningRequest,
    days: i64,
    path: &Utf8Path,
) -> Result<Planned<String>, CommandError> {
    if path.exists() {
        return Err(CommandError::usage(format!("there is a file {path} already"))
            .hint("give another file, or take it away first"));
    }
    let files = context.observer().authority()?.ok_or_else(none_yet)?;
    let chain = files.authority.sign(files.key()?, asked, days, now(), SystemFresh::new().serial())?;
    let mut set = ChangeSet::default();
    let content = (None::<Vec<u8>>, Some(chain.clone().into_bytes()));
    set.file(Role::IssuedCertificate, path.to_owned(), content, Access::Public);
    note_issued(&mut set, &context.machine.places, observe::issued(&context.machine)?.0, path);
    Ok(Planned { set, starts: false, about: chain })
}

/// The issued certificate and its place.
fn tell<'c>(chain: &str, form: ExportForm) -> Result<Outcome<'c>, CommandError> {
    let chain = CertificateFacts::certificates(chain.as_bytes()).map_err(CommandError::not_made)?;
    let facts = CertificateFacts::read(&chain[0]).map_err(CommandError::not_made)?;
    let (path, key) = match &form {
        ExportForm::Pem(chain, key) => (chain.to_string(), key.as_ref().map(ToString::to_string)),
        ExportForm::Pkcs12(bundle) => (bundle.to_string(), None),
    };
    let (names, addresses, not_after) = (facts.names.clone(), facts.addresses.clone(), date(facts.not_after));
    let data = IssuedData { certificate: path, key, names, addresses, not_after };
    Ok(Outcome::new(data, move |data, ui| show(data, &form, facts.days_left(now()), ui)))
}

fn show(data: &IssuedData, form: &ExportForm, days: i64, ui: &mut Ui) {
    let addresses = data.addresses.iter().map(ToString::to_string);
    let covered: Vec<String> = data.names.iter().cloned().chain(addresses).collect();
    ui.say(&format!("{STRONG}{}{STRONG:#}", covered.join(", ")));
    let what = match form {
        ExportForm::Pem(..) => "with its chain: this is what servers take",
        ExportForm::Pkcs12(_) => "with its chain and its key, behind the passphrase",
    };
    let mut lines = vec![
        ("valid", format!("until {}, {days} days", data.not_after)),
        ("certificate", format!("{} ({what})", data.certificate)),
    ];
    lines.extend(data.key.clone().map(|key| ("key", key)));
    ui.say(&labelled(&lines));
    ui.note(match form {
        ExportForm::Pem(..) => "`yandro cert renew` renews it in its last 30 days, like those of the sites",
        ExportForm::Pkcs12(_) => {
            "it is not renewed by `yandro cert renew`, which doesn't know its passphrase: issue it again"
        }
    });
}
