//! The document as Markdown, with its pictures beside it.

use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;

use crate::block::Block;

/// The file.
pub fn write(plan: &Plan, blocks: &[Block]) -> String {
    let mut out = format!("<!-- {} -->\n", emberwort_codegen::origin(plan));
    for block in blocks {
        out.push('\n');
        one(block, &mut out);
    }
    out
}

fn one(block: &Block, out: &mut String) {
    match block {
        Block::Heading { level, text, .. } => {
            out.push_str(&format!("{} {}\n", "#".repeat(usize::from(*level)), plain(text)));
        }
        Block::Text(text) => text.lines().for_each(|line| out.push_str(&format!("{}\n", plain(line)))),
        Block::Table { head, rows, code } => {
            out.push_str(&format!("| {} |\n|{}\n", head.join(" | "), "---|".repeat(head.len())));
            for row in rows {
                let cell = |(column, cell): (usize, &String)| match code.contains(&column) && !cell.is_empty() {
                    true => format!("`{}`", escaped(cell).replace('|', "\\|").replace('`', "'")),
                    false => plain(cell),
                };
                let cells: Vec<String> = row.iter().enumerate().map(cell).collect();
                out.push_str(&format!("| {} |\n", cells.join(" | ")));
            }
        }
        Block::Picture { file, about, .. } => out.push_str(&format!("![{}]({file})\n", plain(about))),
        Block::Code(code) => {
            // A fence longer than any in the code.
            let mut longest = 0;
            let mut run = 0;
            for c in code.chars() {
                run = if c == '`' { run + 1 } else { 0 };
                longest = longest.max(run);
            }
            let fence = "`".repeat(longest.max(2) + 1);
            out.push_str(&format!("{fence}json\n{code}\n{fence}\n"));
        }
    }
}

/// Text in which nothing is markup.
fn plain(text: &str) -> String {
    let mut out = String::new();
    for c in escaped(text).chars() {
        match c {
            '\\' | '`' | '*' | '_' | '[' | ']' | '<' | '>' | '|' | '#' => out.extend(['\\', c]),
            '&' => out.push_str("&amp;"),
            c => out.push(c),
        }
    }
    out
}
