//! C99 for both ends: no heap, nothing of the C library beyond `stdint`, `stdbool`, `stddef` and `string`.
//!
//! For each message two levels: an in-place view over the caller's buffer, whose one check makes all accessors safe, and
//! an owned struct with `_encode` and `_decode`. For each channel: building frames, judging them, and a receiver that is fed
//! byte by byte.

mod channel;
mod common;
mod group;
mod line;
mod link;
mod message;
mod numbers;
mod tables;
mod tidy;
mod tree;
mod types;
mod vectors;
mod words;

use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::model::{Field, Kind};
use emberwort_model::plan::{Action, MessagePlan, RecordPlan};

use words::comment;

use crate::code::Code;
use crate::lower::each_action_of;
use crate::names::{Clash, clashes_in, plain_snake, screaming, snake, with_marks};
use crate::vectors::Vector;
use crate::{GenerateError, GeneratedFile, MARK, Parts};

/// The header and the source of a link, and a program that checks both with the vectors. `incompatible` are the earlier revisions
/// whose devices or hosts this one does not get along with.
///
/// # Errors
/// If two names of the definition become the same name in C.
pub fn generate(plan: &Plan, vectors: &[Vector], incompatible: &[u32]) -> Result<Vec<GeneratedFile>, GenerateError> {
    generate_parts(plan, vectors, incompatible, &Parts::default())
}

/// What [`generate`] makes, of some parts of the link. The program with the vectors needs all that there is, and is left out for one end.
///
/// # Errors
/// If two names of the definition become the same name in C, or a part is none of the link's.
pub fn generate_parts(
    plan: &Plan,
    vectors: &[Vector],
    incompatible: &[u32],
    parts: &Parts,
) -> Result<Vec<GeneratedFile>, GenerateError> {
    parts.check(plan)?;
    if let Some(clash) = clashes_in_c(plan, parts.typed_enums).into_iter().next() {
        return Err(GenerateError::NameClash { clash, language: "C" });
    }
    let about = crate::origin(plan);
    let named = parts.prefix.as_ref().map(|prefix| {
        let mut plan = plan.clone();
        Arc::make_mut(&mut plan.link).name.clone_from(prefix);
        plan
    });
    let plan = named.as_ref().unwrap_or(plan);
    let link = snake(&plan.link.name);
    let (header, source) = texts(plan, incompatible, parts, &about);
    let mut files = vec![(format!("{link}.h"), header), (format!("{link}.c"), source)];
    if parts.are_whole() {
        files.push((format!("{link}_vectors.c"), vectors::write(plan, vectors)));
    }
    Ok(files.into_iter().map(|(name, text)| GeneratedFile { name, text: tidy::tidy(&text) }).collect())
}

/// The texts of the header and the source.
fn texts(plan: &Plan, incompatible: &[u32], parts: &Parts, about: &str) -> (String, String) {
    let link = snake(&plan.link.name);
    let mut header = Code::default();
    let mut source = Code::default();
    begin_files(plan, about, parts.views_only, &mut header, &mut source);
    common::write(plan, incompatible, parts.small, &mut header, &mut source);
    // What travels on none of the channels is not needed.
    let is_on_a_channel = |message: &MessagePlan| {
        let mut channels = message.message.channels.iter().map(|index| &plan.channels[*index].name);
        parts.channels.is_empty() || channels.any(|channel| parts.has_channel(channel))
    };
    let is_wanted = |message: &&MessagePlan| parts.has_message(&message.message.name) && is_on_a_channel(message);
    let wanted: Vec<&MessagePlan> = plan.messages.iter().filter(is_wanted).collect();
    let has_all = wanted.len() == plan.messages.len();
    for labelled in plan.link.labelled.iter().filter(|labelled| has_all || uses_labels(&wanted, &labelled.name)) {
        types::labelled(&link, labelled, parts.typed_enums, &|_| None, &mut header);
    }
    let tables = &plan.link.tables;
    if !tables.is_empty() {
        tables::common(&link, &mut header);
    }
    for table in tables.iter().filter(|table| has_all || uses_labels(&wanted, &table.keys.name)) {
        tables::write(&link, table, parts.typed_enums, &mut header);
    }
    let upper = screaming(&link);
    for record in used_records(&wanted) {
        let stem = format!("{link}_{}", snake(&record.record.name));
        let group = group::Group {
            link: &link,
            upper: &upper,
            order: plan.link.byte_order,
            stem: &stem,
            fields: &record.record.fields,
            sections: &record.sections,
            rest_bytes: 0,
            is_body: false,
        };
        group::record(&group, &record.record.doc, &record.record.name, !parts.views_only, &mut header, &mut source);
    }
    line::common(plan, &mut source);
    let least = wanted.iter().filter_map(|message| message.sections.first()).map(|section| section.least_size).max();
    source.define(format!("{link}_nothing"), |source| {
        source.line("/* What a view shows whose body is wrong. */");
        source.line(format!("static const uint8_t {link}_nothing[{}] = {{0}};", least.unwrap_or(0).max(1)));
        source.line("");
    });
    for message in wanted {
        let ways = message::EmitOptions {
            sends: parts.sends_message(&message.message),
            receives: parts.receives_message(&message.message),
            // A line is read into a struct.
            structs: !parts.views_only || message.message.line.is_some(),
        };
        message::write(&link, &plan.messages, message, ways, &mut header, &mut source);
        line::write(&link, message, &mut header, &mut source);
    }
    for channel in plan.channels.iter().filter(|channel| parts.has_channel(&channel.name)) {
        channel::write(plan, channel, parts, &mut header, &mut source);
    }
    header.lines("#ifdef __cplusplus\n}\n#endif\n\n#endif");
    (header.finish(), source.finish())
}

