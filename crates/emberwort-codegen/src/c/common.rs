//! What all messages and channels share: results, reading and writing bits.

use std::collections::BTreeSet;

use emberwort_model::Plan;
use emberwort_model::algorithm::Algorithm;
use emberwort_model::layout::digest::digest;
use emberwort_model::model::ByteOrder;
use emberwort_model::plan::{Action, Channel, Direction, Role};

use crate::code::{Code, filled};
use crate::lower::{each_action, has_ascii};
use crate::names::{screaming, snake};

/// The results of all functions, with what they mean.
const RESULTS: &[(&str, &str)] = &[
    ("OK", "done"),
    ("TRUNCATED", "the body ends inside a section"),
    ("TOO_MANY", "a count is above its maximum"),
    ("OUT_OF_RANGE", "a value does not fit its field"),
    ("NO_ROOM", "the buffer is too small"),
    ("ABSENT", "the field is not there"),
    ("BAD_LENGTH", "the frame's length is wrong"),
    ("BAD_CHECKSUM", "a checksum differs"),
    ("BAD_VALUE", "a part with a fixed value has another"),
    ("UNKNOWN_MESSAGE", "no message has this key"),
    ("NO_FORM", "no form belongs to the deciding number"),
    ("BAD_NUMBER", "a compact number has too many bits"),
    ("NOT_INITIALISED", "the struct was not initialised: ..._init() does that"),
];

/// A test of a peer's revision, where frames say it.
fn compatible(plan: &Plan, incompatible: &[u32], header: &mut Code) {
    let says = |channel: &Direction| channel.part(|role| *role == Role::Revision).is_some();
    let mut all = plan.channels.iter().flat_map(Channel::directions);
    if !all.any(|(_, direction)| says(direction)) {
        return;
    }
    let link = snake(&plan.link.name);
    header.line("");
    header.lines(&format!(
        "/* Whether a peer whose frames say this revision gets along with this code. Earlier sealed revisions were compared when it was\n \
         * generated; a later one keeps what is sealed, and is compared when it is sealed itself. */\n\
         static inline bool {link}_compatible(uint32_t revision)\n{{\n    switch (revision) {{\n    case 0u: return false;"
    ));
    for revision in incompatible {
        header.line(format!("    case {revision}u: return false;"));
    }
    header.lines("    default: return true;\n    }\n}\n");
}

pub fn write(plan: &Plan, incompatible: &[u32], small: bool, header: &mut Code, source: &mut Code) {
    let link = snake(&plan.link.name);
    let upper = screaming(&plan.link.name);
    header.line("/* The revision of the definition that this code was made from. */");
    header.line(format!("#define {upper}_REVISION {}u", plan.link.revision));
    header.line(
        "/* Code with the same number here means the same with the same bytes, whatever its revision is called. */",
    );
    header.line(format!("#define {upper}_LAYOUT_DIGEST UINT32_C(0x{:08X})", digest(plan)));
    compatible(plan, incompatible, header);
    header.line("");
    header.open(format!("typedef enum {link}_codec_result_t {{"));
    for (n, (name, meaning)) in RESULTS.iter().enumerate() {
        let comma = if n + 1 < RESULTS.len() { "," } else { "" };
        header.line(format!("{upper}_{name}{comma} /* {meaning} */"));
    }
    header.close(format!("}} {link}_codec_result_t;"));
    header.line("");
    header.line("/* What a result means, in a few words. */");
    header.lines(&format!(
        "static inline const char *{link}_codec_result_text({link}_codec_result_t result)\n{{\n    switch (result) {{"
    ));
    for (name, meaning) in RESULTS {
        header.line(format!("    case {upper}_{name}: return \"{meaning}\";"));
    }
    header.lines("    default: return \"?\";\n    }\n}\n");
    header.line("");

    flash(plan, &upper, small, source);
    let own = plan.link.byte_order;
    // Which functions are needed, by order and whether they are for more than 32 bits.
    let mut needed: BTreeSet<(bool, bool)> = BTreeSet::from([(true, false)]);
    let mut varints: BTreeSet<bool> = BTreeSet::new();
    each_action(plan, &mut |action| match action {
        Action::Bits { width, order, .. } => {
            needed.insert((*order == own, *width > 32));
        }
        Action::Varint { width, .. } => {
            varints.insert(*width > 32);
        }
        _ => {}
    });
    let all = plan.channels.iter().flat_map(Channel::directions);
    let (digits, parts): (Vec<_>, Vec<_>) = all.flat_map(|(_, direction)| &direction.parts).partition(|part| part.hex);
    for part in parts {
        needed.insert((part.order == own, part.bits > 32));
    }
    for (is_own, wide) in needed {
        let (order, name) = match (is_own, own) {
            (true, order) => (order, ""),
            (false, ByteOrder::Little) => (ByteOrder::Big, "_be"),
            (false, ByteOrder::Big) => (ByteOrder::Little, "_le"),
        };
        let (ty, suffix) = if wide { ("uint64_t", format!("{name}64")) } else { ("uint32_t", name.to_owned()) };
        bits(&link, order, ty, &suffix, source);
    }
    if !digits.is_empty() {
        for (name, uses, text) in DIGITS {
            source.define(format!("{link}_{name}"), |source| {
                uses.iter().for_each(|used| source.uses(format!("{link}_{used}")));
                source.lines(&filled(text, &[("LINK", &link)]));
                source.line("");
            });
        }
    }
    for is_wide in varints {
        let bits = if is_wide { "64" } else { "32" };
        for (name, text) in COMPACT {
            source.define(format!("{link}_{name}{bits}"), |source| {
                source.lines(&filled(text, &[("LINK", &link), ("UPPER", &upper), ("BITS", bits)]));
                source.line("");
            });
        }
    }
    if has_ascii(plan) {
        header.lines(&filled(ASCII, &[("LINK", &link)]));
        header.line("");
    }
    source.define(format!("{link}_lacks"), |source| {
        source.line("/* Whether so many bits from `bit` on do not all lie before the byte `end`. */");
        source.line(format!("static bool {link}_lacks(size_t end, size_t bit, size_t bits)"));
        source.open("{");
        source.line("return bit > end * 8u || end * 8u - bit < bits;");
        source.close("}");
        source.line("");
    });
}

