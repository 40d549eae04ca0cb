//! Physical values without a float unit: raw codes to scaled integers and back; floats behind one macro.

use emberwort_model::model::{Field, Kind, LAST_TIME, NumberForm};
use emberwort_model::number::Scaling;

use super::types;
use super::words::{constant, unsigned_type};
use crate::code::Code;
use crate::names::screaming;

/// The C type of a field's raw number: of an enum its own.
pub(crate) fn raw_type(link: &str, kind: &Kind) -> String {
    match kind {
        Kind::Enum { labels, .. } => types::enum_type(link, labels),
        kind => integer_type(kind).to_owned(),
    }
}

/// The integer type that holds a field's raw number.
pub fn integer_type(kind: &Kind) -> &'static str {
    let bits = kind.raw_bits().unwrap_or(8);
    if kind.is_signed() {
        match bits {
            0..=8 => "int8_t",
            9..=16 => "int16_t",
            17..=32 => "int32_t",
            _ => "int64_t",
        }
    } else if matches!(kind, Kind::Bool) {
        "bool"
    } else {
        unsigned_type(bits)
    }
}

/// Integer arithmetic for a scaling: all intermediate values fit into 64 bits.
struct Integers {
    ty: &'static str,
    bits: u8,
    /// `scaled = (offset + step × raw) / divisor`, rounded.
    offset: i128,
    step: i128,
    divisor: i128,
    least: i128,
    greatest: i128,
}

fn integers(form: &NumberForm) -> Option<Integers> {
    let scaling: &Scaling = &form.scaling;
    let (offset, step, divisor) = scaling.parts();
    let unit = 10i128.checked_pow(scaling.decimals())?;
    let (offset, step, divisor) = match (scaling.is_exact(), unit % divisor) {
        (true, 0) => (offset * (unit / divisor), step * (unit / divisor), 1),
        _ => (offset.checked_mul(unit)?, step.checked_mul(unit)?, divisor),
    };
    let ends = [scaling.scaled(form.low), scaling.scaled(form.high)];
    let (least, greatest) = (ends[0].min(ends[1]), ends[0].max(ends[1]));
    let highest_raw = form.low.abs().max(form.high.abs());
    let reach = [
        step.abs().checked_mul(highest_raw)?.checked_add(offset.abs())?.checked_add(divisor)?,
        least.abs().max(greatest.abs()).checked_mul(divisor)?.checked_add(offset.abs())?.checked_add(step.abs())?,
        highest_raw,
    ];
    let reach = reach.into_iter().max()?;
    if reach < 1 << 31 {
        Some(Integers { ty: "int32_t", bits: 32, offset, step, divisor, least, greatest })
    } else if reach < 1 << 63 {
        Some(Integers { ty: "int64_t", bits: 64, offset, step, divisor, least, greatest })
    } else {
        None
    }
}

/// The C type of a number field's scaled values; that of the widest integers if there are none.
pub(crate) fn scaled_type(kind: &Kind) -> &'static str {
    match kind {
        Kind::Number(form) => integers(form).map_or("int64_t", |integers| integers.ty),
        _ => "int64_t",
    }
}

/// A whole number divided by a positive one, with ties away from zero: a declaration, and statements with what stands around the quotient in them.
/// Where the number is never negative it needs no test.
fn quotient(number: &str, divisor: i128, integers: &Integers, is_negative: bool, around: (&str, &str)) -> [String; 2] {
    let (before, behind) = around;
    let plain = |line: String| [String::new(), line];
    if divisor == 1 {
        return plain(format!("    {before}{}{behind}\n", number));
    }
    let c = |value: i128| constant(value, integers.bits, true);
    let (half, divisor) = (c(divisor / 2), c(divisor));
    if !is_negative {
        return plain(format!("    {before}({} + {half}) / {divisor}{behind}\n", number));
    }
    [
        format!("    {} n;\n", integers.ty),
        format!(
            "    n = {};\n    {before}n >= 0 ? (n + {half}) / {divisor} : -((-n + {half}) / {divisor}){behind}\n",
            number
        ),
    ]
}

