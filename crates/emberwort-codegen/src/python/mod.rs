//! Python 3.9 and later for a host, with nothing beyond its standard library: a class for each message and record, which encodes and decodes
//! bodies.

mod channel;
mod clashes;
mod group;
mod names;
mod one_number;
mod read;
mod slim;
mod values;
mod vectors;
mod write;

use emberwort_model::Plan;
use emberwort_model::model::{Kind, Labelled};
use emberwort_model::plan::FrameFinder;

use crate::code::Code;
use crate::lower::{Group, labelled, records};
use crate::vectors::Vector;
use crate::{GenerateError, GeneratedFile};
pub use clashes::clashes;
use group::write_class;
use names::{class, constant, doc, module, text};

/// What all classes stand on.
const RUNTIME: &str = include_str!("runtime.py");

/// What receivers stand on.
const RECEIVERS: &str = include_str!("receivers.py");

/// The module of a link, and a program that checks it with the vectors.
///
/// # Errors
/// If two names of the definition become the same name in Python.
pub fn generate(plan: &Plan, vectors: &[Vector]) -> Result<Vec<GeneratedFile>, GenerateError> {
    generate_for(plan, vectors, false)
}

/// What [`generate`] makes; `is_slim` leaves out of the module what small interpreters have no modules for: types, data classes, enum types.
///
/// # Errors
/// If two names of the definition become the same name in Python.
pub fn generate_for(plan: &Plan, vectors: &[Vector], is_slim: bool) -> Result<Vec<GeneratedFile>, GenerateError> {
    if let Some(clash) = clashes(plan).into_iter().next() {
        return Err(GenerateError::NameClash { clash, language: "Python" });
    }
    let name = module(&plan.link.name);
    let text = module_text(plan);
    let text = if is_slim { slim::slim(&text) } else { text };
    Ok(vec![
        GeneratedFile { name: format!("{name}.py"), text },
        GeneratedFile { name: format!("{name}_test.py"), text: vectors::write(plan, vectors) },
    ])
}

/// The name of a message's class.
#[must_use]
pub fn class_of(name: &str) -> String {
    class(name)
}

/// What the module of a link does not do, in a sentence for each channel.
pub fn unsupported(plan: &Plan) -> Vec<String> {
    let one = |channel: &emberwort_model::plan::Channel| match channel.finder() {
        FrameFinder::Lines { .. } => Some(format!(
            "Python builds and opens the lines of `{}`, and neither finds them in a stream nor reads their texts; C does both",
            channel.name
        )),
        FrameFinder::StatusBytes { .. } => Some(format!(
            "Python builds and opens the frames of `{}`, and does not find them in a stream; C does",
            channel.name
        )),
        _ => None,
    };
    plan.channels.iter().filter_map(one).collect()
}

fn module_text(plan: &Plan) -> String {
    let mut code = Code::default();
    let about = crate::origin(plan);
    let said = doc(&plan.link.doc);
    let said = if said.is_empty() { String::new() } else { format!("\n{said}\n") };
    code.lines(&format!(
        "\"\"\"{about}\n{said}\nEach message is a class: encode() makes the bytes of a body, decode() reads them. Numbers are raw codes;\n\
         physical_...() gives the physical value of one, and raw_...() the code nearest to a physical value.\n\"\"\"\n"
    ));
    code.lines(
        "from __future__ import annotations\n\nimport enum\nimport math\nimport struct\nfrom dataclasses import dataclass, field\n\
         from typing import Any, ClassVar, Dict, List, Literal, NamedTuple, Optional, Tuple, Type, Union\n",
    );
    code.line("");
    code.line(format!("REVISION = {}", plan.link.revision));
    code.line("");
    code.line("");
    code.lines(RUNTIME);
    for labelled in labelled(plan) {
        labels(labelled, &mut code);
    }
    for record in records(plan) {
        write_class(&Group::of_record(plan, &record), &mut code);
    }
    for message in &plan.messages {
        write_class(&Group::of_message(plan, message), &mut code);
    }
    code.lines(RECEIVERS);
    for channel in &plan.channels {
        channel::write(plan, channel, &mut code);
    }
    let known: Vec<&str> = plan.messages.iter().map(|message| message.message.name.as_str()).collect();
    code.line("");
    code.line("");
    code.line("#: All messages by their names in the definition.");
    code.line("MESSAGES: Dict[str, Type[Any]] = {");
    for name in known {
        code.line(format!("    {}: {},", text(name), class(name)));
    }
    code.line("}");
    code.line("");
    code.line("#: The entries of all tables, by the names of the tables and their own.");
    code.line("TABLES: Dict[str, Dict[str, Entry]] = {");
    let says = |yes: bool| if yes { "True" } else { "False" };
    for table in &plan.link.tables {
        code.line(format!("    {}: {{", text(&table.name)));
        for entry in &table.entries {
            code.line(format!(
                "        {}: Entry({}, {}, {}, {}, {}, {}),",
                text(&entry.field.name),
                entry.key,
                says(entry.read),
                says(entry.write),
                says(entry.kept),
                text(&entry.field.unit),
                extent(&entry.field.kind)
            ));
        }
        code.line("    },");
    }
    code.line("}");
    code.line("");
    code.line("#: The receivers of channels whose frames come in a stream; where each end has frames of its own, of each end.");
    code.line("RECEIVERS: Dict[str, Type[_Receiver]] = {");
    for channel in &plan.channels {
        for (from, direction) in channel.directions() {
            if channel::has_receiver(direction.finder) {
                let stem = channel::stem(&direction.name, from);
                code.line(format!("    {}: {},", text(&stem), channel::receiver_class(&stem)));
            }
        }
    }
    code.line("}");
    code.finish()
}

/// Decimals, the least and the greatest physical value, and the step of a number; of others there are none.
fn extent(kind: &Kind) -> String {
    let (Kind::Number(form) | Kind::Varint(form)) = kind else { return "0, None, None, None".to_owned() };
    let scaling = &form.scaling;
    let value = |raw| scaling.physical(raw).to_string().parse().unwrap_or(f64::NAN);
    let (a, b): (f64, f64) = (value(form.low), value(form.high));
    let (_, step, divisor) = scaling.parts();
    let step = step.unsigned_abs() as f64 / divisor as f64;
    format!("{}, {:?}, {:?}, {step:?}", scaling.decimals(), a.min(b), a.max(b))
}

fn labels(labelled: &Labelled, code: &mut Code) {
    let base = if labelled.flags { "IntFlag" } else { "IntEnum" };
    code.line("");
    code.line("");
    code.open(format!("class {}(enum.{base}):", class(&labelled.name)));
    let said = doc(&labelled.doc);
    if !said.is_empty() {
        code.lines(&format!("\"\"\"{said}\"\"\"\n"));
        code.line("");
    }
    for label in &labelled.labels {
        let value = if labelled.flags { format!("1 << {}", label.code) } else { label.code.to_string() };
        code.line(format!("{} = {value}", constant(&label.name)));
    }
    code.dedent();
}
