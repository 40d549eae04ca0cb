//! Enums and flag sets: constants, and labels as text.

use emberwort_model::model::Labelled;

use super::words::{comment, constant, doc_comment, literal, unsigned_type};
use crate::code::Code;
use crate::names::{screaming, snake};

pub fn labelled(link: &str, labelled: &Labelled, header: &mut Code, source: &mut Code) {
    let stem = format!("{link}_{}", snake(&labelled.name));
    let upper = screaming(&stem);
    let ty = unsigned_type(labelled.bits);
    doc_comment(header, &labelled.doc);
    let what = if labelled.flags { "flags" } else { "enum" };
    header.line(format!("/* {what} {}, u{} */", labelled.name, labelled.bits));
    for label in &labelled.labels {
        let value = if labelled.flags { 1i128 << label.code } else { i128::from(label.code) };
        let note = if label.text.is_empty() { String::new() } else { format!(" /* {} */", comment(&label.text)) };
        header.line(format!(
            "#define {upper}_{} {}{note}",
            screaming(&label.name),
            constant(value, labelled.bits, false)
        ));
    }
    let argument = if labelled.flags { "bit" } else { "code" };
    header.line(format!(
        "/* The label of a {}, or \"?\" for one that has none. */",
        if labelled.flags { "bit number" } else { "code" }
    ));
    header.line(format!("const char *{stem}_text({ty} {argument});"));
    header.line("");

    source.open(format!("const char *{stem}_text({ty} {argument})"));
    source.close("{");
    source.open(format!("    switch ({argument}) {{"));
    for label in &labelled.labels {
        source.line(format!(
            "case {}: return {};",
            constant(i128::from(label.code), labelled.bits, false),
            literal(&label.name)
        ));
    }
    source.line("default: return \"?\";");
    source.close("    }");
    source.lines("}\n");
}
