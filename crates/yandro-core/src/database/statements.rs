//! The statements that read rows with a text, and that change their texts.

use std::borrow::Cow;

use super::address::DatabaseKind;
use super::catalogue::{Class, Column, DatabaseTable};

/// A statement with the values of its parameters, all of them texts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Statement<'v> {
    /// The statement.
    pub text: String,
    /// The values, in order.
    pub values: Vec<Option<Cow<'v, str>>>,
}

/// A text of a row that changes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TextChange {
    /// The place of its column among [`DatabaseTable::texts`].
    pub column: usize,
    /// As it is.
    pub before: String,
    /// As it is to be.
    pub after: String,
}

impl TextChange {
    /// The change the other way round.
    #[must_use]
    pub fn inverse(self) -> Self {
        Self { column: self.column, before: self.after, after: self.before }
    }
}

impl DatabaseTable {
    /// The names of the columns that hold texts and may be written.
    pub fn texts(&self) -> impl Iterator<Item = &str> {
        self.text_columns().map(|column| column.name.as_str())
    }

    /// How many values of a row say which it is; they are read before its texts.
    pub fn key_length(&self, kind: DatabaseKind) -> usize {
        if self.is_numbered(kind) { 1 } else { self.key(kind).count() }
    }

    fn text_columns(&self) -> impl Iterator<Item = &Column> {
        self.columns.iter().filter(|column| !column.is_generated && matches!(column.class, Class::Text | Class::Bytes))
    }

    /// Whether the database numbers its rows (SQLite).
    fn is_numbered(&self, kind: DatabaseKind) -> bool {
        kind == DatabaseKind::Sqlite
            && self.number().is_some()
            && self.columns.iter().all(|column| column.cast == "numbered")
    }

