//! Tables.

use std::fmt::Write as _;

use unicode_width::{UnicodeWidthChar as _, UnicodeWidthStr as _};

use super::tone::in_one_line;
use super::{DIM, Tone};

/// How narrow a column may become when its cells are wrapped, in columns of the terminal.
const NARROWEST: usize = 12;
/// Spaces between two columns.
const GAP: usize = 2;

/// Rows of cells under a heading; each column as wide as its widest cell.
#[derive(Debug)]
pub(crate) struct Table {
    headings: Vec<&'static str>,
    /// The columns that a narrow terminal can do without, the least important first.
    least: Vec<&'static str>,
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

    pub(crate) fn plain(text: impl AsRef<str>) -> Self {
        Self::new(text, Tone::PLAIN)
    }
}

/// How many columns of a terminal a text takes.
pub(crate) fn width_of(text: &str) -> usize {
    if text.is_ascii() { text.len() } else { text.width() }
}

impl Table {
    pub(crate) fn new(headings: &[&'static str]) -> Self {
        Self { headings: headings.to_vec(), least: Vec::new(), rows: Vec::new() }
    }

    /// Whether it has no row.
    pub(crate) fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// Names the columns that a narrow terminal can do without, the least important first.
    pub(crate) fn least(mut self, headings: &[&'static str]) -> Self {
        self.least = headings.to_vec();
        self
    }

    pub(crate) fn row(&mut self, cells: Vec<Cell>) {
        self.rows.push(cells);
    }

    /// The lines, without a line end behind the last. In a `width` that is too narrow, the least important columns
    /// are left out and named below the table; if that isn't enough, the widest ones are wrapped.
    pub(crate) fn render(&self, width: Option<usize>) -> String {
        let mut columns: Vec<usize> = (0..self.headings.len()).collect();
        let mut widths = self.widths();
        let mut left_out = Vec::new();
        if let Some(width) = width {
            let mut least = self.least.iter();
            while total(&columns, &widths) > width {
                let Some(heading) = least.next() else { break };
                columns.retain(|column| self.headings[*column] != *heading);
                left_out.push(*heading);
            }
            squeeze(&columns, &mut widths, width);
        }
        let mut out = String::with_capacity((self.rows.len() + 1) * (total(&columns, &widths) + 1));
        let headings: Vec<Cell> = self.headings.iter().map(|heading| Cell::new(*heading, DIM)).collect();
        for row in std::iter::once(&headings).chain(&self.rows) {
            push_row(&mut out, row, &columns, &widths);
        }
        out.pop();
        if !left_out.is_empty() {
            _ = write!(out, "\n{DIM}The terminal is too narrow for: {}{DIM:#}", left_out.join(", "));
        }
        out
    }

    /// How wide each column is, so that every cell fits.
    fn widths(&self) -> Vec<usize> {
        let mut widths: Vec<usize> = self.headings.iter().map(|heading| width_of(heading)).collect();
        for row in &self.rows {
            for (width, cell) in widths.iter_mut().zip(row) {
                *width = (*width).max(width_of(&cell.text));
            }
        }
        widths
    }
}

/// A table whose columns have fixed widths, so that a row can be printed before the next one is known. A cell that is
/// wider moves the rest of its row; on a terminal it is wrapped.
#[derive(Debug)]
pub(crate) struct FixedTable {
    headings: Vec<&'static str>,
    widths: Vec<usize>,
    is_wrapped: bool,
}

impl FixedTable {
    /// Columns with their headings, each with the widest cell that it has as a rule.
    pub(crate) fn new(columns: &[(&'static str, String)], width: Option<usize>) -> Self {
        let mut widths: Vec<usize> =
            columns.iter().map(|(heading, cell)| width_of(heading).max(width_of(cell))).collect();
        if let Some(width) = width {
            squeeze(&(0..columns.len()).collect::<Vec<_>>(), &mut widths, width);
        }
        Self { headings: columns.iter().map(|(heading, _)| *heading).collect(), widths, is_wrapped: width.is_some() }
    }

    /// The line of headings.
    pub(crate) fn heading(&self) -> String {
        let cells: Vec<Cell> = self.headings.iter().map(|heading| Cell::new(*heading, DIM)).collect();
        self.row(&cells)
    }

    /// A row, without a line end behind it.
    pub(crate) fn row(&self, cells: &[Cell]) -> String {
        let columns: Vec<usize> = (0..self.widths.len()).collect();
        let mut widths = self.widths.clone();
        if !self.is_wrapped {
            for (width, cell) in widths.iter_mut().zip(cells) {
                *width = (*width).max(width_of(&cell.text));
            }
        }
        let mut out = String::new();
        push_row(&mut out, cells, &columns, &widths);
        out.pop();
        out
    }
}

fn total(columns: &[usize], widths: &[usize]) -> usize {
    columns.iter().map(|column| widths[*column]).sum::<usize>() + GAP * columns.len().saturating_sub(1)
}

/// Makes the widest columns narrower until all fit, but none narrower than [`NARROWEST`].
fn squeeze(columns: &[usize], widths: &mut [usize], width: usize) {
    while total(columns, widths) > width {
        let widest = columns.iter().copied().max_by_key(|column| widths[*column]);
        match widest.filter(|column| widths[*column] > NARROWEST) {
            Some(column) => widths[column] -= 1,
            None => return,
        }
    }
}

/// A row, on as many lines as its cells need.
fn push_row(out: &mut String, row: &[Cell], columns: &[usize], widths: &[usize]) {
    let mut cells: Vec<(Tone, std::collections::VecDeque<&str>, usize)> = columns
        .iter()
        .filter_map(|column| Some((row.get(*column)?, widths[*column])))
        .map(|(cell, width)| (cell.tone, wrapped(&cell.text, width).into(), width))
        .collect();
    loop {
        let line: Vec<(Tone, &str, usize)> = cells
            .iter_mut()
            .map(|(tone, parts, width)| (*tone, parts.pop_front().unwrap_or_default(), *width))
            .collect();
        let filled = line.iter().rposition(|(_, text, _)| !text.is_empty()).map_or(0, |last| last + 1);
        for (i, (tone, text, width)) in line.iter().take(filled).enumerate() {
            _ = write!(out, "{tone}{text}{tone:#}");
            if i + 1 < filled {
                out.extend(std::iter::repeat_n(' ', width.saturating_sub(width_of(text)) + GAP));
            }
        }
        out.push('\n');
        if cells.iter().all(|(_, parts, _)| parts.is_empty()) {
            return;
        }
    }
}

/// A text in lines of at most this width, cut behind a space, a comma or a slash where there is one.
fn wrapped(text: &str, width: usize) -> Vec<&str> {
    let mut lines = Vec::new();
    let mut rest = text;
    while width_of(rest) > width {
        let (mut end, mut used, mut good) = (0, 0, None);
        for (at, c) in rest.char_indices() {
            let c_width = c.width().unwrap_or(0);
            if used + c_width > width && end > 0 {
                break;
            }
            used += c_width;
            end = at + c.len_utf8();
            if matches!(c, ' ' | ',' | '/') && used > width / 2 {
                good = Some(end);
            }
        }
        let (line, behind) = rest.split_at(good.unwrap_or(end));
        lines.push(line.trim_end());
        rest = behind;
    }
    lines.push(rest);
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    fn table() -> Table {
        let mut table = Table::new(&["SITE", "SERVER", "ROOT", "STATUS"]).least(&["SERVER", "STATUS"]);
        for (site, root) in [("saltmarsh.test", "/srv/ferries/saltmarsh/public"), ("fähre.test", "/srv/fähre")] {
            table.row([site, "nginx", root, "mapped"].map(Cell::plain).to_vec());
        }
        table
    }

    #[test]
    fn a_narrow_terminal_loses_columns_and_wraps_but_no_line_is_too_long() {
        let shown = |width| super::super::plain(&table().render(width));
        insta::assert_snapshot!(shown(None), @r"
        SITE            SERVER  ROOT                           STATUS
        saltmarsh.test  nginx   /srv/ferries/saltmarsh/public  mapped
        fähre.test      nginx   /srv/fähre                     mapped
        ");
        assert_eq!(shown(None), shown(Some(61)));
        insta::assert_snapshot!(shown(Some(40)), @r"
        SITE            ROOT
        saltmarsh.test  /srv/ferries/saltmarsh/
                        public
        fähre.test      /srv/fähre
        The terminal is too narrow for: SERVER, STATUS
        ");
        for width in 30..70 {
            let text = shown(Some(width));
            let lines = text.lines().filter(|line| !line.starts_with("The terminal"));
            assert!(lines.clone().all(|line| width_of(line) <= width), "{width}:\n{text}");
            let letters = |text: &str| text.chars().filter(|c| c.is_alphanumeric()).count();
            assert!(width < 48 || letters(&text) >= letters(&shown(None)) - letters("SERVER nginx nginx"), "{text}");
        }
    }
}
