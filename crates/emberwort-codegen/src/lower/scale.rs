//! From raw codes to physical values and back, as expressions.

use emberwort_model::number::Scaling;

/// The physical value of the code `raw`, and the code of the physical value `value` before it is rounded, in a language in which whole numbers
/// are written with `end` behind them. The expressions are the same wherever `+`, `-`, `*` and `/` compute with floating-point numbers.
pub fn conversions(scaling: &Scaling, raw: &str, end: &str) -> (String, String) {
    let (offset, step, divisor) = scaling.parts();
    let stepped = match step {
        1 => raw.to_owned(),
        -1 => format!("-{raw}"),
        step => format!("{step}{end} * {raw}"),
    };
    let sum = if offset == 0 { stepped } else { format!("{offset}{end} + {stepped}") };
    let physical = match divisor {
        1 => sum,
        _ if sum.contains(' ') => format!("({sum}) / {divisor}{end}"),
        _ => format!("{sum} / {divisor}{end}"),
    };
    let times = if divisor == 1 { "value".to_owned() } else { format!("value * {divisor}{end}") };
    let without = match offset {
        0 => times,
        offset if offset < 0 => format!("{times} + {}{end}", -offset),
        offset => format!("{times} - {offset}{end}"),
    };
    let back = match step {
        1 => without,
        _ if without.contains(' ') => format!("({without}) / {step}{end}"),
        _ => format!("{without} / {step}{end}"),
    };
    (physical, back)
}
