//! The link as a document for those who read it: a page of HTML that needs nothing else, and Markdown with a picture for each message.

mod content;
mod html;
mod markdown;

use emberwort_model::Plan;

use crate::GeneratedFile;
use crate::names::plain_snake;
use crate::vectors::Vector;

/// Something that stands in the document.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Block {
    /// A heading, and what links to it say.
    Heading {
        /// 1 is the title.
        level: u8,
        /// What it says.
        text: String,
        /// The name that links have; unique in the document.
        anchor: String,
    },
    /// A paragraph.
    Text(String),
    /// A table.
    Table {
        /// The titles of the columns.
        head: Vec<&'static str>,
        /// The cells of each row.
        rows: Vec<Vec<String>>,
        /// Columns of code and bytes, by number.
        code: Vec<usize>,
    },
    /// Where the fields of a message lie.
    Picture {
        /// The name of its file, where it is one of its own.
        file: String,
        /// The drawing.
        svg: String,
        /// What it shows.
        about: String,
    },
    /// Lines of code.
    Code(String),
}

/// The document of a link: `NAME.html`, `NAME.md`, and the pictures of the latter. The examples are of the vectors.
pub fn generate(plan: &Plan, vectors: &[Vector]) -> Vec<GeneratedFile> {
    let blocks = content::blocks(plan, vectors);
    let name = plain_snake(&plan.link.name);
    let mut files = vec![
        GeneratedFile { name: format!("{name}.html"), text: html::write(plan, &blocks) },
        GeneratedFile { name: format!("{name}.md"), text: markdown::write(plan, &blocks) },
    ];
    for block in blocks {
        if let Block::Picture { file, svg, .. } = block {
            files.push(GeneratedFile { name: file, text: svg });
        }
    }
    files
}
