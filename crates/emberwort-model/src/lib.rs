//! The definition language of Emberwort: from text to the plan that everything else reads.
//!
//! ```text
//! .ember text ──► syntax ──► model ──► plan
//! ```
//!
//! [`check`] walks the whole way and reports all findings of a text at once:
//!
//! ```
//! let source = emberwort_model::Source::new("lamp.ember", "
//!     link lamp { revision 1  byte_order little }
//!     channel wire {
//!         medium uart 9600 8N1
//!         frame {
//!             sync A5 5A
//!             kind : u8 message
//!             size : u8 length of body
//!             body
//!         }
//!     }
//!     message Brightness {
//!         id 1
//!         from device
//!         on wire
//!         level : 0 .. 100 % step 0.5
//!     }
//! ");
//! let checked = emberwort_model::check(&source);
//! assert!(checked.findings.is_empty());
//! let plan = checked.plan.unwrap();
//! assert_eq!(plan.messages[0].greatest_size(), 1);
//! ```

pub mod algorithm;
pub mod budget;
pub mod counting;
pub mod diagnostics;
pub mod float;
pub mod hex;
pub mod ids;
mod imports;
pub mod layout;
pub mod medium;
pub mod model;
mod named_place;
pub mod number;
mod partial_definition;
pub mod plan;
mod resolve;
mod source;
pub mod stuffing;
pub mod syntax;
pub mod tidy;
pub mod views;
mod what_if;

pub use named_place::named_place;
pub use partial_definition::PartialDefinition;
pub use plan::Plan;
pub use source::{Source, Sources, Span};
pub use what_if::what_if;

use diagnostics::{Code, Finding};

/// What came of a definition.
#[derive(Clone, Debug)]
pub struct Checked {
    /// The compiled link; `None` if a finding is an error.
    pub plan: Option<Plan>,
    /// All findings, in order of place.
    pub findings: Vec<Finding>,
    /// The files that were read, to which the places of the findings belong.
    pub sources: Sources,
}

/// The largest definition that is read, in bytes: far more than a person writes.
pub const MAX_BYTES: usize = 64 << 20;

/// Reads, looks up and compiles a definition that imports nothing.
pub fn check(source: &Source) -> Checked {
    check_with(source.clone(), &mut |_, _| Err("imports cannot be read here".into()))
}

/// Reads, looks up and compiles a definition with all that it imports.
///
/// `load` is given the name of the importing file and the path as written there, and returns the imported file: its name
/// tells whether two imports mean the same file. What it says if it fails is shown to the user.
pub fn check_with(source: Source, load: &mut dyn FnMut(&str, &str) -> Result<Source, String>) -> Checked {
    let (file, findings, sources) = imports::read_all(source, load);
    let (plan, findings) = resolve::resolve(&file, findings);
    Checked { plan, findings, sources }
}

/// As [`check_with`]; where errors lie in messages alone, also what the definition is without these.
pub fn check_apart(
    source: Source,
    load: &mut dyn FnMut(&str, &str) -> Result<Source, String>,
) -> (Checked, Option<PartialDefinition>) {
    let (file, read, sources) = imports::read_all(source, load);
    let (plan, findings) = resolve::resolve(&file, read.clone());
    let apart = if plan.is_some() { None } else { partial_definition::apart(file, &read) };
    (Checked { plan, findings, sources }, apart)
}

/// The form of a field whose type is written as in a definition, without a name: `0 .. 100 % step 0.5 or none`. Names of enums,
/// flag sets and tables are those of `plan`.
///
/// # Errors
/// What is wrong with the text; places count from its start.
pub fn field_of_type(text: &str, plan: Option<&Plan>) -> Result<model::Field, Vec<Finding>> {
    resolve::field_of_type(text, plan)
}

/// The text of a definition file's bytes.
///
/// # Errors
/// A finding, and the text as far as it can be shown, if the bytes are not UTF-8 or more than [`MAX_BYTES`].
pub fn decode_text(bytes: Vec<u8>) -> Result<String, Box<(Finding, String)>> {
    if bytes.len() > MAX_BYTES {
        let message = format!("this file has {} bytes; a definition has at most {MAX_BYTES}", bytes.len());
        let help = "is this really an .ember file?";
        return Err(Box::new((Finding::new(Code::FileTooLarge, Span::new(0, 0), message, help), String::new())));
    }
    String::from_utf8(bytes).map_err(|error| {
        let at = error.utf8_error().valid_up_to();
        let byte = error.as_bytes()[at];
        let shown = String::from_utf8_lossy(&error.as_bytes()[..at]).into_owned() + "\u{fffd}";
        let finding = Finding::new(
            Code::NotUtf8,
            Span::new(at, at + 1),
            format!("the file is not UTF-8 text: the byte {byte:02X} at offset {at} cannot stand there"),
            "save the file as UTF-8; if it is binary, this is not an .ember file",
        );
        Box::new((finding, shown))
    })
}
