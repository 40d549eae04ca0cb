//! Rust for both ends: one module for `no_std`, without heap, `unsafe` and dependencies, and a test program.

mod clashes;
mod frames;
mod group;
mod names;
mod ordered;
mod read;
mod values;
mod vectors;
mod view;
mod write;

use emberwort_model::Plan;
use emberwort_model::model::Labelled;

use crate::code::Code;
use crate::lower::{Group, labelled, records};
use crate::vectors::Vector;
use crate::{GenerateError, GeneratedFile};
pub use clashes::clashes;
use frames::{Frames, has_receiver};
use group::{GroupPrinter, blank};
use names::{class, constant, doc, module, text};
use values::unsigned;

/// What reading and writing stand on.
const RUNTIME: &str = include_str!("printed/runtime.rs.txt");

/// What frames with stuffing stand on.
const STUFFING: &str = include_str!("printed/stuffing.rs.txt");

/// What receivers stand on.
const RECEIVERS: &str = include_str!("printed/receivers.rs.txt");

/// Lints that are not followed, and why.
const LINTS: &str = "// Numbers are cut to the bits that they have, which were looked at before.
#[allow(clippy::cast_lossless, clippy::cast_possible_truncation, clippy::cast_possible_wrap, clippy::cast_precision_loss)]
#[allow(clippy::cast_sign_loss, clippy::identity_op, clippy::precedence, clippy::float_cmp)]
// What there is, and how it is called and said, is the definition's.
#[allow(dead_code, clippy::doc_markdown, clippy::enum_variant_names, clippy::large_enum_variant, clippy::struct_excessive_bools)]
#[allow(clippy::match_same_arms, clippy::module_name_repetitions, clippy::similar_names, clippy::struct_field_names)]
#[allow(clippy::too_many_lines, clippy::unnecessary_wraps, clippy::unreadable_literal, clippy::derivable_impls)]
// One form for all fields, and for compilers that do not know the newest functions.
#[allow(unused_parens, clippy::assign_op_pattern, clippy::explicit_iter_loop, clippy::field_reassign_with_default)]
#[allow(clippy::large_types_passed_by_value, clippy::manual_is_multiple_of, clippy::must_use_candidate, clippy::needless_late_init)]
#[allow(clippy::single_match_else, clippy::trivially_copy_pass_by_ref)]
";

/// How the code comes to who uses it.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Packaging {
    /// With `mod`, or with `include!`, which takes no attributes of the whole file.
    Module,
    /// As a crate.
    Crate,
}

/// The module of a link, and a program that checks it with the vectors.
///
/// # Errors
/// If two names of the definition become the same name in Rust.
pub fn generate(plan: &Plan, vectors: &[Vector]) -> Result<Vec<GeneratedFile>, GenerateError> {
    if let Some(clash) = clashes(plan).into_iter().next() {
        return Err(GenerateError::NameClash { clash, language: "Rust" });
    }
    let name = module(&plan.link.name);
    Ok(vec![
        GeneratedFile { name: format!("{name}.rs"), text: module_text(plan, Packaging::Module) },
        GeneratedFile { name: format!("{name}_test.rs"), text: vectors::write(plan, vectors) },
    ])
}

pub use names::is_taken;

/// What [`generate`] makes, as a crate of this name that other crates can depend on.
///
/// # Errors
/// If two names of the definition become the same name in Rust.
pub fn generate_crate(plan: &Plan, vectors: &[Vector], name: &str) -> Result<Vec<GeneratedFile>, GenerateError> {
    if let Some(clash) = clashes(plan).into_iter().next() {
        return Err(GenerateError::NameClash { clash, language: "Rust" });
    }
    let tests = vectors::write(plan, vectors);
    let link = self::module(&plan.link.name);
    let manifest = format!(
        "# {}\n[package]\nname = \"{name}\"\nversion = \"{}.0.0\"\nedition = \"2021\"\nrust-version = \"1.81\"\npublish = false\n",
        crate::origin(plan),
        plan.link.revision
    );
    let used = format!("use {}::*;\n", name.replace('-', "_"));
    let tests = tests.replacen(&format!("mod {link};\n\nuse {link}::*;\n"), &used, 1);
    let how = format!(
        "Checks {link}.rs with the test vectors: `rustc --edition 2021 --test {link}_test.rs && ./{link}_test`"
    );
    let tests = tests.replacen(&how, "Checks the crate with the test vectors: `cargo test`", 1);
    Ok(vec![
        GeneratedFile { name: "Cargo.toml".into(), text: manifest },
        GeneratedFile { name: "src/lib.rs".into(), text: module_text(plan, Packaging::Crate) },
        GeneratedFile { name: "tests/vectors.rs".into(), text: tests },
    ])
}

/// What the module of a link does not do, in a sentence for each channel.
pub fn unsupported(plan: &Plan) -> Vec<String> {
    let streams =
        plan.channels.iter().filter(|channel| !has_receiver(channel.finder()) && !channel.finder().is_packet());
    let sentence = |name: &str, is_text: bool| match is_text {
        true => format!(
            "Rust builds and opens the lines of `{name}`, and neither finds them in a stream nor reads their texts; C does both"
        ),
        false => format!("Rust builds and opens the frames of `{name}`, and does not find them in a stream; C does"),
    };
    streams.map(|channel| sentence(&channel.name, channel.finder().is_text())).collect()
}

