//! The working of a computation: sentences, tables, lines.

use emberwort_checksum::{Part, Working};
use serde_json::{Map, Value as Json, json};

use super::table::table;
use super::wrapped;
use crate::cli::TableForm;

/// All of it, from the top to the bottom; as NDJSON an object for each sentence, row and line.
pub fn render(working: &Working, form: TableForm) -> String {
    let mut out = String::new();
    for part in &working.parts {
        match (part, form) {
            (Part::Text(text), TableForm::Table) => out.push_str(&format!("{}\n", wrapped(text))),
            (Part::Text(text), TableForm::Ndjson) => out.push_str(&format!("{}\n", json!({"text": text}))),
            (Part::Table { titles, rows }, TableForm::Table) => {
                let mut drawn = table(titles, &vec![false; titles.len()]);
                for row in rows {
                    drawn.add_row(row.iter().cloned());
                }
                out.push_str(&format!("{}\n", drawn.lines()));
            }
            (Part::Table { titles, rows }, TableForm::Ndjson) => {
                for row in rows {
                    let cells = titles.iter().zip(row).map(|(title, cell)| ((*title).to_owned(), json!(cell)));
                    out.push_str(&format!("{}\n", Json::Object(cells.collect::<Map<_, _>>())));
                }
            }
            (Part::Lines(lines), TableForm::Table) => {
                for line in lines {
                    out.push_str(&format!("  {line}\n"));
                }
            }
            (Part::Lines(lines), TableForm::Ndjson) => {
                for line in lines {
                    out.push_str(&format!("{}\n", json!({"line": line})));
                }
            }
        }
    }
    out
}