/// Tables that stay in flash, also on machines on which only special instructions read it there.
fn flash(plan: &Plan, upper: &str, small: bool, source: &mut Code) {
    let directions = plan.channels.iter().flat_map(Channel::directions);
    let widths: BTreeSet<u8> = directions
        .flat_map(|(_, direction)| &direction.parts)
        .filter_map(|part| match &part.role {
            Role::Checksum { algorithm: Algorithm::Crc(crc), .. } => Some(crc.width.next_power_of_two().max(8)),
            _ => None,
        })
        .collect();
    if widths.is_empty() {
        return;
    }
    let (usual, chosen) = match small {
        false => ("a table of 256 entries", String::new()),
        true => (
            "a table of 16 entries",
            format!(
                "#if !defined({upper}_CRC_TABLE) && !defined({upper}_CRC_BITWISE) && !defined({upper}_CRC_NIBBLE)\n\
                 #define {upper}_CRC_NIBBLE\n#endif\n"
            ),
        ),
    };
    source.lines(&format!(
        "/* How checksums are computed: with {usual}, if nothing is defined; with one of 256 ({upper}_CRC_TABLE); with one of 16 \
         ({upper}_CRC_NIBBLE); or bit by bit ({upper}_CRC_BITWISE). On an AVR tables stay in flash. */\n{chosen}\
         #if defined(__AVR__)\n#include <avr/pgmspace.h>\n#define {upper}_FLASH PROGMEM"
    ));
    let read = |width: u8| match width {
        8 => "pgm_read_byte(&(entry))",
        16 => "pgm_read_word(&(entry))",
        32 => "pgm_read_dword(&(entry))",
        _ => "((uint64_t)pgm_read_dword(&(entry)) | (uint64_t)pgm_read_dword((const uint8_t *)&(entry) + 4) << 32)",
    };
    widths.iter().for_each(|width| source.line(format!("#define {upper}_FLASH_{width}(entry) {}", read(*width))));
    source.lines(&format!("#else\n#define {upper}_FLASH"));
    widths.iter().for_each(|width| source.line(format!("#define {upper}_FLASH_{width}(entry) (entry)")));
    source.lines("#endif\n");
    source.line("");
}

/// Frame parts in hex digits.
const ASCII: &str = "/* Whether all characters are ASCII. */
static inline bool LINK_is_ascii(const char *text, size_t size)
{
    size_t n;
    for (n = 0; n < size; n++) {
        if (((unsigned char)text[n] & 0x80u) != 0u) {
            return false;
        }
    }
    return true;
}
";

