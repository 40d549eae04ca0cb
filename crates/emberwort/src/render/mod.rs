//! How results look: findings, tables, rows, times.

pub mod assignment;
pub mod changes;
pub mod comparison;
pub mod findings;
pub mod frames;
pub mod picture;
pub mod plot;
#[cfg(feature = "pictures")]
pub mod png;
pub mod sheets;
pub mod stats;
pub mod summary;
pub mod sweep_figure;
pub mod table;
pub mod wave;
pub mod working;

pub use emberwort_model::counting::plural;

/// A number whose digits stand in groups of three.
pub fn grouped(number: f64) -> String {
    let digits = format!("{number:.0}");
    let mut out = String::new();
    for (n, digit) in digits.chars().enumerate() {
        if n > 0 && (digits.len() - n) % 3 == 0 {
            out.push(',');
        }
        out.push(digit);
    }
    out
}

/// A sentence in lines that fit the terminal, if there is one; the lines behind the first are indented.
pub fn wrapped(text: &str) -> String {
    wrapped_under(text, "  ")
}

/// A text wrapped to the terminal, with this indent from its second line on.
pub fn wrapped_under(text: &str, indent: &str) -> String {
    wrapped_at(crate::output::terminal_width(), text, indent)
}

/// A text wrapped for a terminal of so many columns, if there is one, with this indent from its second line on.
pub fn wrapped_at(width: Option<usize>, text: &str, indent: &str) -> String {
    match width {
        Some(width) => textwrap::fill(text, textwrap::Options::new(width).subsequent_indent(indent).break_words(false)),
        None => text.to_owned(),
    }
}
