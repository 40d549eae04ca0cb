//! Tables with titles, as text for people or as Markdown.

use std::fmt::Write as _;

use super::table::table;

/// A table with a title.
pub struct Sheet {
    pub title: String,
    /// The titles of the columns, and whether each is set to the right.
    pub columns: Vec<(&'static str, bool)>,
    pub rows: Vec<Vec<String>>,
}

impl Sheet {
    pub fn new(title: &str, columns: &[(&'static str, bool)]) -> Self {
        Self { title: title.to_owned(), columns: columns.to_vec(), rows: Vec::new() }
    }

    /// As text.
    pub fn text(&self) -> String {
        let titles: Vec<&str> = self.columns.iter().map(|(title, _)| *title).collect();
        let right: Vec<bool> = self.columns.iter().map(|(_, right)| *right).collect();
        let mut shown = table(&titles, &right);
        for row in &self.rows {
            shown.add_row(row.clone());
        }
        format!("{}\n{}", self.title, shown.lines())
    }

    /// As Markdown.
    pub fn markdown(&self) -> String {
        let mut out = format!("## {}\n\n", self.title);
        let titles: Vec<&str> = self.columns.iter().map(|(title, _)| *title).collect();
        let rules: Vec<&str> = self.columns.iter().map(|(_, right)| if *right { "---:" } else { "---" }).collect();
        let _ = writeln!(out, "| {} |\n| {} |", titles.join(" | "), rules.join(" | "));
        for row in &self.rows {
            let cells: Vec<String> = row.iter().map(|cell| markdown_cell(cell)).collect();
            let _ = writeln!(out, "| {} |", cells.join(" | "));
        }
        out
    }
}

/// Text of a capture or a definition, so that it stays a cell.
fn markdown_cell(text: &str) -> String {
    text.chars().fold(String::new(), |mut cell, c| {
        match c {
            '|' | '\\' | '<' | '`' | '*' | '_' | '[' => {
                cell.push('\\');
                cell.push(c);
            }
            '\n' | '\r' => cell.push(' '),
            c => cell.push(c),
        }
        cell
    })
}
