//! Tables for people: a heading line, aligned columns, no frame. In a narrow terminal the words of the last column take several
//! lines; if there is no room for that either, the columns without room follow below, beside the first column once more.

use comfy_table::{CellAlignment, Table as Drawn, presets};

use crate::output;

/// Space between columns.
const GAP: usize = 2;

/// Words in narrower columns are hard to read.
const LEAST_WORDS: usize = 24;

/// A table that is being filled.
pub struct Table {
    titles: Vec<String>,
    right: Vec<bool>,
    rows: Vec<Vec<String>>,
}

/// A table with these column titles. Columns of which `right` is true are aligned to the right.
pub fn table(titles: &[&str], right: &[bool]) -> Table {
    Table { titles: titles.iter().map(|title| title.to_uppercase()).collect(), right: right.to_vec(), rows: Vec::new() }
}

impl Table {
    /// Adds a row with a cell for each column.
    pub fn add_row<T: Into<String>>(&mut self, cells: impl IntoIterator<Item = T>) {
        self.rows.push(cells.into_iter().map(Into::into).collect());
    }

    /// The lines without spaces at their ends, no longer than the terminal is wide, if there is one.
    pub fn lines(&self) -> String {
        self.lines_within(output::terminal_width().unwrap_or(usize::MAX))
    }

    fn lines_within(&self, width: usize) -> String {
        if let Some(wrapped) = self.with_wrapped_words(width) {
            return wrapped.draw(&(0..self.titles.len()).collect::<Vec<_>>());
        }
        let groups = self.groups(width);
        let drawn: Vec<String> = groups.iter().map(|columns| self.draw(columns)).collect();
        drawn.join("\n")
    }

    /// The width of a column with the gap behind it.
    fn size(&self, column: usize) -> usize {
        let cells = self.rows.iter().filter_map(|row| row.get(column));
        let widest = cells.chain(self.titles.get(column)).map(|cell| cell.chars().count()).max();
        widest.unwrap_or(0) + GAP
    }

    /// This table with the words of its last column in several lines, if it is too wide, and that helps.
    fn with_wrapped_words(&self, width: usize) -> Option<Table> {
        let last = self.titles.len().checked_sub(1)?;
        let before: usize = (0..last).map(|column| self.size(column)).sum();
        let room = width.checked_sub(before).filter(|room| *room >= LEAST_WORDS)?;
        let cells = || self.rows.iter().filter_map(|row| row.get(last));
        let is_words = self.right.get(last) != Some(&true) && cells().any(|cell| cell.contains(' '));
        if !is_words || self.size(last) - GAP <= room {
            return None;
        }
        let mut rows = self.rows.clone();
        for cell in rows.iter_mut().filter_map(|row| row.get_mut(last)) {
            *cell = textwrap::fill(cell, textwrap::Options::new(room).break_words(false));
        }
        Some(Table { titles: self.titles.clone(), right: self.right.clone(), rows })
    }

    /// The columns that stand beside each other: all, if there is room; else the first and as many as fit, again and again,
    /// without those that say nothing.
    fn groups(&self, width: usize) -> Vec<Vec<usize>> {
        let all: Vec<usize> = (0..self.titles.len()).collect();
        let groups = self.grouped(all.iter().copied(), width);
        if groups.len() < 2 {
            return groups;
        }
        let says = |column: &usize| self.rows.iter().any(|row| row.get(*column).is_some_and(|cell| !cell.is_empty()));
        self.grouped(all.into_iter().filter(|column| *column == 0 || says(column)), width)
    }

    fn grouped(&self, columns: impl Iterator<Item = usize>, width: usize) -> Vec<Vec<usize>> {
        let size = |column: usize| self.size(column);
        let mut groups: Vec<Vec<usize>> = Vec::new();
        let mut used = usize::MAX;
        for column in columns {
            let more = size(column);
            match groups.last_mut() {
                // The gap behind the last column is not seen.
                Some(group) if used.saturating_add(more) <= width.saturating_add(GAP) => {
                    group.push(column);
                    used += more;
                }
                _ => {
                    used = if column == 0 { more } else { size(0) + more };
                    groups.push(if column == 0 { vec![0] } else { vec![0, column] });
                }
            }
        }
        groups
    }

    fn draw(&self, columns: &[usize]) -> String {
        let mut drawn = Drawn::new();
        drawn.load_preset(presets::NOTHING).set_header(columns.iter().map(|column| &self.titles[*column]));
        for row in &self.rows {
            drawn.add_row(columns.iter().map(|column| row.get(*column).map_or("", String::as_str)));
        }
        for (column, index) in drawn.column_iter_mut().zip(columns) {
            column.set_padding((0, GAP as u16));
            if self.right.get(*index) == Some(&true) {
                column.set_cell_alignment(CellAlignment::Right);
            }
        }
        let mut out = String::new();
        for line in drawn.lines() {
            out.push_str(line.trim_end());
            out.push('\n');
        }
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_of_the_last_column_take_several_lines() {
        let mut rules = table(&["result", "found"], &[false, false]);
        rules.add_row(["held", "5 sent, 5 in time, 0 never answered, slowest after 8.223 ms"]);
        rules.add_row(["BROKEN", "28 counter gaps"]);
        assert_eq!(
            rules.lines_within(40),
            "RESULT  FOUND\nheld    5 sent, 5 in time, 0 never\n        answered, slowest after 8.223 ms\nBROKEN  28 counter gaps\n"
        );
        assert_eq!(rules.lines_within(67).lines().count(), 3);
        // With less room than words need, the column stands below by itself.
        assert!(rules.lines_within(31).lines().all(|line| line.len() <= 67));
        assert!(rules.lines_within(32).lines().all(|line| line.len() <= 32));
    }

    #[test]
    fn columns_without_room_follow_below_beside_the_first_one() {
        let mut grid = table(&["field", "bits", "physical", "unit"], &[false, true, false, false]);
        grid.add_row(["depth", "12", "0 .. 12", "m"]);
        grid.add_row(["trend", "4", "", ""]);
        assert_eq!(grid.lines_within(80), "FIELD  BITS  PHYSICAL  UNIT\ndepth    12  0 .. 12   m\ntrend     4\n");
        // Just enough room, and one column less.
        assert_eq!(grid.lines_within(27), grid.lines_within(80));
        assert_eq!(
            grid.lines_within(26),
            "FIELD  BITS  PHYSICAL\ndepth    12  0 .. 12\ntrend     4\n\nFIELD  UNIT\ndepth  m\ntrend\n"
        );
        // A column that says nothing is the first to go.
        let mut sparse = table(&["field", "default", "unit"], &[false; 3]);
        sparse.add_row(["depth", "", "m"]);
        assert_eq!(sparse.lines_within(80), "FIELD  DEFAULT  UNIT\ndepth           m\n");
        assert_eq!(sparse.lines_within(15), "FIELD  UNIT\ndepth  m\n");
        // However narrow, every column is shown, and no line but that of a wide cell is longer.
        let narrow = grid.lines_within(5);
        for title in ["BITS", "PHYSICAL", "UNIT"] {
            assert!(narrow.contains(&format!("FIELD  {title}\n")), "{narrow}");
        }
    }
}