fn module_text(plan: &Plan, form: Packaging) -> String {
    let mut code = Code::default();
    let about = crate::origin(plan);
    let said = doc(&plan.link.doc);
    let head = format!(
        "{}{}///\n/// Each message is a struct: `encode` writes the bytes of a body, `decode` reads them. Numbers are raw codes; `physical_...` gives the\n\
         /// physical value of one, and `raw_...` the code nearest to a physical value. It needs `core` only (Rust 1.81), and no function panics.\n",
        doc(&about),
        if said.is_empty() { String::new() } else { format!("///\n{said}") }
    );
    match form {
        Packaging::Module => {
            code.lines(&head.replace("///", "//"));
            code.lines("\n#[allow(unused_imports)]\npub use code::*;\n\n");
            code.lines(LINTS);
            code.open("mod code {");
        }
        Packaging::Crate => {
            code.lines(&head.replace("///", "//!"));
            code.lines("\n#![no_std]\n#![forbid(unsafe_code)]");
            code.lines(&LINTS.replace("#[", "#!["));
            code.line("");
        }
    }
    code.line("/// The revision of the definition.");
    code.line(format!("pub const REVISION: u32 = {};", plan.link.revision));
    code.line("");
    code.lines(RUNTIME);
    for labelled in labelled(plan) {
        labels(labelled, &mut code);
    }
    let rest = plan.messages.iter().map(|message| message.rest_bytes).max().unwrap_or(0);
    for record in &records(plan) {
        GroupPrinter { group: &Group::of_record(plan, record), rest }.write(&mut code);
    }
    for message in &plan.messages {
        GroupPrinter { group: &Group::of_message(plan, message), rest: message.rest_bytes }.write(&mut code);
    }
    code.lines(STUFFING);
    code.lines(RECEIVERS);
    for channel in &plan.channels {
        for (from, direction) in channel.directions() {
            Frames { link: plan, plan: direction, stem: frames::stem(&direction.name, from) }.write(&mut code);
        }
    }
    if form == Packaging::Module {
        code.close("}");
    }
    code.finish()
}

fn labels(labelled: &Labelled, code: &mut Code) {
    let name = class(&labelled.name);
    let ty = unsigned(labelled.bits);
    code.line("");
    let said = doc(&labelled.doc);
    code.lines(if said.is_empty() { doc(&labelled.name) } else { said }.trim_end());
    code.line("#[derive(Clone, Copy, Default, PartialEq, Eq)]");
    code.line(format!("pub struct {name}(pub {ty});"));
    blank(&name, code);
    code.line("");
    code.open(format!("impl {name} {{"));
    for label in &labelled.labels {
        let code_of = if labelled.flags { 1u64 << label.code } else { label.code };
        let said = doc(&label.text);
        code.lines(if said.is_empty() { doc(&label.name) } else { said }.trim_end());
        code.line(format!("pub const {}: Self = Self({code_of});", constant(&label.name)));
    }
    if labelled.flags {
        code.line("");
        code.line("/// Whether all of some flags are set.");
        code.open("pub fn has(self, flags: Self) -> bool {");
        code.line("self.0 & flags.0 == flags.0");
        code.close("}");
    } else {
        code.line("");
        code.line("/// The label; `None` for a code that has none.");
        code.open("pub fn label(self) -> Option<&'static str> {");
        code.open("match self.0 {");
        let mut seen = std::collections::BTreeSet::new();
        for label in labelled.labels.iter().filter(|label| seen.insert(label.code)) {
            code.line(format!("{} => Some({}),", label.code, text(&label.name)));
        }
        code.line("_ => None,");
        code.close("}");
        code.close("}");
    }
    code.close("}");
    if labelled.flags {
        code.line("");
        code.open(format!("impl core::ops::BitOr for {name} {{"));
        code.line("type Output = Self;");
        code.open("fn bitor(self, other: Self) -> Self {");
        code.line("Self(self.0 | other.0)");
        code.close("}");
        code.close("}");
    }
    code.line("");
    code.open(format!("impl core::fmt::Display for {name} {{"));
    code.open("fn fmt(&self, out: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {");
    if labelled.flags {
        code.line("let mut left = self.0;");
        code.line("let mut between = \"\";");
        code.open(format!("for (flag, name) in [{}] {{", {
            let all: Vec<String> = labelled
                .labels
                .iter()
                .map(|label| format!("(Self::{}, {})", constant(&label.name), text(&label.name)))
                .collect();
            all.join(", ")
        }));
        code.open("if self.has(flag) {");
        code.line("write!(out, \"{between}{name}\")?;");
        code.line("between = \" \";");
        code.line("left &= !flag.0;");
        code.close("}");
        code.close("}");
        code.open("if left != 0 {");
        code.line("write!(out, \"{between}{left:#x}\")?;");
        code.close("}");
        code.line("Ok(())");
    } else {
        code.open("match self.label() {");
        code.line("Some(label) => out.write_str(label),");
        code.line("None => write!(out, \"{}\", self.0),");
        code.close("}");
    }
    code.close("}");
    code.close("}");
    code.line("");
    code.open(format!("impl core::fmt::Debug for {name} {{"));
    code.open("fn fmt(&self, out: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {");
    code.line("core::fmt::Display::fmt(self, out)");
    code.close("}");
    code.close("}");
}
