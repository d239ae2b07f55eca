//! The JSON Schemas of what commands give with `--json`, in `docs/schema/`:
//! `YANDRO_WRITE_DOCS=1 cargo test -p yandro-cli schemas` writes them again.

use schemars::{JsonSchema, schema_for};
use serde_json::{Value, json};

use crate::commands::schemas as commands;
use crate::view::{self, Data};

/// The schema of a type, with the version that each output has.
fn schema<D: Data + JsonSchema>() -> Value {
    let mut schema = serde_json::to_value(schema_for!(D)).unwrap();
    schema["properties"]["version"] = json!({ "const": D::VERSION });
    schema["required"].as_array_mut().unwrap().insert(0, json!("version"));
    schema
}

macro_rules! all {
    ($($name:literal: $type:ty,)*) => { vec![$(($name, schema::<$type>()),)*] };
}

#[test]
fn schemas_are_those_of_the_types() {
    let all = all! {
        "adopt": commands::AdoptedSites,
        "adopt-list": commands::HandSites,
        "authority-env": commands::TrustVariables,
        "authority-export": commands::Exported,
        "authority-export-to-device": commands::OfferData,
        "lend": commands::Lending,
        "authority-passphrase": commands::KeyData,
        "authority-replace": commands::Replaced,
        "authority-show": commands::AuthorityData,
        "authority-trust": commands::Trust,
        "cert-env": commands::VariableList,
        "cert-issue": commands::IssuedData,
        "cert-renew": commands::Renewed,
        "cert-renew-install-timer": commands::Installed,
        "cert-renew-remove-timer": commands::Removed,
        "cert-show": commands::CertificateData,
        "cert-show-paths": commands::PathsData,
        "check-url": commands::CheckedUrls,
        "check": view::check::Checked,
        "disable": commands::Disabled,
        "env": commands::SiteEnvironment,
        "history": commands::HistoryRows,
        "history-originals": commands::Originals,
        "history-restore": commands::Restored,
        "hosts-drop": commands::LineDropped,
        "hosts-export": commands::TextData,
        "hosts-import": commands::Imported,
        "hosts-lint": commands::Lint,
        "hosts-list": commands::Entries,
        "hosts-point": commands::PointedData,
        "database": commands::Databases,
        "database-create": commands::DatabaseMade,
        "database-done": commands::DatabaseDone,
        "help-support": commands::Support,
        "logs": commands::LogLine,
        "map": commands::Mapped,
        "map-several": commands::MappedSites,
        "open": commands::Opened,
        "pack": commands::PackedData,
        "ports": commands::Ports,
        "preview": view::change::PreviewData,
        "readdress": commands::Readdressed,
        "serve-install": commands::ServiceInstalled,
        "serve-remove": commands::ServiceRemoved,
        "servers": commands::Servers,
        "servers-add": commands::Added,
        "servers-control": commands::Controlled,
        "servers-drop": commands::ServerDropped,
        "servers-test": commands::Tested,
        "settle": commands::Settled,
        "sites": commands::SiteRows,
        "steps": commands::Steps,
        "undo": commands::Undone,
        "uninstall": commands::Uninstalled,
        "unmap": commands::Unmapped,
        "vhosts": commands::VirtualHosts,
    };
    let folder = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/schema");
    for (name, schema) in &all {
        let (path, text) = (format!("{folder}/{name}.json"), serde_json::to_string_pretty(schema).unwrap() + "\n");
        if std::env::var_os("YANDRO_WRITE_DOCS").is_some() {
            std::fs::create_dir_all(folder).unwrap();
            std::fs::write(&path, &text).unwrap();
        }
        assert_eq!(std::fs::read_to_string(&path).unwrap_or_default(), text, "{path}");
    }
    assert_eq!(std::fs::read_dir(folder).unwrap().count(), all.len(), "no schema of a command that is gone");
}
