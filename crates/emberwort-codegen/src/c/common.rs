//! What all messages and channels share: results, reading and writing bits.

use emberwort_model::Plan;
use emberwort_model::model::ByteOrder;
use emberwort_model::plan::Action;

use crate::code::Code;
use crate::names::{screaming, snake};

/// The results of all functions, with what they mean.
const RESULTS: &[(&str, &str)] = &[
    ("OK", "done"),
    ("TRUNCATED", "the body ends inside a section"),
    ("TOO_MANY", "a count is above its maximum"),
    ("OUT_OF_RANGE", "a value is none that the field can have"),
    ("NO_ROOM", "the buffer is too small"),
    ("ABSENT", "the field is not there"),
    ("BAD_LENGTH", "the frame's length is wrong"),
    ("BAD_CHECKSUM", "a checksum differs"),
    ("BAD_VALUE", "a part with a fixed value has another"),
    ("UNKNOWN_MESSAGE", "no message has this key"),
];

pub fn write(plan: &Plan, header: &mut Code, source: &mut Code) {
    let link = snake(&plan.link.name);
    let upper = screaming(&plan.link.name);
    header.line("/* The revision of the definition that this code was made from. */");
    header.line(format!("#define {upper}_REVISION {}u", plan.link.revision));
    header.line("");
    header.open(format!("typedef enum {link}_result {{"));
    for (n, (name, meaning)) in RESULTS.iter().enumerate() {
        let comma = if n + 1 < RESULTS.len() { "," } else { "" };
        header.line(format!("{upper}_{name}{comma} /* {meaning} */"));
    }
    header.close(format!("}} {link}_result_t;"));
    header.line("");
    header.line("/* What a result means, in a few words. */");
    header.line(format!("const char *{link}_result_text({link}_result_t result);"));
    header.line("");

    source.lines(&format!("const char *{link}_result_text({link}_result_t result)\n{{\n    switch (result) {{"));
    for (name, meaning) in RESULTS {
        source.line(format!("    case {upper}_{name}: return \"{meaning}\";"));
    }
    source.lines("    default: return \"?\";\n    }\n}\n");

    let widths = || {
        let fields = plan.messages.iter().flat_map(|message| &message.sections).flat_map(|section| &section.steps);
        let fields = fields.map(|step| match step.action {
            Action::Bits { width, .. } => width,
            _ => 8,
        });
        fields.chain(plan.channels.iter().flat_map(|channel| &channel.parts).map(|part| part.bits))
    };
    let order = plan.link.byte_order;
    bits(&link, order, "uint32_t", "", source);
    if widths().any(|width| width > 32) {
        bits(&link, order, "uint64_t", "64", source);
    }
}

/// The functions that read and write a number of bits, in the bit order of the link (see docs/wire rules: bits are counted
/// in the order in which a body is filled).
fn bits(link: &str, order: ByteOrder, ty: &str, suffix: &str, source: &mut Code) {
    let (get, put) = match order {
        ByteOrder::Little => (
            "        value |= (TYPE)(((unsigned)bytes[at / 8u] >> shift) & ((1u << take) - 1u)) << done;",
            "        unsigned part = (unsigned)(value >> done) & ((1u << take) - 1u);\n        \
             unsigned place = shift;",
        ),
        ByteOrder::Big => (
            "        value = (TYPE)(value << take) | (TYPE)(((unsigned)bytes[at / 8u] >> (8u - shift - take)) & ((1u << take) - 1u));",
            "        unsigned part = (unsigned)(value >> (width - done - take)) & ((1u << take) - 1u);\n        \
             unsigned place = 8u - shift - take;",
        ),
    };
    let get = get.replace("TYPE", ty);
    source.lines(&format!(
        "/* Reads `width` bits from bit `at` on. */\n\
         static {ty} {link}_get{suffix}(const uint8_t *bytes, size_t at, unsigned width)\n\
         {{\n    \
             {ty} value = 0;\n    \
             unsigned done = 0;\n    \
             while (done < width) {{\n        \
                 unsigned shift = (unsigned)(at % 8u);\n        \
                 unsigned take = 8u - shift < width - done ? 8u - shift : width - done;\n\
         {get}\n        \
                 done += take;\n        \
                 at += take;\n    \
             }}\n    \
             return value;\n\
         }}\n\n\
         /* Writes `width` bits at bit `at`; other bits stay. */\n\
         static void {link}_put{suffix}(uint8_t *bytes, size_t at, unsigned width, {ty} value)\n\
         {{\n    \
             unsigned done = 0;\n    \
             while (done < width) {{\n        \
                 unsigned shift = (unsigned)(at % 8u);\n        \
                 unsigned take = 8u - shift < width - done ? 8u - shift : width - done;\n\
         {put}\n        \
                 unsigned mask = ((1u << take) - 1u) << place;\n        \
                 bytes[at / 8u] = (uint8_t)((bytes[at / 8u] & ~mask) | (part << place));\n        \
                 done += take;\n        \
                 at += take;\n    \
             }}\n\
         }}\n"
    ));
    source.line("");
}
