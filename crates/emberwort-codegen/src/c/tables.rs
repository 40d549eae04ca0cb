//! Tables: the keys of their entries, what may be done with each, and setting a value together with its key.

use emberwort_model::model::{End, Field, Kind, Length, Selector, Table};
use emberwort_model::plan::{Action, MessagePlan, UnionPlan};

use super::numbers::raw_type;
use super::words::{about, comment, member, unsigned_type};
use crate::code::Code;
use crate::names::{screaming, snake};

/// What may be done with entries, as bits.
pub fn common(link: &str, header: &mut Code) {
    let upper = screaming(link);
    header.lines(&format!(
        "/* What may be done with an entry of a table, as bits. */\n\
         #define {upper}_ENTRY_READ UINT8_C(1) /* the host may read it */\n\
         #define {upper}_ENTRY_WRITE UINT8_C(2) /* the host may write it */\n\
         #define {upper}_ENTRY_KEPT UINT8_C(4) /* the device keeps it over a restart */\n"
    ));
    header.line("");
}

/// The keys of a table, their names, and what may be done with its entries.
pub fn write(link: &str, table: &Table, typed: bool, header: &mut Code) {
    super::types::labelled(
        link,
        &table.keys,
        typed,
        &|code| {
            let entry = table.entries.iter().find(|entry| entry.key == code)?;
            let ways = [(entry.read, "read"), (entry.write, "write"), (entry.kept, "kept")];
            let ways: Vec<&str> = ways.into_iter().filter(|(is_so, _)| *is_so).map(|(_, way)| way).collect();
            let what = about(&entry.field);
            let doc = comment(entry.field.doc.lines().next().unwrap_or_default());
            let all = [doc, what, ways.join(", ")];
            Some(all.into_iter().filter(|text| !text.is_empty()).collect::<Vec<_>>().join("; "))
        },
        header,
    );
    let stem = format!("{link}_{}", snake(&table.name));
    let (upper, link_upper) = (screaming(&stem), screaming(link));
    let ty = unsigned_type(table.keys.bits);
    header.lines(&format!(
        "/* What may be done with an entry, as bits; 0 for a key that there is not. */\n\
         static inline uint8_t {stem}_access({ty} key)\n{{\n    switch (key) {{"
    ));
    for entry in &table.entries {
        let bits = [(entry.read, "READ"), (entry.write, "WRITE"), (entry.kept, "KEPT")];
        let bits: Vec<String> = bits
            .into_iter()
            .filter(|(is_so, _)| *is_so)
            .map(|(_, name)| format!("{link_upper}_ENTRY_{name}"))
            .collect();
        let value = match bits.as_slice() {
            [] => "0u".to_owned(),
            [one] => one.clone(),
            several => format!("(uint8_t)({})", several.join(" | ")),
        };
        header.line(format!("    case {upper}_{}: return {value};", screaming(&entry.field.name)));
    }
    header.lines("    default: return 0u;\n    }\n}\n");
    header.line("");
}

/// For each value of a table that a message holds beside its key: functions that set both, one for each entry.
pub fn setters(link: &str, stem: &str, plan: &MessagePlan, header: &mut Code) {
    let fields = &plan.message.fields;
    for step in plan.sections.iter().flat_map(|section| &section.steps) {
        let Action::Union(union) = &step.action else { continue };
        let (Some(table), Selector::Field(slot)) = (&union.union.table, union.union.selector) else { continue };
        if step.presence.is_some() || !matches!(fields[slot].kind, Kind::Enum { .. }) {
            continue;
        }
        let table_upper = screaming(&format!("{link}_{}", snake(&table.name)));
        let place = (member(&fields[step.slot].name), member(&fields[slot].name));
        // A host writes what it may.
        let may_be_set = |raw: u64| {
            let entry = table.entries.iter().find(|entry| entry.key == raw);
            plan.message.from == End::Device || entry.is_some_and(|entry| entry.write)
        };
        for index in (0..union.union.cases.len()).filter(|index| may_be_set(union.union.cases[*index].raw)) {
            setter(link, stem, (union, index), (&place.0, &place.1), &table_upper, header);
        }
    }
}

fn setter(
    link: &str,
    stem: &str,
    (union, index): (&UnionPlan, usize),
    (value, key): (&str, &str),
    table: &str,
    header: &mut Code,
) {
    let form: &Field = &union.forms[index].field;
    let (name, label) = (member(&form.name), screaming(&form.name));
    let set = format!(
        "    message->{key} = {table}_{label};\n    message->{value}_form = {}_{label};\n",
        screaming(&format!("{stem}_{value}_form"))
    );
    let place = format!("message->{value}.{name}.value");
    let comment_line = format!("/* Sets the key of {} and its value: {}. */", comment(&form.name), about(form));
    match &union.forms[index].action {
        Action::Bits { .. } | Action::Varint { .. } => header.lines(&format!(
            "{comment_line}\nstatic inline void {stem}_put_{name}({stem}_t *message, {} raw)\n{{\n{set}    {place} = raw;\n}}\n",
            raw_type(link, &form.kind)
        )),
        Action::Run { length: Length::UpTo(most), text } => {
            let ty = if *text { "char" } else { "uint8_t" };
            let counted = if *most < 256 { "uint8_t" } else { "uint16_t" };
            let upper = screaming(link);
            header.lines(&format!(
                "{comment_line}\n{upper}_CHECKED static inline {link}_codec_result_t {stem}_put_{name}({stem}_t *message, const {ty} *bytes, size_t length)\n{{\n    \
                     size_t n;\n    if (length > {most}u) {{\n        return {upper}_TOO_MANY;\n    }}\n{set}    \
                     {place}_length = ({counted})length;\n    for (n = 0; n < length; n++) {{\n        {place}[n] = bytes[n];\n    }}\n    \
                     return {upper}_OK;\n}}\n"
            ));
        }
        _ => return,
    }
    header.line("");
}