    /// The name of the number of a row, which a column can take away.
    fn number(&self) -> Option<&'static str> {
        let is_free = |name: &&str| !self.columns.iter().any(|column| column.name.eq_ignore_ascii_case(name));
        ["_rowid_", "rowid", "oid"].into_iter().find(is_free)
    }

    /// Whether it has a primary key; without one, all columns together say which row it is.
    fn has_key(&self) -> bool {
        self.columns.iter().any(|column| column.is_key)
    }

    fn key(&self, kind: DatabaseKind) -> impl Iterator<Item = &Column> {
        let (has_key, is_numbered) = (self.has_key(), self.is_numbered(kind));
        self.columns.iter().filter(move |column| !is_numbered && (!has_key || column.is_key))
    }

    /// Reads the rows in whose texts one of the words occurs, in whatever case: first what says which row it is, then its
    /// texts. Words are hosts, and need no quoting.
    pub fn reading(&self, kind: DatabaseKind, words: &[String]) -> Option<Statement<'static>> {
        let texts: Vec<String> = self.text_columns().map(|column| kind.text(column)).collect();
        if texts.is_empty() {
            return None;
        }
        let mut values = Vec::new();
        let mut conditions = Vec::new();
        for column in self.text_columns() {
            for word in words {
                values.push(Some(format!("%{}%", word.to_lowercase()).into()));
                conditions.push(kind.contains(column, values.len()));
            }
        }
        let fields: Vec<String> = self.key_fields(kind).into_iter().chain(texts).collect();
        let (fields, conditions) = (fields.join(", "), conditions.join(" OR "));
        Some(Statement { text: format!("SELECT {fields} FROM {} WHERE {conditions}", self.quoted), values })
    }

    fn key_fields(&self, kind: DatabaseKind) -> Vec<String> {
        if self.is_numbered(kind) {
            return self.number().into_iter().map(ToOwned::to_owned).collect();
        }
        self.key(kind).map(|column| kind.key_field(column)).collect()
    }

    /// Changes texts of the one row that has this key and holds them as they are before.
    pub fn writing<'v>(
        &self,
        kind: DatabaseKind,
        key: &'v [Option<String>],
        changes: &'v [TextChange],
    ) -> Statement<'v> {
        let mut values: Vec<Option<Cow<'v, str>>> = Vec::new();
        let texts: Vec<&Column> = self.text_columns().collect();
        let mut sets = Vec::new();
        for change in changes {
            values.push(Some((&*change.after).into()));
            sets.push(format!(
                "{} = {}",
                kind.quoted(texts[change.column]),
                kind.new_text(texts[change.column], values.len())
            ));
        }
        for column in self.columns.iter().filter(|column| column.sets_itself && !column.is_generated) {
            sets.push(format!("{0} = {0}", kind.quoted(column)));
        }
        let conditions = self.of_row(kind, key, changes, &mut values);
        let text = format!("UPDATE {} SET {} WHERE {}", self.quoted, sets.join(", "), conditions.join(" AND "));
        Statement { text, values }
    }

    /// Reads something of the one row that has this key and holds the texts as they are before.
    pub fn reading_one<'v>(
        &self,
        kind: DatabaseKind,
        key: &'v [Option<String>],
        changes: &'v [TextChange],
    ) -> Statement<'v> {
        let mut values = Vec::new();
        let conditions = self.of_row(kind, key, changes, &mut values).join(" AND ");
        Statement { text: format!("SELECT 1 FROM {} WHERE {conditions}", self.quoted), values }
    }

    /// Whether two of its rows can be equal.
    pub fn has_equal(&self, kind: DatabaseKind) -> bool {
        !self.has_key() && !self.is_numbered(kind)
    }

    /// The conditions that a row has this key and these texts.
    fn of_row<'v>(
        &self,
        kind: DatabaseKind,
        key: &'v [Option<String>],
        changes: &'v [TextChange],
        values: &mut Vec<Option<Cow<'v, str>>>,
    ) -> Vec<String> {
        let texts: Vec<&Column> = self.text_columns().collect();
        let mut conditions = self.of_key(kind, key, values);
        for change in changes {
            values.push(Some((&*change.before).into()));
            conditions.push(kind.has_text(texts[change.column], values.len()));
        }
        conditions
    }

    fn of_key<'v>(
        &self,
        kind: DatabaseKind,
        key: &'v [Option<String>],
        values: &mut Vec<Option<Cow<'v, str>>>,
    ) -> Vec<String> {
        if self.is_numbered(kind) {
            values.extend(key.iter().map(|value| value.as_deref().map(Cow::Borrowed)));
            return vec![format!("{} = CAST(? AS INTEGER)", self.number().unwrap_or("rowid"))];
        }
        let mut conditions = Vec::new();
        for (column, value) in self.key(kind).zip(key) {
            if kind == DatabaseKind::Sqlite {
                // A literal that the database wrote itself.
                conditions.push(format!("{} IS {}", kind.quoted(column), value.as_deref().unwrap_or("NULL")));
                continue;
            }
            values.push(value.as_deref().map(Cow::Borrowed));
            conditions.push(kind.has_key(column, values.len(), self.has_key()));
        }
        conditions
    }

    /// The key of a row once its texts have changed, which may be parts of it.
    pub fn key_after(&self, kind: DatabaseKind, key: &[Option<String>], changes: &[TextChange]) -> Vec<Option<String>> {
        let mut key = key.to_vec();
        if self.is_numbered(kind) {
            return key;
        }
        let texts: Vec<&Column> = self.text_columns().collect();
        for change in changes {
            let column = texts[change.column];
            let Some(place) = self.key(kind).position(|other| other.name == column.name) else { continue };
            key[place] = Some(match (kind, column.class) {
                (DatabaseKind::Sqlite, _) => format!("'{}'", change.after.replace('\'', "''")),
                (DatabaseKind::MySql, Class::Bytes) => change.after.bytes().map(|byte| format!("{byte:02X}")).collect(),
                _ => change.after.clone(),
            });
        }
        key
    }
}

