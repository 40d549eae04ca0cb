//! Enums and flag sets: their types, constants, and labels as text.

use emberwort_model::model::{Label, Labelled};

use super::words::{comment, constant, doc_comment, literal, number, unsigned_type};
use crate::code::Code;
use crate::names::{screaming, snake};

/// The type of an enum's codes.
pub(crate) fn enum_type(link: &str, labelled: &Labelled) -> String {
    format!("{link}_{}_t", snake(&labelled.name))
}

/// A code of an enum: its constant, or the number as one of the type, if it has none.
pub fn code(link: &str, labelled: &Labelled, code: u64) -> String {
    match labelled.labels.iter().find(|label| label.code == code) {
        Some(label) => screaming(&format!("{link}_{}", snake(&labelled.name))) + "_" + &screaming(&label.name),
        None => format!("({}){}", enum_type(link, labelled), constant(i128::from(code), labelled.bits, false)),
    }
}

/// Whether a C `enum` can hold the codes, which have to be `int`, and shows one that has no meaning: not if each code of an integer has one.
fn fits_enum(labelled: &Labelled) -> bool {
    let container = u32::from(labelled.bits.next_power_of_two().max(8));
    labelled.bits < 32 && !labelled.labels.is_empty() && (labelled.labels.len() as u64) < 1u64 << container
}

/// The labels of an enum, a flag set, or the keys of a table; `typed` makes an enum one of C. `more` may say something of a code that
/// has no text.
pub fn labelled(link: &str, labelled: &Labelled, typed: bool, more: &dyn Fn(u64) -> Option<String>, header: &mut Code) {
    let stem = format!("{link}_{}", snake(&labelled.name));
    let upper = screaming(&stem);
    doc_comment(header, &labelled.doc);
    let what = if labelled.flags { "flags" } else { "enum" };
    header.line(format!("/* {what} {}, u{} */", labelled.name, labelled.bits));
    let value = |label: &Label| match labelled.flags {
        true => constant(1i128 << label.code, labelled.bits, false),
        false => number(&labelled.base.text(label.code, 0), labelled.bits),
    };
    let said = |label: &Label| {
        if label.text.is_empty() { more(label.code) } else { Some(comment(&label.text)) }
    };
    if typed && !labelled.flags && fits_enum(labelled) {
        header.open(format!("typedef enum {stem}_t {{"));
        let last = labelled.labels.iter().map(|label| label.code).max().unwrap_or(0);
        let widest = (1u64 << labelled.bits) - 1;
        // Compilers that make enums as short as they can go by the greatest code.
        let needs_more = [8, 16].iter().any(|bits| labelled.bits > *bits && last >> bits == 0);
        for (n, label) in labelled.labels.iter().enumerate() {
            let comma = if n + 1 < labelled.labels.len() || needs_more { "," } else { "" };
            let line = format!("{upper}_{} = {}{comma}", screaming(&label.name), labelled.base.text(label.code, 0));
            described(&line, said(label), header);
        }
        if needs_more {
            header.line(format!("{upper}_GREATEST_CODE = {widest} /* no label: a field can hold it */"));
        }
        header.close(format!("}} {stem}_t;"));
    } else {
        if !labelled.flags {
            header.line(format!("typedef {} {stem}_t;", unsigned_type(labelled.bits)));
        }
        for label in &labelled.labels {
            described(&format!("#define {upper}_{} {}", screaming(&label.name), value(label)), said(label), header);
        }
    }
    let (argument, ty) = match labelled.flags {
        true => ("bit", unsigned_type(labelled.bits).to_owned()),
        false => ("code", enum_type(link, labelled)),
    };
    header.line(format!(
        "/* The label of a {}, or \"?\" for one that has none. */",
        if labelled.flags { "bit number" } else { "code" }
    ));
    header.open(format!("static inline const char *{stem}_text({ty} {argument})"));
    header.close("{");
    header.open(format!("    switch ({argument}) {{"));
    for label in &labelled.labels {
        let case = match labelled.flags {
            true => constant(i128::from(label.code), labelled.bits, false),
            false => code(link, labelled, label.code),
        };
        header.line(format!("case {case}: return {};", literal(&label.name)));
    }
    header.line("default: return \"?\";");
    header.close("    }");
    header.lines("}\n");
    header.line("");
}

/// A line with what is said of it: behind it, or in front if that is long.
fn described(line: &str, said: Option<String>, header: &mut Code) {
    match said {
        Some(said) if line.len() + said.len() > 100 => {
            header.line(format!("/* {said} */"));
            header.line(line);
        }
        Some(said) => header.line(format!("{line} /* {said} */")),
        None => header.line(line),
    }
}
