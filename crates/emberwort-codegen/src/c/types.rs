//! Enums and flag sets: constants, and labels as text.

use emberwort_model::model::Labelled;

use super::words::{comment, constant, doc_comment, literal, number, unsigned_type};
use crate::code::Code;
use crate::names::{screaming, snake};

/// The labels of an enum, a flag set, or the keys of a table. `more` may say something of a code that has no text.
pub fn labelled(link: &str, labelled: &Labelled, more: &dyn Fn(u64) -> Option<String>, header: &mut Code) {
    let stem = format!("{link}_{}", snake(&labelled.name));
    let upper = screaming(&stem);
    let ty = unsigned_type(labelled.bits);
    doc_comment(header, &labelled.doc);
    let what = if labelled.flags { "flags" } else { "enum" };
    header.line(format!("/* {what} {}, u{} */", labelled.name, labelled.bits));
    for label in &labelled.labels {
        let value = match labelled.flags {
            true => constant(1i128 << label.code, labelled.bits, false),
            false => number(&labelled.base.text(label.code, 0), labelled.bits),
        };
        let text = if label.text.is_empty() { more(label.code) } else { Some(comment(&label.text)) };
        let line = format!("#define {upper}_{} {value}", screaming(&label.name));
        match text {
            // What is said at length stands in front.
            Some(text) if line.len() + text.len() > 100 => header.lines(&format!("/* {text} */\n{line}")),
            Some(text) => header.line(format!("{line} /* {text} */")),
            None => header.line(line),
        }
    }
    let argument = if labelled.flags { "bit" } else { "code" };
    header.line(format!(
        "/* The label of a {}, or \"?\" for one that has none. */",
        if labelled.flags { "bit number" } else { "code" }
    ));
    header.open(format!("static inline const char *{stem}_text({ty} {argument})"));
    header.close("{");
    header.open(format!("    switch ({argument}) {{"));
    for label in &labelled.labels {
        header.line(format!(
            "case {}: return {};",
            constant(i128::from(label.code), labelled.bits, false),
            literal(&label.name)
        ));
    }
    header.line("default: return \"?\";");
    header.close("    }");
    header.lines("}\n");
    header.line("");
}