/// Numbers in hex digits: the functions, and those that each calls.
const DIGITS: [(&str, &[&str], &str); 4] = [
    (
        "digit",
        &[],
        "static unsigned LINK_digit(uint8_t c)
{
    if (c >= '0' && c <= '9') {
        return (unsigned)c - '0';
    }
    c = (uint8_t)(c | 0x20u);
    return c >= 'a' && c <= 'f' ? (unsigned)c - 'a' + 10u : 16u;
}
",
    ),
    (
        "are_digits",
        &["digit"],
        "static bool LINK_are_digits(const uint8_t *digits, unsigned count)
{
    unsigned n;
    for (n = 0; n < count; n++) {
        if (LINK_digit(digits[n]) > 15u) {
            return false;
        }
    }
    return true;
}
",
    ),
    (
        "get_digits",
        &["digit"],
        "/* The number in hex digits; all ones if other characters stand there. */
static uint64_t LINK_get_digits(const uint8_t *digits, unsigned count)
{
    uint64_t value = 0;
    unsigned n;
    for (n = 0; n < count; n++) {
        unsigned digit = LINK_digit(digits[n]);
        if (digit > 15u) {
            return UINT64_MAX;
        }
        value = value << 4 | digit;
    }
    return value;
}
",
    ),
    (
        "put_digits",
        &[],
        r#"static void LINK_put_digits(uint8_t *digits, unsigned count, uint64_t value)
{
    while (count > 0u) {
        digits[--count] = (uint8_t)"0123456789ABCDEF"[value & 0xFu];
        value >>= 4;
    }
}
"#,
    ),
];

/// Reading and writing integers of variable length.
const COMPACT: [(&str, &str); 2] = [
    (
        "get_compact",
        "/* Reads seven bits a byte, low group first, from byte *at on, which then is after them. */
static LINK_codec_result_t LINK_get_compactBITS(const uint8_t *body, size_t end, size_t *at, unsigned width,
    uintBITS_t *value)
{
    size_t here = *at;
    uintBITS_t sum = 0;
    unsigned shift;
    for (shift = 0; shift < width; shift += 7u) {
        uint8_t byte;
        uintBITS_t group;
        if (here >= end) {
            return UPPER_TRUNCATED;
        }
        byte = body[here++];
        group = byte & 0x7Fu;
        if (width - shift < 7u && (group >> (width - shift)) != 0u) {
            return UPPER_BAD_NUMBER;
        }
        sum |= group << shift;
        if ((byte & 0x80u) == 0u) {
            *at = here;
            *value = sum;
            return UPPER_OK;
        }
    }
    return UPPER_BAD_NUMBER;
}
",
    ),
    (
        "put_compact",
        "/* Writes it at byte *at, which then is after it. */
static bool LINK_put_compactBITS(uint8_t *body, size_t room, size_t *at, uintBITS_t value)
{
    do {
        uint8_t byte = (uint8_t)(value & 0x7Fu);
        value >>= 7;
        if (value != 0u) {
            byte = (uint8_t)(byte | 0x80u);
        }
        if (*at >= room) {
            return false;
        }
        body[*at] = byte;
        *at += 1u;
    } while (value != 0u);
    return true;
}
",
    ),
];

/// The functions that read and write a number of bits, in the bit order of the link (see docs/wire rules: bits are counted
/// in the order in which a body is filled).
fn bits(link: &str, order: ByteOrder, ty: &str, suffix: &str, source: &mut Code) {
    let (get, put) = match order {
        ByteOrder::Little => (
            "value |= (TYPE)(((unsigned)bytes[at / 8u] >> shift) & ((1u << take) - 1u)) << done;\n",
            "unsigned part = (unsigned)(value >> done) & ((1u << take) - 1u);\nunsigned place = shift;\n",
        ),
        ByteOrder::Big => (
            "value = (TYPE)(value << take) | (TYPE)(((unsigned)bytes[at / 8u] >> (8u - shift - take)) & ((1u << take) - 1u));\n",
            "unsigned part = (unsigned)(value >> (width - done - take)) & ((1u << take) - 1u);\n\
             unsigned place = 8u - shift - take;\n",
        ),
    };
    for (name, head, start, step, result) in [
        (
            "get",
            format!(
                "/* Reads `width` bits from bit `at` on. */\nstatic {ty} {link}_get{suffix}(const uint8_t *bytes, size_t at, unsigned width)"
            ),
            format!("{ty} value = 0;\n"),
            filled(get, &[("TYPE", ty)]),
            "return value;\n",
        ),
        (
            "put",
            format!(
                "/* Writes `width` bits at bit `at`; other bits stay. */\n\
                 static void {link}_put{suffix}(uint8_t *bytes, size_t at, unsigned width, {ty} value)"
            ),
            String::new(),
            format!(
                "{put}unsigned mask = ((1u << take) - 1u) << place;\n\
                 bytes[at / 8u] = (uint8_t)((bytes[at / 8u] & ~mask) | (part << place));\n"
            ),
            "",
        ),
    ] {
        source.define(format!("{link}_{name}{suffix}"), |source| {
            source.lines(&head);
            source.open("{");
            source.lines(&format!("{start}unsigned done = 0;"));
            source.open("while (done < width) {");
            source.line("unsigned shift = (unsigned)(at % 8u);");
            source.line("unsigned take = 8u - shift < width - done ? 8u - shift : width - done;");
            source.lines(&format!("{step}done += take;\nat += take;"));
            source.close("}");
            source.lines(result);
            source.close("}");
            source.line("");
        });
    }
}
