//! Tables for people: a heading line, aligned columns, no frame.

use comfy_table::{CellAlignment, Table, presets};

/// A table with these column titles. Columns of which `right` is true are aligned to the right.
pub fn table(titles: &[&str], right: &[bool]) -> Table {
    let mut table = Table::new();
    table.load_preset(presets::NOTHING).set_header(titles.iter().map(|title| title.to_uppercase()));
    for (column, right) in table.column_iter_mut().zip(right) {
        column.set_padding((0, 2));
        if *right {
            column.set_cell_alignment(CellAlignment::Right);
        }
    }
    table
}

/// The lines of a table without spaces at their ends.
pub fn lines(table: &Table) -> String {
    let mut out = String::new();
    for line in table.lines() {
        out.push_str(line.trim_end());
        out.push('\n');
    }
    out
}