/// A sum without what is nothing.
fn sum(offset: i128, rest: String, c: &dyn Fn(i128) -> String) -> String {
    match offset {
        0 => rest,
        1.. => format!("{} + {rest}", c(offset)),
        _ => format!("{rest} - {}", c(-offset)),
    }
}

/// Writes constants and conversions of a number field. `stem` is `link_message_field`.
pub fn write(link: &str, stem: &str, kind: &Kind, form: &NumberForm, header: &mut Code) {
    let upper = screaming(stem);
    let raw = integer_type(kind);
    let number = |value: i128| constant(value, form.bits, form.signed);
    header.line(format!("#define {upper}_LOW {} /* least valid raw code */", number(form.low)));
    header.line(format!("#define {upper}_HIGH {} /* greatest valid raw code */", number(form.high)));
    if form.scaling.is_identity() {
        return;
    }
    match integers(form) {
        Some(integers) => scaled(link, stem, raw, form, &integers, header),
        None => header.line("/* This field's physical values do not fit 64-bit integers; work with the raw code. */"),
    }
    physical(link, stem, raw, form, header);
}

/// Conversions to physical values times a power of ten, in integers.
fn scaled(link: &str, stem: &str, raw: &str, form: &NumberForm, integers: &Integers, header: &mut Code) {
    let Integers { ty, bits, offset, step, divisor, least, greatest } = *integers;
    let (upper, link_upper, decimals) = (screaming(stem), screaming(link), form.scaling.decimals());
    let c = |value: i128| constant(value, bits, true);
    let of_raw = match step {
        1 => format!("({ty})raw"),
        -1 => format!("-({ty})raw"),
        step => format!("{} * ({ty})raw", c(step)),
    };
    let value = sum(offset, of_raw, &c);
    let is_negative = (form.low * step).min(form.high * step) + offset < 0;
    let [declared, returned] = quotient(&value, divisor, integers, is_negative, ("return ", ";"));
    header.line(format!("#define {upper}_DECIMALS {decimals}"));
    header.lines(&format!(
        "/* The physical value times 10^{decimals}. `raw` is a valid code. */\n\
         static inline {ty} {stem}_scaled({raw} raw)\n{{\n{declared}{returned}}}\n\
         /* The code nearest to a physical value times 10^{decimals}; an error if it is out of range. */"
    ));
    // raw = (scaled × divisor − offset) / step, with a positive divisor.
    let times = if divisor == 1 { "scaled".to_owned() } else { format!("scaled * {}", c(divisor)) };
    let (number, lowest) = match (step < 0, offset) {
        (false, 0) => (times, least * divisor),
        (false, _) if offset < 0 => (format!("{times} + {}", c(-offset)), least * divisor - offset),
        (false, _) => (format!("{times} - {}", c(offset)), least * divisor - offset),
        (true, 0) if divisor == 1 => ("-scaled".to_owned(), -greatest),
        (true, 0) => (format!("-({times})"), -greatest * divisor),
        (true, _) => (format!("{} - {times}", c(offset)), offset - greatest * divisor),
    };
    let [declared, set] = quotient(&number, step.abs(), integers, lowest < 0, (&format!("*raw = ({raw})("), ");"));
    let (at_least, at_greatest) = if step < 0 { ("HIGH", "LOW") } else { ("LOW", "HIGH") };
    let (least, greatest) = (c(least), c(greatest));
    header.lines(&format!(
        "{link_upper}_CHECKED static inline {link}_codec_result_t {stem}_from_scaled({ty} scaled, {raw} *raw)\n{{\n{declared}    \
             if (scaled < {least} || scaled > {greatest}) {{\n        return {link_upper}_OUT_OF_RANGE;\n    }}\n{set}    \
             return {link_upper}_OK;\n}}\n\
         /* The same; a value out of range is moved to the nearest one. */\n\
         static inline {raw} {stem}_from_scaled_clamped({ty} scaled)\n{{\n    \
             {raw} raw;\n    \
             if ({stem}_from_scaled(scaled, &raw) == {link_upper}_OK) {{\n        return raw;\n    }}\n    \
             return scaled < {least} ? {upper}_{at_least} : {upper}_{at_greatest};\n}}"
    ));
}

