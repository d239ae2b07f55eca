//! Columns.

use std::fmt::Write as _;

use unicode_width::UnicodeWidthStr as _;

use super::tone::in_one_line;
use super::{DIM, Tone};

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
    tone: Tone,
}

impl Cell {
    pub(crate) fn new(text: impl AsRef<str>, tone: Tone) -> Self {
        Self { text: in_one_line(text.as_ref()), tone }
    }

    fn width(&self) -> usize {
        if self.text.is_ascii() { self.text.len() } else { self.text.width() }
    }

    pub(crate) fn plain(text: impl AsRef<str>) -> Self {
        Self::new(text, Tone::PLAIN)
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
        let rows = || std::iter::once(&headings).chain(&self.rows);
        let mut widths = vec![0; headings.len()];
        for row in rows() {
            for (width, cell) in widths.iter_mut().zip(row) {
                *width = (*width).max(cell.width());
            }
        }
        let mut out = String::with_capacity((self.rows.len() + 1) * (widths.iter().sum::<usize>() + 2 * widths.len()));
        for row in rows() {
            let filled = row.iter().rposition(|cell| !cell.text.is_empty()).map_or(0, |last| last + 1);
            for (i, (cell, width)) in row.iter().zip(&widths).take(filled).enumerate() {
                _ = write!(out, "{}{}{:#}", cell.tone, cell.text, cell.tone);
                if i + 1 < filled {
                    out.extend(std::iter::repeat_n(' ', width - cell.width() + 2));
                }
            }
            out.push('\n');
        }
        out.pop();
        out
    }
}
