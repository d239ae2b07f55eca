//! Columns.

use std::fmt::Write as _;

use anstyle::Style;
use unicode_width::UnicodeWidthStr as _;

use super::DIM;

/// Rows of cells under a heading; each column as wide as its widest cell.
#[derive(Debug)]
pub(crate) struct Table {
    headings: Vec<&'static str>,
    rows: Vec<Vec<Cell>>,
}

/// A text with its style.
#[derive(Clone, Debug)]
pub(crate) struct Cell {
    text: String,
    style: Style,
}

impl Cell {
    pub(crate) fn new(text: impl Into<String>, style: Style) -> Self {
        Self { text: text.into(), style }
    }

    pub(crate) fn plain(text: impl Into<String>) -> Self {
        Self::new(text, Style::new())
    }
}

impl Table {
    pub(crate) fn new(headings: &[&'static str]) -> Self {
        Self { headings: headings.to_vec(), rows: Vec::new() }
    }

    pub(crate) fn row(&mut self, cells: Vec<Cell>) {
        self.rows.push(cells);
    }

    /// The lines, without a line end behind the last.
    pub(crate) fn render(&self) -> String {
        let headings: Vec<Cell> = self.headings.iter().map(|heading| Cell::new(*heading, DIM)).collect();
        let mut widths = vec![0; headings.len()];
        for row in std::iter::once(&headings).chain(&self.rows) {
            for (width, cell) in widths.iter_mut().zip(row) {
                *width = (*width).max(cell.text.width());
            }
        }
        let lines = std::iter::once(&headings).chain(&self.rows).map(|row| line(row, &widths));
        lines.collect::<Vec<_>>().join("\n")
    }
}

fn line(row: &[Cell], widths: &[usize]) -> String {
    let mut line = String::new();
    for (i, (cell, width)) in row.iter().zip(widths).enumerate() {
        let Cell { text, style } = cell;
        let last = i + 1 == row.len();
        let pad = if last { 0 } else { width - text.width() + 2 };
        _ = write!(line, "{style}{text}{style:#}{}", " ".repeat(pad));
    }
    line
}
