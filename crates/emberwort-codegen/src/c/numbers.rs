//! Physical values without a float unit: raw codes to scaled integers and back; floats behind one macro.

use emberwort_model::model::{Field, Kind, LAST_TIME, NumberForm};
use emberwort_model::number::Scaling;

use super::words::{constant, unsigned_type};
use crate::code::Code;
use crate::names::screaming;

/// The C type of a field's raw number.
pub fn raw_type(kind: &Kind) -> &'static str {
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
pub fn scaled_type(kind: &Kind) -> &'static str {
    match kind {
        Kind::Number(form) => integers(form).map_or("int64_t", |integers| integers.ty),
        _ => "int64_t",
    }
}

/// `(n + half) / d` with ties away from zero, as a C expression over the variable `n`. The divisor is positive.
fn rounded(divisor: i128, bits: u8) -> String {
    let d = constant(divisor, bits, true);
    let half = constant(divisor / 2, bits, true);
    if divisor == 1 { "n".into() } else { format!("n >= 0 ? (n + {half}) / {d} : -((-n + {half}) / {d})") }
}

/// Writes constants and conversions of a number field. `stem` is `link_message_field`.
pub fn write(link: &str, stem: &str, kind: &Kind, form: &NumberForm, header: &mut Code, source: &mut Code) {
    let upper = screaming(stem);
    let raw = raw_type(kind);
    let number = |value: i128| constant(value, form.bits, form.signed);
    header.line(format!("#define {upper}_LOW {} /* least valid raw code */", number(form.low)));
    header.line(format!("#define {upper}_HIGH {} /* greatest valid raw code */", number(form.high)));
    if form.scaling.is_identity() {
        return;
    }
    let decimals = form.scaling.decimals();
    let result = format!("{link}_result_t");
    let link_upper = screaming(link);
    match integers(form) {
        Some(integers) => {
            let Integers { ty, bits, offset, step, divisor, least, greatest } = integers;
            let c = |value: i128| constant(value, bits, true);
            header.line(format!("#define {upper}_DECIMALS {decimals}"));
            header.line(format!("/* The physical value times 10^{decimals}. `raw` is a valid code. */"));
            header.line(format!("{ty} {stem}_scaled({raw} raw);"));
            header.line(
                "/* The code nearest to a physical value times a power of ten; an error if it is out of range. */",
            );
            header.line(format!("{result} {stem}_from_scaled({ty} scaled, {raw} *raw);"));
            header.line("/* The same; a value out of range is moved to the nearest one. */");
            header.line(format!("{raw} {stem}_from_scaled_clamped({ty} scaled);"));

            source.lines(&format!(
                "{ty} {stem}_scaled({raw} raw)\n{{\n    {ty} n = {} + {} * ({ty})raw;\n    return {};\n}}\n",
                c(offset),
                c(step),
                rounded(divisor, bits)
            ));
            source.line("");
            // raw = (scaled × divisor − offset) / step, with a positive divisor.
            let sign = if step < 0 { "-" } else { "" };
            source.lines(&format!(
                "{result} {stem}_from_scaled({ty} scaled, {raw} *raw)\n{{\n    \
                     {ty} n;\n    \
                     if (scaled < {} || scaled > {}) {{\n        return {link_upper}_OUT_OF_RANGE;\n    }}\n    \
                     n = {sign}(scaled * {} - {});\n    \
                     *raw = ({raw})({});\n    \
                     return {link_upper}_OK;\n}}\n",
                c(least),
                c(greatest),
                c(divisor),
                c(offset),
                rounded(step.abs(), bits)
            ));
            source.line("");
            let (at_least, at_greatest) = if step < 0 { (form.high, form.low) } else { (form.low, form.high) };
            source.lines(&format!(
                "{raw} {stem}_from_scaled_clamped({ty} scaled)\n{{\n    \
                     {raw} raw = {};\n    \
                     if (scaled > {}) {{\n        return {};\n    }}\n    \
                     (void){stem}_from_scaled(scaled, &raw);\n    \
                     return raw;\n}}\n",
                number(at_least),
                c(greatest),
                number(at_greatest)
            ));
            source.line("");
        }
        None => header.line("/* This field's physical values do not fit 64-bit integers; work with the raw code. */"),
    }
    let (offset, step, divisor) = form.scaling.parts();
    let float = |numerator: i128| match (numerator % divisor, numerator / divisor) {
        (0, whole) if whole < 0 => format!("({whole}.0f)"),
        (0, whole) => format!("{whole}.0f"),
        _ => format!("({numerator}.0f / {divisor}.0f)"),
    };
    header.line(format!("#ifdef {link_upper}_WITH_FLOAT"));
    header.line("/* The physical value, as near as a float comes to it. */");
    header.line(format!("float {stem}_physical({raw} raw);"));
    header.line("/* The code nearest to a physical value; an error if it is out of range or no number. */");
    header.line(format!("{result} {stem}_from_physical(float value, {raw} *raw);"));
    header.line("#endif");
    source.lines(&format!(
        "#ifdef {link_upper}_WITH_FLOAT\n\
         float {stem}_physical({raw} raw)\n{{\n    return (float)raw * {scale} + {offset};\n}}\n\n\
         {result} {stem}_from_physical(float value, {raw} *raw)\n{{\n    \
             float n = (value - {offset}) / {scale};\n    \
             if (!(n > {low}.0f - 0.5f && n < {high}.0f + 0.5f)) {{\n        return {link_upper}_OUT_OF_RANGE;\n    }}\n    \
             *raw = ({raw})(n >= 0.0f ? n + 0.5f : n - 0.5f);\n    \
             return {link_upper}_OK;\n}}\n\
         #endif\n",
        scale = float(step),
        offset = float(offset),
        low = form.low,
        high = form.high,
    ));
    source.line("");
}

/// Whether every code of a field's C type means something, so that nothing has to be looked at.
pub fn is_always_valid(field: &Field) -> bool {
    match &field.kind {
        Kind::Number(form) | Kind::Varint(form) => {
            let container = u32::from(form.bits.next_power_of_two().max(8));
            let (least, greatest) = if form.signed {
                (-(1i128 << (container - 1)), (1i128 << (container - 1)) - 1)
            } else {
                (0, (1i128 << container) - 1)
            };
            form.low <= least && form.high >= greatest
        }
        Kind::Bool | Kind::Time { milliseconds: false } => true,
        _ => false,
    }
}

/// The body of a field's `_valid` function.
pub fn validity(field: &Field, source: &mut Code) {
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
            let mut inside = Vec::new();
            if form.low > least {
                inside.push(format!("raw >= {}", c(form.low)));
            }
            if form.high < greatest {
                inside.push(format!("raw <= {}", c(form.high)));
            }
            let none = form.none.filter(|none| !(form.low..=form.high).contains(none));
            match (inside.is_empty(), none) {
                (true, _) => always(source),
                (false, None) => source.line(format!("    return {};", inside.join(" && "))),
                // The code next to the others needs no comparison of its own if it is the type's last one.
                (false, Some(none)) => {
                    source.line(format!("    return ({}) || raw == {};", inside.join(" && "), c(none)));
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
            source.line("    switch (raw) {");
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
