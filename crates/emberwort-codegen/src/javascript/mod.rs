//! JavaScript for a host: an ES module with its types, nothing beyond the language needed, and a test program for Node.js.

mod body;
mod clashes;
pub mod codec;
mod flavour;
mod frames;
mod group;
mod names;
mod numbers;
mod read;
mod types;
mod vectors;
mod write;

use body::body;
use emberwort_model::Plan;

use crate::code::Code;
use crate::vectors::Vector;
use crate::{GenerateError, GeneratedFile};
pub use clashes::clashes;
use flavour::Flavour;
use frames::Frames;
use names::{class, comment, doc, module, text};
use numbers::literal;

/// What receivers stand on.
const RECEIVERS: &str = include_str!("receivers.js");

/// What only a module has.
const MODULE: &str = include_str!("module.js");

/// The module of a link, its types, a program that checks it with the vectors, and the file that makes a package of them.
///
/// # Errors
/// If two names of the definition become the same name in JavaScript.
pub fn generate(plan: &Plan, vectors: &[Vector]) -> Result<Vec<GeneratedFile>, GenerateError> {
    generate_package(plan, vectors, &module(&plan.link.name))
}

/// What [`generate`] makes, as a package of this name.
///
/// # Errors
/// If two names of the definition become the same name in JavaScript.
pub fn generate_package(
    plan: &Plan,
    vectors: &[Vector],
    package_name: &str,
) -> Result<Vec<GeneratedFile>, GenerateError> {
    if let Some(clash) = clashes(plan).into_iter().next() {
        return Err(GenerateError::NameClash { clash, language: "JavaScript" });
    }
    let name = module(&plan.link.name);
    let file = |ending: &str, text: String| GeneratedFile { name: format!("{name}{ending}"), text };
    Ok(vec![
        file(".js", module_text(plan)),
        file(".d.ts", types::write(plan)),
        file(".test.js", vectors::write(plan, vectors)),
        GeneratedFile { name: "package.json".into(), text: package(plan, &name, package_name) },
    ])
}

/// What the module of a link does not do, in a sentence for each channel.
pub fn unsupported(plan: &Plan) -> Vec<String> {
    let without = plan.channels.iter().filter(|channel| !frames::has_receiver(channel.finder()));
    let streams = without.filter(|channel| !channel.finder().is_packet());
    let sentence = |name: &str, is_text: bool| match is_text {
        true => format!(
            "JavaScript builds and opens the lines of `{name}`, and neither finds them in a stream nor reads their texts; C does both"
        ),
        false => {
            format!("JavaScript builds and opens the frames of `{name}`, and does not find them in a stream; C does")
        }
    };
    streams.map(|channel| sentence(&channel.name, channel.finder().is_text())).collect()
}

fn package(plan: &Plan, name: &str, package_name: &str) -> String {
    format!(
        "{{\n  \"name\": {},\n  \"version\": \"{}.0.0\",\n  \"description\": {},\n  \"private\": true,\n  \"type\": \"module\",\n  \
         \"exports\": {{ \"types\": \"./{name}.d.ts\", \"default\": \"./{name}.js\" }},\n  \"types\": \"./{name}.d.ts\"\n}}\n",
        text(package_name),
        plan.link.revision,
        text(&crate::origin(plan)),
    )
}

fn module_text(plan: &Plan) -> String {
    let mut code = Code::with_step("  ");
    let about = crate::origin(plan);
    let said = doc(&plan.link.doc);
    let said = if said.is_empty() { String::new() } else { format!("\n{said}\n") };
    code.lines(&comment(&format!(
        "{about}\n{said}\nEach message is a class: encode() makes the bytes of a body, decode() reads them. Numbers are raw codes, those of more than 53 bits \
         BigInts;\nphysical...() gives the physical value of one, and raw...() the code nearest to a physical value."
    )));
    code.line("");
    code.line(format!("export const REVISION = {};", plan.link.revision));
    code.line("");
    code.lines(MODULE);
    let all = body(plan, Flavour::Module);
    // Declared where they are used, as a module does.
    code.lines(&declared(&all));
    code.lines(RECEIVERS);
    let mut stems = Vec::new();
    let mut built = Vec::new();
    for channel in &plan.channels {
        for (from, direction) in channel.directions() {
            let this = Frames { plan: direction, stem: frames::stem(&direction.name, from) };
            let messages = frames::messages(&direction.name, from);
            // What a line of text carries is no body, and must not be read as one.
            if !direction.finder.is_text() {
                code.line("");
                code.lines(&comment(&format!("The message that each key on {} selects.", doc(&direction.name))));
                code.open(format!("export const {messages} = new Map(["));
                for (key, message) in &direction.keys {
                    let bits = direction.key_part().map_or(32, |part| part.bits);
                    let name = class(&plan.messages[*message].message.name);
                    code.line(format!("[{}, {name}],", literal(i128::from(*key), bits)));
                }
                code.close("]);");
            }
            this.receiver(&messages, &mut code);
            if frames::has_receiver(direction.finder) {
                stems.push((frames::key(&direction.name, from), frames::receiver_class(&this.stem)));
            }
            built.extend([format!("build{}", this.stem), format!("open{}", this.stem)]);
        }
    }
    code.line("");
    code.line("/** All messages by their names in the definition. */");
    code.open("export const MESSAGES = {");
    for message in &plan.messages {
        code.line(format!("{}: {},", text(&message.message.name), class(&message.message.name)));
    }
    code.close("};");
    code.line("");
    code.line("/** The receivers of channels whose frames come in a stream; where each end has frames of its own, of each end. */");
    code.open("export const RECEIVERS = {");
    for (key, class) in stems {
        code.line(format!("{}: {class},", text(&key)));
    }
    code.close("};");
    code.line("");
    built.push("LinkError".into());
    code.open("export {");
    built.iter().for_each(|name| code.line(format!("{name},")));
    code.close("};");
    code.finish()
}

/// The variables of functions as those of blocks.
fn declared(code: &str) -> String {
    let line = |line: &str| {
        let plain = line.trim_start();
        let pad = &line[..line.len() - plain.len()];
        let one = match plain.strip_prefix("var ") {
            Some(rest) if pad.is_empty() => format!("const {rest}"),
            Some(rest) => format!("{pad}let {rest}"),
            None => line.replace("for (var ", "for (let "),
        };
        one + "\n"
    };
    code.lines().map(line).collect()
}
