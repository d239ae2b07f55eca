//! The result of a command: data for programs, and text for people. It is printed in one place.

use serde::Serialize;
use serde_json::{Value, json};

use super::Ui;
use crate::error::Status;

/// Data for `--json`.
pub(crate) trait Data: Serialize {
    /// Version of its form: it goes up when a field goes or changes its meaning.
    const VERSION: u32 = 1;
    /// Whether all fields, of what it holds as well, are declared in the order of their names: then it is written without a
    /// tree of it in memory, which is several times as large as the text.
    const IS_IN_ORDER: bool = false;
}

/// Data with their version, which is the last of their fields.
#[derive(Serialize)]
struct Versioned<'d, D> {
    #[serde(flatten)]
    data: &'d D,
    version: u32,
}

/// The result of a command.
pub(crate) struct Outcome<'o> {
    printed: Option<Box<dyn Printed + 'o>>,
    status: Status,
}

trait Printed {
    fn json(&self) -> Value;
    fn json_text(&self) -> String {
        self.json().to_string()
    }
    fn text(self: Box<Self>, ui: &mut Ui);
}

struct OutcomeParts<D, T> {
    data: D,
    text: T,
}

impl<D: Data, T: FnOnce(&D, &mut Ui)> Printed for OutcomeParts<D, T> {
    fn json(&self) -> Value {
        let mut value = serde_json::to_value(&self.data).unwrap_or_default();
        value["version"] = json!(D::VERSION);
        value
    }

    fn json_text(&self) -> String {
        if D::IS_IN_ORDER {
            return serde_json::to_string(&Versioned { data: &self.data, version: D::VERSION }).unwrap_or_default();
        }
        self.json().to_string()
    }

    fn text(self: Box<Self>, ui: &mut Ui) {
        (self.text)(&self.data, ui);
    }
}

struct And<'o> {
    first: Box<dyn Printed + 'o>,
    key: &'static str,
    second: Box<dyn Printed + 'o>,
}

impl Printed for And<'_> {
    fn json(&self) -> Value {
        let mut value = self.first.json();
        value[self.key] = self.second.json();
        value
    }

    fn text(self: Box<Self>, ui: &mut Ui) {
        self.first.text(ui);
        ui.say("");
        self.second.text(ui);
    }
}

struct Then<'o, T> {
    first: Box<dyn Printed + 'o>,
    more: T,
}

impl<T: FnOnce(&mut Ui)> Printed for Then<'_, T> {
    fn json(&self) -> Value {
        self.first.json()
    }

    fn text(self: Box<Self>, ui: &mut Ui) {
        self.first.text(ui);
        (self.more)(ui);
    }
}

impl<'o> Outcome<'o> {
    /// Data for programs, and how people read it.
    pub(crate) fn new<D: Data + 'o>(data: D, text: impl FnOnce(&D, &mut Ui) + 'o) -> Self {
        Self { printed: Some(Box::new(OutcomeParts { data, text })), status: Status::Well }
    }

    /// For a command that has printed everything already, such as a server that ran until it was ended.
    pub(crate) fn printed() -> Self {
        Self { printed: None, status: Status::Well }
    }

    /// With something more for people behind it.
    pub(crate) fn then(self, more: impl FnOnce(&mut Ui) + 'o) -> Self {
        let Self { printed, status } = self;
        let printed = printed.map(|first| Box::new(Then { first, more }) as Box<dyn Printed + 'o>);
        Self { printed, status }
    }

    /// With the result of what was done after it: its data come under `key`, and its findings count.
    pub(crate) fn and(self, key: &'static str, other: Self) -> Self {
        let status = if self.status == Status::Well { other.status } else { self.status };
        let printed = match (self.printed, other.printed) {
            (Some(first), Some(second)) => Some(Box::new(And { first, key, second }) as Box<dyn Printed + 'o>),
            (first, second) => first.or(second),
        };
        Self { printed, status }
    }

    /// The same with another exit status.
    pub(crate) fn with(self, status: Status) -> Self {
        Self { status, ..self }
    }

    /// Prints it in the form that is wanted.
    pub(crate) fn show(self, ui: &mut Ui) -> Status {
        match self.printed {
            Some(printed) if ui.json => ui.json_text(&printed.json_text()),
            Some(printed) => printed.text(ui),
            None => {}
        }
        self.status
    }
}

/// A type that is printed with `--json`: it names its fields as commands name their options. Its schema is in
/// `docs/schema/`.
macro_rules! data {
    ($($(#[$meta:meta])* struct $name:ident $(<$life:lifetime>)? { $($(#[$field_meta:meta])* $field:ident: $type:ty,)* })*) => {
        $(
            $(#[$meta])*
            #[derive(serde::Serialize)]
            #[cfg_attr(test, derive(schemars::JsonSchema))]
            #[serde(rename_all = "kebab-case")]
            #[allow(clippy::struct_field_names, reason = "the fields are named as programs read them")]
            pub(crate) struct $name $(<$life>)? { $($(#[$field_meta])* pub(crate) $field: $type,)* }
        )*
    };
}
pub(crate) use data;
