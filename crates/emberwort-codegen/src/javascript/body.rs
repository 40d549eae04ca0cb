//! What a module and a script have both: reading and writing, building and opening.

use emberwort_model::Plan;
use emberwort_model::model::{Label, Labelled};

use super::flavour::Flavour;
use super::frames::{self, Frames};
use super::group::GroupPrinter;
use super::names::{class, comment, constant, doc};
use super::numbers::literal;
use super::read::read;
use super::write::write;
use crate::code::Code;
use crate::lower::{Group, labelled, records};

/// What reading and writing stand on.
const RUNTIME: &str = include_str!("runtime.js");

/// The same for numbers of more than 53 bits.
const WIDE: &str = include_str!("wide.js");

/// What frames with stuffing stand on.
const STUFFING: &str = include_str!("stuffing.js");

/// What both flavours have: reading and writing, building and opening.
pub fn body(plan: &Plan, flavour: Flavour) -> String {
    let mut code = Code::with_step("  ");
    code.lines(RUNTIME);
    let mut own = Code::with_step("  ");
    for labelled in labelled(plan) {
        labels(labelled, flavour, &mut own);
    }
    let records = records(plan);
    let groups = records.iter().map(|record| Group::of_record(plan, record));
    let groups = groups.chain(plan.messages.iter().map(|message| Group::of_message(plan, message)));
    for group in groups {
        let printed = GroupPrinter { group: &group, flavour };
        match flavour {
            Flavour::Module => printed.class(&mut own),
            Flavour::Script => printed.maker(&mut own),
        }
        read(&group, flavour, &mut own);
        write(&group, &mut own);
    }
    for channel in &plan.channels {
        for (from, direction) in channel.directions() {
            Frames { plan: direction, stem: frames::stem(&direction.name, from) }.functions(&mut own);
        }
    }
    let own = own.finish();
    let uses = |names: &[&str]| names.iter().any(|name| own.contains(&format!("{name}(")));
    if flavour == Flavour::Module || uses(&["wide", "getWide", "lowOf", "wideVarint", "wideDigits", "setWideDigits"]) {
        code.line("");
        code.lines(WIDE);
    }
    if flavour == Flavour::Module || uses(&["cobs", "withoutCobs", "escaped", "unescaped"]) {
        code.line("");
        code.lines(STUFFING);
    }
    code.lines(&own);
    code.finish()
}

fn labels(labelled: &Labelled, flavour: Flavour, code: &mut Code) {
    code.line("");
    code.lines(&comment(&doc(&labelled.doc)));
    let word = if flavour == Flavour::Module { "export const" } else { "var" };
    code.open(format!("{word} {} = {{", class(&labelled.name)));
    let one = |label: &Label| {
        let code = if labelled.flags { 1i128 << label.code } else { i128::from(label.code) };
        format!("{}: {}", constant(&label.name), literal(code, labelled.bits))
    };
    let all: Vec<String> = labelled.labels.iter().map(one).collect();
    code.lines(&all.join(",\n"));
    code.close("};");
}