/// Conversions to physical values as floats.
fn physical(link: &str, stem: &str, raw: &str, form: &NumberForm, header: &mut Code) {
    let link_upper = screaming(link);
    let (offset, step, divisor) = form.scaling.parts();
    // Of a number that is not negative.
    let float = |numerator: i128| match numerator % divisor {
        0 => format!("{}.0f", numerator / divisor),
        _ => format!("({numerator}.0f / {divisor}.0f)"),
    };
    let with_sign = |numerator: i128| match numerator {
        0.. => float(numerator),
        _ => format!("(-{})", float(-numerator)),
    };
    let scale = if step == divisor { String::new() } else { format!(" * {}", with_sign(step)) };
    let (plus, value) = match offset {
        0 => (String::new(), "value".to_owned()),
        1.. => (format!(" + {}", float(offset)), format!("(value - {})", float(offset))),
        _ => (format!(" - {}", float(-offset)), format!("(value + {})", float(-offset))),
    };
    let back = if step == divisor { value } else { format!("{value} / {}", with_sign(step)) };
    let half_below = if form.low == 0 { "-0.5f".to_owned() } else { format!("{}.0f - 0.5f", form.low) };
    header.lines(&format!(
        "#ifdef {link_upper}_WITH_FLOAT\n\
         /* The physical value, as near as a float comes to it. */\n\
         static inline float {stem}_physical({raw} raw)\n{{\n    return (float)raw{scale}{plus};\n}}\n\
         /* The code nearest to a physical value; an error if it is out of range or no number. */\n\
         {link_upper}_CHECKED static inline {link}_codec_result_t {stem}_from_physical(float value, {raw} *raw)\n{{\n    \
             const float n = {back};\n    \
             if (!(n > {half_below} && n < {high}.0f + 0.5f)) {{\n        return {link_upper}_OUT_OF_RANGE;\n    }}\n    \
             *raw = ({raw})({round});\n    \
             return {link_upper}_OK;\n}}\n\
         #endif",
        high = form.high,
        round = if form.low >= 0 { "n + 0.5f" } else { "n >= 0.0f ? n + 0.5f : n - 0.5f" },
    ));
}

/// The value of a field that is a float of 32 bits itself, and back.
pub fn float(link: &str, stem: &str, header: &mut Code) {
    let link_upper = screaming(link);
    header.lines(&format!(
        "#ifdef {link_upper}_WITH_FLOAT\n\
         /* The value of the bits. */\n\
         static inline float {stem}_physical(uint32_t raw)\n{{\n    float value;\n    memcpy(&value, &raw, sizeof value);\n    return value;\n}}\n\
         /* The bits of a value; an error if it is infinite or no number. */\n\
         {link_upper}_CHECKED static inline {link}_codec_result_t {stem}_from_physical(float value, uint32_t *raw)\n{{\n    \
             uint32_t bits;\n    memcpy(&bits, &value, sizeof bits);\n    \
             if (!{stem}_valid(bits)) {{\n        return {link_upper}_OUT_OF_RANGE;\n    }}\n    \
             *raw = bits;\n    return {link_upper}_OK;\n}}\n\
         #endif"
    ));
}

/// The codes that mean something: from a least to a greatest one, and one apart from these.
fn meaningful(form: &NumberForm) -> (i128, i128, Option<i128>) {
    match form.none {
        Some(none) if none == form.low - 1 => (none, form.high, None),
        Some(none) if none == form.high + 1 => (form.low, none, None),
        none => (form.low, form.high, none.filter(|none| !(form.low..=form.high).contains(none))),
    }
}

