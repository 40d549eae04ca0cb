//! The link as a document for those who read it: a page of HTML that needs nothing else, and Markdown with a picture for each message.

mod block;
mod content;
pub mod figure;
mod html;
mod markdown;

use emberwort_model::Plan;

use block::Block;
use emberwort_codegen::GeneratedFile;
use emberwort_codegen::file_stem;
use emberwort_codegen::vectors::Vector;

/// The document of a link: `NAME.html`, `NAME.md`, and the pictures of the latter. The examples are of the vectors.
pub fn generate(plan: &Plan, vectors: &[Vector]) -> Vec<GeneratedFile> {
    let blocks = content::blocks(plan, vectors);
    let name = file_stem(&plan.link.name);
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