impl DatabaseKind {
    fn quoted(self, column: &Column) -> String {
        match self {
            Self::MySql => format!("`{}`", column.name.replace('`', "``")),
            Self::PostgreSql | Self::Sqlite => format!("\"{}\"", column.name.replace('"', "\"\"")),
        }
    }

    /// A parameter that is a text.
    fn parameter(self, number: usize) -> String {
        if self == Self::PostgreSql { format!("${number}::text") } else { "?".to_owned() }
    }

    /// A column's text; nothing where it holds something else.
    fn text(self, column: &Column) -> String {
        let name = self.quoted(column);
        match (self, column.class) {
            (Self::MySql, Class::Bytes) => name,
            (Self::MySql, _) => format!("CONVERT({name} USING utf8mb4)"),
            (Self::PostgreSql, _) => format!("{name}::text"),
            (Self::Sqlite, _) => format!("CASE typeof({name}) WHEN 'text' THEN {name} END"),
        }
    }

    fn contains(self, column: &Column, number: usize) -> String {
        let (name, parameter) = (self.quoted(column), self.parameter(number));
        match (self, column.class) {
            // Every byte is a letter of Latin-1.
            (Self::MySql, Class::Bytes) => {
                format!("CONVERT({name} USING latin1) LIKE {parameter} COLLATE utf8mb4_general_ci")
            }
            (Self::MySql, _) => format!("CONVERT({name} USING utf8mb4) LIKE {parameter} COLLATE utf8mb4_general_ci"),
            (Self::PostgreSql, _) => format!("{name}::text ILIKE {parameter}"),
            (Self::Sqlite, _) => format!("{name} LIKE {parameter}"),
        }
    }

    /// Whether a column holds exactly this text.
    fn has_text(self, column: &Column, number: usize) -> String {
        let (name, parameter) = (self.quoted(column), self.parameter(number));
        match (self, column.class) {
            (Self::MySql, Class::Bytes) => format!("{name} = CAST({parameter} AS BINARY)"),
            (Self::MySql, _) => {
                format!("CAST(CONVERT({name} USING utf8mb4) AS BINARY) = CAST({parameter} AS BINARY)")
            }
            (Self::PostgreSql, _) => format!("{name}::text = {parameter}"),
            (Self::Sqlite, _) => format!("{name} = {parameter} COLLATE BINARY"),
        }
    }

    fn new_text(self, column: &Column, number: usize) -> String {
        let parameter = self.parameter(number);
        if self == Self::PostgreSql { format!("CAST({parameter} AS {})", column.cast) } else { parameter }
    }

    fn key_field(self, column: &Column) -> String {
        let name = self.quoted(column);
        match (self, column.class) {
            (Self::MySql, Class::Bytes) => format!("HEX({name})"),
            (Self::MySql, Class::Text) => format!("CONVERT({name} USING utf8mb4)"),
            (Self::MySql, _) => format!("CAST({name} AS CHAR)"),
            (Self::PostgreSql, _) => format!("{name}::text"),
            (Self::Sqlite, _) => format!("quote({name})"),
        }
    }

    fn has_key(self, column: &Column, number: usize, is_key: bool) -> String {
        let (name, parameter) = (self.quoted(column), self.parameter(number));
        match (self, column.class) {
            (Self::MySql, Class::Signed) => format!("{name} <=> CAST({parameter} AS SIGNED)"),
            (Self::MySql, Class::Unsigned) => format!("{name} <=> CAST({parameter} AS UNSIGNED)"),
            (Self::MySql, Class::Bytes) => format!("{name} <=> UNHEX({parameter})"),
            (Self::MySql, Class::Text) => format!("{name} <=> {parameter}"),
            (Self::MySql, Class::Other) => format!("CAST({name} AS CHAR) <=> {parameter}"),
            (Self::PostgreSql, _) if is_key => format!("{name} = CAST({parameter} AS {})", column.cast),
            (Self::PostgreSql, _) => format!("{name}::text IS NOT DISTINCT FROM {parameter}"),
            (Self::Sqlite, _) => format!("{name} IS {parameter}"),
        }
    }
}
