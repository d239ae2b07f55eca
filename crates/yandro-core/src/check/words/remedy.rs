//! Remedies as they are pasted into a shell.

use std::fmt::{self, Display, Formatter};

use super::listed;
use crate::check::remedy::{MapOption, Remedy, ServerVerb};
use crate::shell::word;
use crate::system::System;

impl Display for Remedy {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Self::Map { site, content, options } => {
                write!(f, "yandro map {site}")?;
                if let Some(content) = content {
                    write!(f, " {}", word(content))?;
                }
                options.iter().try_for_each(|option| write!(f, " {option}"))
            }
            Self::Unmap(site) => write!(f, "yandro unmap {site}"),
            Self::Move(site, folder) => write!(f, "yandro move {site} {}", word(folder.as_str())),
            Self::Readdress(site, old) => write!(f, "yandro readdress {site} --from {}", word(old)),
            Self::Settle => f.write_str("yandro settle"),
            Self::Follow => f.write_str("yandro settle --follow"),
            Self::PutBack(site) => write!(f, "yandro settle --put-back {site}"),
            Self::Control(control, server) => write!(f, "yandro servers {} {}", control.word(), server.word()),
            Self::Serve(None) => f.write_str("yandro servers start built-in"),
            Self::Serve(Some(address)) => write!(f, "yandro serve --listen {address}"),
            Self::CheckAndFix(site) => write!(f, "yandro check {site} --fix"),
            Self::Watch(site) => write!(f, "yandro check {site} --watch"),
            Self::CertificateVariables(site) => write!(f, "yandro cert env {site}"),
            Self::Widen(name) => write!(f, "yandro authority widen {name}"),
            Self::Trust => f.write_str("yandro authority trust"),
            Self::NoProxy(names) => f.write_str(&System::HERE.no_proxy(&listed(names, ","))),
            Self::PortsAsRoot if System::HERE == System::Windows => {
                f.write_str(&System::HERE.with_all_rights("yandro ports"))
            }
            Self::PortsAsRoot => f.write_str("sudo $(command -v yandro) ports"),
            Self::Edit(place) => {
                let place = place.written();
                f.write_str(&System::HERE.edit(&place.file, place.line))
            }
            Self::MakeFolder(folder) => f.write_str(&System::HERE.make_folder(folder.as_str())),
            Self::Shell(command) => f.write_str(command),
            Self::AsRoot(own) => f.write_str(&System::HERE.with_all_rights(&own.to_string())),
            Self::Both(first, next) => f.write_str(&System::HERE.then(&first.to_string(), &next.to_string())),
        }
    }
}

impl ServerVerb {
    fn word(self) -> &'static str {
        match self {
            Self::Start => "start",
            Self::Reload => "reload",
            Self::Stop => "stop",
            Self::Restart => "restart",
        }
    }
}

impl Display for MapOption {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        match self {
            Self::TakeOver => f.write_str("--take-over"),
            Self::Address(address) => write!(f, "--address {address}"),
            Self::Ports(http, https) => write!(f, "--http-port {http} --https-port {https}"),
            Self::Server(server) => write!(f, "--server {}", server.word()),
            Self::HttpsOnly => f.write_str("--https only"),
            Self::HttpsBoth => f.write_str("--https both"),
            Self::FixPermissions => f.write_str("--fix-permissions"),
            Self::Create => f.write_str("--create"),
            Self::Index(page) => write!(f, "--index {}", word(page)),
            Self::Listing => f.write_str("--listing on"),
            Self::AllOverrides => f.write_str("--overrides all"),
            Self::OwnUpstreamHost => f.write_str("--upstream-host own"),
            Self::Php(None) => f.write_str("--php"),
            Self::Php(Some(socket)) => write!(f, "--php={}", word(socket)),
        }
    }
}
