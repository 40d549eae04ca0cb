//! The document as a page of HTML that needs nothing else.

use emberwort_model::Plan;

use crate::block::Block;
use crate::figure::xml;

const STYLE: &str = include_str!("style.css");

/// The page.
pub fn write(plan: &Plan, blocks: &[Block]) -> String {
    let link = &plan.link;
    let mut out = format!(
        "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<!-- {} -->\n\
         <meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n<title>{}, revision {}</title>\n<style>\n{STYLE}</style>\n</head>\n<body>\n",
        xml(&emberwort_codegen::origin(plan)),
        xml(&link.name),
        link.revision
    );
    out.push_str("<nav>\n");
    for block in blocks {
        if let Block::Heading { level: level @ 2..=3, text, anchor } = block {
            out.push_str(&format!("<a class=\"l{level}\" href=\"#{anchor}\">{}</a>\n", xml(text)));
        }
    }
    out.push_str("</nav>\n<main>\n");
    for block in blocks {
        one(block, &mut out);
    }
    out.push_str("</main>\n</body>\n</html>\n");
    out
}

fn one(block: &Block, out: &mut String) {
    match block {
        Block::Heading { level, text, anchor } => {
            out.push_str(&format!("<h{level} id=\"{anchor}\">{}</h{level}>\n", xml(text)));
        }
        Block::Text(text) => {
            for paragraph in text.split("\n\n") {
                out.push_str(&format!("<p>{}</p>\n", xml(paragraph)));
            }
        }
        Block::Table { head, rows, code } => {
            out.push_str("<div class=\"wide\"><table>\n<tr>");
            head.iter().for_each(|title| out.push_str(&format!("<th>{}</th>", xml(title))));
            out.push_str("</tr>\n");
            for row in rows {
                out.push_str("<tr>");
                for (column, cell) in row.iter().enumerate() {
                    match code.contains(&column) {
                        true => out.push_str(&format!("<td><code>{}</code></td>", xml(cell))),
                        false => out.push_str(&format!("<td>{}</td>", xml(cell))),
                    }
                }
                out.push_str("</tr>\n");
            }
            out.push_str("</table></div>\n");
        }
        Block::Picture { svg, about, .. } => {
            // In a page the drawing is as wide as there is room.
            let drawing = svg.find("<svg").map_or(svg.as_str(), |at| &svg[at..]);
            out.push_str(&format!("<figure role=\"img\" aria-label=\"{}\">\n{drawing}</figure>\n", xml(about)));
        }
        Block::Code(code) => out.push_str(&format!("<pre>{}</pre>\n", xml(code))),
    }
}