/// The records that messages use, each behind those that it uses itself.
fn used_records(messages: &[&MessagePlan]) -> Vec<Arc<RecordPlan>> {
    let mut found: Vec<Arc<RecordPlan>> = Vec::new();
    each_action_of(messages.iter().copied(), &mut |action| {
        if let Action::Record(record) = action {
            // Found again further in, it must stand further to the front.
            found.retain(|other| other.record.name != record.record.name);
            found.push(record.clone());
        }
    });
    found.reverse();
    found
}

/// Whether messages have a field with labels of this name.
fn uses_labels(messages: &[&MessagePlan], name: &str) -> bool {
    fn in_field(field: &Field, name: &str) -> bool {
        match &field.kind {
            Kind::Enum { labels, .. } | Kind::Flags(labels) => labels.name == name,
            Kind::List { element, .. } => in_field(element, name),
            Kind::Record(record) => record.fields.iter().any(|field| in_field(field, name)),
            Kind::Union(union) => {
                let forms = union.cases.iter().map(|case| &case.field).chain(&union.otherwise);
                forms.into_iter().any(|field| in_field(field, name))
            }
            _ => false,
        }
    }
    messages.iter().flat_map(|message| &message.message.fields).any(|field| in_field(field, name))
}

fn begin_files(plan: &Plan, about: &str, views_only: bool, header: &mut Code, source: &mut Code) {
    let name = snake(&plan.link.name);
    let guard = screaming(&plan.link.name);
    header.line(format!("/* {about}"));
    for line in plan.link.doc.lines() {
        header.line(format!(" * {}", comment(line)));
    }
    let view = "..._view_t  reads fields in place, and ..._edit_t changes them; one check makes all accessors safe.";
    let levels = match views_only {
        true => format!(" *\n * Messages stay where they lie: {view}\n"),
        false => format!(
            " *\n * Two levels for each message:\n *   {view}\n \
             *   ..._t       holds the values; ..._encode() and ..._decode() turn them into a body and back.\n"
        ),
    };
    header.lines(&levels);
    header.lines(&format!(
        " *\n \
         * Values are raw codes. ..._scaled() gives the physical value times a power of ten (..._DECIMALS) in integers;\n \
         * with {guard}_WITH_FLOAT defined there is ..._physical() too.\n \
         */\n\
         #ifndef {guard}_H\n\
         #define {guard}_H\n\n\
         #include <stdbool.h>\n#include <stddef.h>\n#include <stdint.h>\n\
         #ifdef {guard}_WITH_FLOAT\n#include <string.h>\n#endif\n\n\
         /* A result says whether anything was done: compilers that can warn if it is ignored. Define {guard}_CHECKED as nothing to turn that off. */\n\
         #ifndef {guard}_CHECKED\n\
         #if defined(__cplusplus) && __cplusplus >= 201703L\n#define {guard}_CHECKED [[nodiscard]]\n\
         #elif defined(__GNUC__)\n#define {guard}_CHECKED __attribute__((warn_unused_result))\n\
         #else\n#define {guard}_CHECKED\n#endif\n#endif\n\n\
         /* In a program of which one file uses the link, define {guard}_LOCAL in that file, and include {name}.c behind this: what is not called\n \
         * then takes no room, and what is called from one place becomes part of it. */\n\
         #ifdef {guard}_LOCAL\n#define {guard}_FUNCTION static inline\n#else\n#define {guard}_FUNCTION\n#endif\n\n\
         /* Does not compile if it is not so: {guard}_ASSERT(buffer_holds_a_frame, sizeof buffer >= 128). */\n\
         #if defined(__cplusplus) && __cplusplus >= 201103L\n\
         #define {guard}_ASSERT(name, condition) static_assert(condition, #name)\n\
         #elif defined(__STDC_VERSION__) && __STDC_VERSION__ >= 201112L\n\
         #define {guard}_ASSERT(name, condition) _Static_assert(condition, #name)\n\
         #else\n#define {guard}_ASSERT(name, condition) typedef char name[(condition) ? 1 : -1]\n#endif\n\n\
         #ifdef __cplusplus\nextern \"C\" {{\n#endif\n\n\
         #ifdef {guard}_WITH_FLOAT\n{guard}_ASSERT({name}_float_has_32_bits, sizeof(float) == 4);\n#endif\n\n\
         /* With EMBERWORT_GUARD defined, the program's own emberwort_guard() is called with the name of a field whose value may not be sent. It need \
         not return. */\n\
         #ifdef EMBERWORT_GUARD\nvoid emberwort_guard(const char *field);\n#define {guard}_MISUSE(field) emberwort_guard(field)\n\
         #else\n#define {guard}_MISUSE(field) ((void)0)\n#endif\n\n"
    ));
    source.lines(&format!("/* {about} */\n#include \"{name}.h\"\n\n#include <string.h>\n\n\
         /* What has a place of its own where code is to be small. */\n\
         #if defined(__GNUC__) && defined(__OPTIMIZE_SIZE__)\n#define {guard}_APART __attribute__((noinline))\n#else\n#define {guard}_APART\n#endif\n"));
}

