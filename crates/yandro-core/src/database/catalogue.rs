//! The tables of a database, as its catalogue has them.

use serde::{Deserialize, Serialize};

use super::address::DatabaseKind;

/// A table.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct DatabaseTable {
    /// Its name for people.
    pub name: String,
    /// Its name in statements.
    pub(super) quoted: String,
    pub(super) columns: Vec<Column>,
    /// How many rows it has, as the database believes.
    pub rows: u64,
}

/// A column of a table.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Column {
    pub(super) name: String,
    pub(super) class: Class,
    /// Its type without a length, as a cast names it (PostgreSQL): a cast to one with a length cuts.
    pub(super) cast: String,
    pub(super) is_generated: bool,
    pub(super) is_key: bool,
    /// Whether the database itself sets it when a row changes.
    pub(super) sets_itself: bool,
}

/// What a column holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub(super) enum Class {
    Text,
    /// Bytes that may be a text.
    Bytes,
    Signed,
    Unsigned,
    Other,
}

/// The statement that lists the columns of all tables of a database, a row each: the table's name in statements and for
/// people, how many rows it has, the column, its class, its type, whether it is generated, of the key, set by itself.
pub fn catalogue(kind: DatabaseKind) -> &'static str {
    match kind {
        DatabaseKind::MySql => {
            "SELECT CONCAT('`', REPLACE(c.TABLE_NAME, '`', '``'), '`'), c.TABLE_NAME, CAST(COALESCE(t.TABLE_ROWS, 0) AS CHAR), \
             c.COLUMN_NAME, CASE \
             WHEN c.DATA_TYPE IN ('char', 'varchar', 'tinytext', 'text', 'mediumtext', 'longtext', 'json') THEN 'text' \
             WHEN c.DATA_TYPE LIKE '%blob' OR c.DATA_TYPE LIKE '%binary' THEN 'bytes' \
             WHEN c.DATA_TYPE LIKE '%int' THEN IF(c.COLUMN_TYPE LIKE '%unsigned%', 'unsigned', 'signed') \
             ELSE 'other' END, '', \
             IF(COALESCE(c.GENERATION_EXPRESSION, '') <> '', 1, 0), IF(c.COLUMN_KEY = 'PRI', 1, 0), \
             IF(c.EXTRA LIKE '%on update%', 1, 0) \
             FROM information_schema.COLUMNS c JOIN information_schema.TABLES t \
             ON t.TABLE_SCHEMA = c.TABLE_SCHEMA AND t.TABLE_NAME = c.TABLE_NAME \
             WHERE c.TABLE_SCHEMA = DATABASE() AND t.TABLE_TYPE = 'BASE TABLE' \
             ORDER BY c.TABLE_NAME, c.ORDINAL_POSITION"
        }
        DatabaseKind::PostgreSql => {
            "SELECT quote_ident(n.nspname) || '.' || quote_ident(c.relname), \
             CASE n.nspname WHEN 'public' THEN '' ELSE n.nspname || '.' END || c.relname, \
             greatest(c.reltuples, 0)::bigint::text, a.attname::text, CASE \
             WHEN t.typcategory = 'S' OR t.typname IN ('json', 'jsonb', 'xml', 'hstore') \
             OR (t.typcategory = 'A' AND e.typcategory = 'S') THEN 'text' ELSE 'other' END, \
             format_type(a.atttypid, -1), (a.attgenerated <> '')::int::text, \
             (a.attnum = ANY (coalesce(i.indkey, ''::int2vector)))::int::text, '0' \
             FROM pg_attribute a JOIN pg_class c ON c.oid = a.attrelid JOIN pg_namespace n ON n.oid = c.relnamespace \
             JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_type e ON e.oid = t.typelem \
             LEFT JOIN pg_index i ON i.indrelid = c.oid AND i.indisprimary \
             WHERE c.relkind = 'r' AND n.nspname <> 'information_schema' AND left(n.nspname, 3) <> 'pg_' \
             AND a.attnum > 0 AND NOT a.attisdropped AND has_table_privilege(c.oid, 'SELECT') \
             ORDER BY n.nspname, c.relname, a.attnum"
        }
        // A table's rows are numbered unless it is declared without that. The rows of a search index are not its own.
        DatabaseKind::Sqlite => {
            "SELECT '\"' || replace(t.name, '\"', '\"\"') || '\"', t.name, '0', x.name, 'text', \
             CASE WHEN t.wr THEN 'declared' ELSE 'numbered' END, \
             CASE WHEN x.hidden IN (2, 3) THEN '1' ELSE '0' END, CASE WHEN x.pk > 0 THEN '1' ELSE '0' END, '0' \
             FROM pragma_table_list t, pragma_table_xinfo(t.name) x \
             WHERE t.schema = 'main' AND t.type = 'table' AND t.name NOT LIKE 'sqlite!_%' ESCAPE '!' \
             ORDER BY t.name, x.cid"
        }
    }
}

/// The tables, from the rows of [`catalogue`]'s statement.
pub fn tables(rows: impl IntoIterator<Item = Vec<Option<String>>>) -> Vec<DatabaseTable> {
    let mut tables: Vec<DatabaseTable> = Vec::new();
    for row in rows {
        let row: Vec<String> = row.into_iter().map(Option::unwrap_or_default).collect();
        let [quoted, table, count, name, class, cast, generated, key, itself] = row.as_slice() else { continue };
        if tables.last().is_none_or(|last| last.quoted != *quoted) {
            let rows = count.parse().unwrap_or(0);
            tables.push(DatabaseTable { name: table.clone(), quoted: quoted.clone(), columns: Vec::new(), rows });
        }
        let class = match class.as_str() {
            "text" => Class::Text,
            "bytes" => Class::Bytes,
            "signed" => Class::Signed,
            "unsigned" => Class::Unsigned,
            _ => Class::Other,
        };
        let (is_generated, is_key, sets_itself) = (generated == "1", key == "1", itself == "1");
        let column = Column { name: name.clone(), class, cast: cast.clone(), is_generated, is_key, sets_itself };
        if let Some(table) = tables.last_mut() {
            table.columns.push(column);
        }
    }
    tables
}
