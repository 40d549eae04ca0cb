//! The types of a module, for TypeScript and for editors.

use emberwort_model::Plan;
use emberwort_model::model::{Field, Kind};
use emberwort_model::plan::{Action, Part};

use super::frames::{Frames, has_receiver, is_wide as is_wide_part, key, messages, receiver_class, stem};
use super::names::{after_word, class, comment, constant, doc, member, text};
use super::numbers::{NumberRepresentation, is_wide};
use crate::code::Code;
use crate::lower::frame::is_chosen;
use crate::lower::{FieldContent, Floats, Group, labelled, records};

/// What is the same for every link.
const COMMON: &str = include_str!("common.d.ts");

/// The whole file.
pub fn write(plan: &Plan) -> String {
    let mut code = Code::with_step("  ");
    code.lines(&comment(&crate::origin(plan)));
    code.line("");
    code.line("export const REVISION: number;");
    code.line("");
    code.lines(COMMON);
    for labelled in labelled(plan) {
        code.line("");
        code.lines(&comment(&doc(&labelled.doc)));
        code.open(format!("export const {}: {{", class(&labelled.name)));
        for label in &labelled.labels {
            code.lines(&comment(&doc(&label.text)));
            let ty = match (NumberRepresentation::of(labelled.bits), labelled.flags) {
                (NumberRepresentation::Wide, _) => "bigint".to_owned(),
                (_, false) => label.code.to_string(),
                (_, true) => (1u64 << label.code).to_string(),
            };
            code.line(format!("readonly {}: {ty};", constant(&label.name)));
        }
        code.close("};");
    }
    let records = records(plan);
    let groups = records.iter().map(|record| Group::of_record(plan, record));
    for group in groups.chain(plan.messages.iter().map(|message| Group::of_message(plan, message))) {
        class_type(&group, &mut code);
    }
    for channel in &plan.channels {
        for (from, direction) in channel.directions() {
            frame(&Frames { plan: direction, stem: stem(&direction.name, from) }, &mut code);
            if !direction.finder.is_text() {
                let key = if direction.key_part().is_some_and(is_wide_part) { "bigint" } else { "number" };
                code.line(format!(
                    "export const {}: ReadonlyMap<{key}, MessageClass>;",
                    messages(&direction.name, from)
                ));
            }
        }
    }
    code.line("");
    code.open("export const MESSAGES: {");
    for message in &plan.messages {
        let name = &message.message.name;
        code.line(format!("readonly {}: typeof {};", text(name), class(name)));
    }
    code.close("};");
    code.line("");
    code.open("export const RECEIVERS: {");
    for channel in &plan.channels {
        for (from, direction) in channel.directions() {
            if has_receiver(direction.finder) {
                let class = receiver_class(&stem(&direction.name, from));
                code.line(format!("readonly {}: typeof {class};", text(&key(&direction.name, from))));
            }
        }
    }
    code.close("};");
    code.finish()
}

fn class_type(group: &Group<'_>, code: &mut Code) {
    let class = class(group.name);
    let said = doc(group.doc);
    code.line("");
    code.lines(&comment(if said.is_empty() { group.name } else { &said }));
    code.open(format!("export class {class} {{"));
    let held = if group.message.is_some() {
        "Partial<Omit<NAME, \"encode\">>".replace("NAME", &class)
    } else {
        format!("Partial<{class}>")
    };
    code.line("/** With these values; the others are what a sender that lacks them means. */");
    code.line(format!("constructor(values?: {held});"));
    for (_, field, action) in group.named() {
        let about = match action {
            Action::Run { .. } => String::new(),
            _ => FieldContent::of(field, Floats::Numbers).to_string(),
        };
        let said = [doc(&field.doc), doc(&about)].join("\n");
        code.lines(&comment(said.trim()));
        let ty = type_of(field, action);
        let ty = if field.optional { format!("{ty} | null") } else { ty };
        code.line(format!("{}: {ty};", member(&field.name)));
    }
    if group.message.is_some() {
        code.line("/** How many sections the sender writes; fields of the others hold their defaults. */");
        code.line("sectionsHeld: number;");
        code.line("static readonly SECTIONS: number;");
        if group.message.flatten().is_some() {
            code.line("static readonly ID: number;");
        }
        code.line("/** The bytes of the body. */");
        code.line("encode(): Uint8Array;");
        code.line(
            "/** Reads a body; `key` is what a request asked for, where it decides about the form of a value. */",
        );
        code.line(format!("static decode(body: Uint8Array, key?: number): {class};"));
    }
    for (_, field, _) in group.named() {
        let (Kind::Number(form) | Kind::Varint(form)) = &field.kind else { continue };
        if form.scaling.is_identity() {
            continue;
        }
        let name = member(&field.name);
        let unit = if field.unit.is_empty() { String::new() } else { format!(", in {}", doc(&field.unit)) };
        let raw = if is_wide(&field.kind) { "bigint" } else { "number" };
        let physical = if form.none.is_some() { "number | null" } else { "number" };
        code.line(format!("/** The physical value of a code{unit}. */"));
        code.line(format!("static {}(raw: {raw}): {physical};", after_word("physical", &name)));
        code.line(format!("/** The code nearest to a physical value{unit}. */"));
        code.line(format!("static {}(value: {physical}): {raw};", after_word("raw", &name)));
    }
    code.close("}");
}

fn type_of(field: &Field, action: &Action) -> String {
    match action {
        Action::Bits { .. } | Action::Varint { .. } => match &field.kind {
            Kind::Bool => "boolean".into(),
            kind if is_wide(kind) => "bigint".into(),
            _ => "number".into(),
        },
        Action::Run { text: true, .. } => "string".into(),
        Action::Run { .. } => "Uint8Array".into(),
        Action::Record(record) => class(&record.record.name),
        Action::List(list) => format!("Array<{}>", type_of(&list.element.field, &list.element.action)),
        Action::Union(union) => {
            let form = |element: &emberwort_model::plan::Element| {
                let ty = type_of(&element.field, &element.action);
                format!("{{ name: {}; value: {ty} }}", text(&element.field.name))
            };
            union.forms.iter().map(form).collect::<Vec<_>>().join(" | ")
        }
        Action::Skip { .. } => "null".into(),
    }
}

fn frame(frames: &Frames<'_>, code: &mut Code) {
    let (plan, stem) = (frames.plan, &frames.stem);
    code.line("");
    code.lines(&comment(&format!("A frame on {}.", doc(&plan.name))));
    let name = class(&format!("{stem}_frame"));
    code.open(format!("export interface {name} {{"));
    let ty = |part: &Part| if is_wide_part(part) { "bigint" } else { "number" };
    for part in plan.parts.iter().filter(|part| is_chosen(part)) {
        code.lines(&comment(&doc(&part.doc)));
        code.line(format!("{}: {};", member(&part.name), ty(part)));
    }
    if plan.key_is_outside() {
        code.line("/** What selects the message and stands outside of the frame: a port, or an identifier. */");
        code.line("key: number;");
    }
    code.line("body: Uint8Array;");
    code.close("}");
    code.line("/** The frame around a body, as it goes over the wire. */");
    code.line(format!("export function build{stem}(of: {name}): Uint8Array;"));
    code.line("/** Judges one whole frame as it comes over the wire: length, fixed values, checksums. */");
    code.line(format!("export function open{stem}(wire: Uint8Array): {name};"));
    if has_receiver(plan.finder) {
        code.lines(&comment(&format!("Finds frames of {} in a stream.", doc(&plan.name))));
        code.line(format!("export class {} extends Receiver<{name}> {{}}", receiver_class(stem)));
    }
}