/// Headers of the C library and of POSIX whose names a generated file must not take.
const HEADERS: &[&str] = &[
    "assert",
    "complex",
    "ctype",
    "errno",
    "fenv",
    "float",
    "inttypes",
    "iso646",
    "limits",
    "locale",
    "math",
    "setjmp",
    "signal",
    "stdalign",
    "stdarg",
    "stdatomic",
    "stdbool",
    "stddef",
    "stdint",
    "stdio",
    "stdlib",
    "stdnoreturn",
    "string",
    "strings",
    "tgmath",
    "threads",
    "time",
    "uchar",
    "unistd",
    "wchar",
    "wctype",
];

/// Links whose files would have or ask for a macro that headers of a system define: `unistd.h`, `sys/socket.h`, `dlfcn.h`, `linux/spi/spidev.h`.
const WITH_SYSTEM_MACROS: [(&str, &str); 8] = [
    ("r", "R_OK"),
    ("w", "W_OK"),
    ("x", "X_OK"),
    ("f", "F_OK"),
    ("af", "AF_LOCAL"),
    ("pf", "PF_LOCAL"),
    ("rtld", "RTLD_LOCAL"),
    ("spidev", "SPIDEV_H"),
];

/// Names of a link that become the same in C.
pub fn clashes(plan: &Plan) -> Vec<Clash> {
    clashes_in_c(plan, false)
}

fn clashes_in_c(plan: &Plan, typed_enums: bool) -> Vec<Clash> {
    let parts = Parts { typed_enums, ..Parts::default() };
    let (header, source) = with_marks(|| texts(plan, &[], &parts, MARK));
    let link = &plan.link.name;
    // A name that is made in two ways of the same items is one in both files.
    let mut found = clashes_in(&header, link);
    let known: Vec<_> = found.iter().map(|clash| (clash.first.clone(), clash.second.clone())).collect();
    let more = clashes_in(&source, link).into_iter();
    found.extend(more.filter(|clash| !known.contains(&(clash.first.clone(), clash.second.clone()))));
    let stem = plain_snake(link);
    if HEADERS.contains(&stem.as_str()) {
        found.insert(Clash { name: format!("{stem}.h"), first: vec![link.clone()], second: Vec::new() });
    }
    if let Some((_, name)) = WITH_SYSTEM_MACROS.iter().find(|(known, _)| *known == stem) {
        found.insert(Clash { name: (*name).to_owned(), first: vec![link.clone()], second: Vec::new() });
    }
    found.into_iter().collect()
}