/// Whether every code of a field's C type means something, so that nothing has to be looked at.
pub(crate) fn is_always_valid(field: &Field) -> bool {
    match &field.kind {
        Kind::Number(form) | Kind::Varint(form) => {
            let container = u32::from(form.bits.next_power_of_two().max(8));
            let (least, greatest) = if form.signed {
                (-(1i128 << (container - 1)), (1i128 << (container - 1)) - 1)
            } else {
                (0, (1i128 << container) - 1)
            };
            let (low, high, _) = meaningful(form);
            low <= least && high >= greatest
        }
        Kind::Bool | Kind::Time { milliseconds: false } => true,
        _ => false,
    }
}

/// The body of a field's `_valid` function.
pub(crate) fn validity(field: &Field, source: &mut Code) {
    let kind = &field.kind;
    let bits = kind.raw_bits().unwrap_or(8);
    let always = |source: &mut Code| source.lines("    (void)raw;\n    return true;");
    match kind {
        Kind::Number(form) | Kind::Varint(form) => {
            let container = u32::from(bits.next_power_of_two().max(8));
            let (least, greatest) = if form.signed {
                (-(1i128 << (container - 1)), (1i128 << (container - 1)) - 1)
            } else {
                (0, (1i128 << container) - 1)
            };
            let c = |value: i128| constant(value, bits, form.signed);
            let (low, high, apart) = meaningful(form);
            let mut inside = Vec::new();
            if low > least {
                inside.push(format!("raw >= {}", c(low)));
            }
            if high < greatest {
                inside.push(format!("raw <= {}", c(high)));
            }
            match (inside.is_empty(), apart) {
                (true, _) => always(source),
                (false, None) => source.line(format!("    return {};", inside.join(" && "))),
                (false, Some(none)) => {
                    let inside = match inside.as_slice() {
                        [one] => one.clone(),
                        both => format!("({})", both.join(" && ")),
                    };
                    source.line(format!("    return {inside} || raw == {};", c(none)));
                }
            }
        }
        Kind::Enum { labels, none } => {
            let mut codes: Vec<u64> = labels.labels.iter().map(|label| label.code).chain(*none).collect();
            codes.sort_unstable();
            if codes.is_empty() {
                source.lines("    (void)raw;\n    return false;");
                return;
            }
            codes.dedup();
            // All from the first to the last one.
            if codes.iter().zip(codes[0]..).all(|(code, next)| *code == next) {
                let c = |code: u64| constant(i128::from(code), bits, false);
                let last = codes[codes.len() - 1];
                let greatest = u64::MAX >> (64 - u32::from(bits.next_power_of_two().max(8)));
                source.line(match codes[0] {
                    first if first == last => format!("    return raw == {};", c(first)),
                    0 if last == greatest => "    (void)raw;\n    return true;".into(),
                    0 => format!("    return raw <= {};", c(last)),
                    first if last == greatest => format!("    return raw >= {};", c(first)),
                    first => format!("    return raw >= {} && raw <= {};", c(first), c(last)),
                });
                return;
            }
            // The code for no reading is none of the labels that a C `enum` has.
            source.line(if bits < 32 { "    switch ((uint32_t)raw) {" } else { "    switch (raw) {" });
            for code in codes {
                source.line(format!("    case {}:", constant(i128::from(code), bits, false)));
            }
            source.lines("        return true;\n    default:\n        return false;\n    }");
        }
        Kind::Flags(labels) => {
            let known = labels.labels.iter().fold(0u64, |all, label| all | 1 << label.code);
            let ty = unsigned_type(bits);
            source.line(format!("    return ({ty})(raw & ({ty})~{}) == 0u;", constant(i128::from(known), bits, false)));
        }
        Kind::Float(bits) => {
            let mask = match bits {
                16 => "UINT16_C(0x7C00)",
                32 => "UINT32_C(0x7F800000)",
                _ => "UINT64_C(0x7FF0000000000000)",
            };
            source.line(format!("    return (raw & {mask}) != {mask}; /* finite */"));
        }
        Kind::Time { milliseconds: true } => {
            source.line(format!("    return raw <= UINT64_C({}); /* up to the year 9999 */", LAST_TIME * 1000));
        }
        _ => always(source),
    }
}
