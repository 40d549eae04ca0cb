//! Text messages: the pattern of a line.

use super::Resolver;
use crate::diagnostics::{Code, Finding, is_unsafe_to_show, nearest};
use crate::model::{Field, Kind, Length, LineForm, LinePiece};
use crate::source::Span;
use crate::syntax::unquoted;

impl Resolver<'_> {
    /// The pieces of a pattern, which stands in quotes. Every field must be in it once.
    pub(super) fn line(&mut self, quoted: &str, span: Span, fields: &[Field]) -> Option<Vec<LinePiece>> {
        match pieces(&unquoted(quoted), fields) {
            Ok(pieces) => Some(pieces),
            Err((message, help)) => {
                self.report(Finding::new(Code::BadLine, span, message, help));
                None
            }
        }
    }
}

type Problem = (String, String);

fn problem<T>(message: impl Into<String>, help: impl Into<String>) -> Result<T, Problem> {
    Err((message.into(), help.into()))
}

fn pieces(pattern: &str, fields: &[Field]) -> Result<Vec<LinePiece>, Problem> {
    let mut pieces = Vec::new();
    let mut text = String::new();
    let mut chars = pattern.chars().peekable();
    let mut written = vec![false; fields.len()];
    while let Some(c) = chars.next() {
        match c {
            '{' if chars.peek() == Some(&'{') => {
                chars.next();
                text.push('{');
            }
            '}' if chars.peek() == Some(&'}') => {
                chars.next();
                text.push('}');
            }
            '}' => return problem("a `}` stands here without its `{`", "write `}}` for the character itself"),
            '{' => {
                if !text.is_empty() {
                    pieces.push(LinePiece::Text(std::mem::take(&mut text)));
                }
                let mut inner = String::new();
                loop {
                    match chars.next() {
                        Some('}') => break,
                        Some(c) => inner.push(c),
                        None => {
                            return problem("a `{` has no `}`", "write `{field}`, or `{{` for the character itself");
                        }
                    }
                }
                let (slot, form) = placeholder(&inner, fields)?;
                if std::mem::replace(&mut written[slot], true) {
                    let name = &fields[slot].name;
                    return problem(format!("`{name}` stands in the line twice"), "a field stands in the line once");
                }
                pieces.push(LinePiece::Field { slot, form });
            }
            c if is_unsafe_to_show(c) => {
                return problem("a control character has no place in a line", "lines hold visible characters alone");
            }
            c => text.push(c),
        }
    }
    if !text.is_empty() {
        pieces.push(LinePiece::Text(text));
    }
    if pieces.is_empty() {
        return problem("an empty line cannot be told from no line", "write at least one character");
    }
    for (slot, field) in fields.iter().enumerate() {
        if field.is_spare() || field.optional || field.since > 1 {
            let help = "text messages have plain fields only: no `spare`, `retired`, `optional`, `added in`";
            return problem("a line has no place for this field", help);
        }
        if !written[slot] {
            let help = format!("write it as `{{{}}}`", field.name);
            return problem(format!("`{}` does not stand in the line, so nobody would learn it", field.name), help);
        }
    }
    between(&pieces, fields)?;
    Ok(pieces)
}

/// What stands between braces: `field`, `field:hex4`, `field:fixed 2`.
fn placeholder(inner: &str, fields: &[Field]) -> Result<(usize, LineForm), Problem> {
    let (name, form) = inner.split_once(':').unwrap_or((inner, ""));
    let Some(slot) = fields.iter().position(|field| field.name == name.trim() && !field.is_spare()) else {
        let known = fields.iter().map(|field| field.name.as_str());
        let help = nearest(name.trim(), known)
            .map_or_else(|| "a field of this message stands here".to_owned(), |near| format!("did you mean `{near}`?"));
        return problem(format!("there is no field `{}`", name.trim()), help);
    };
    let field = &fields[slot];
    let number = matches!(field.kind, Kind::Number(_) | Kind::Compact(_));
    let form = form.trim();
    let parsed = if form.is_empty() {
        LineForm::Plain
    } else if let Some(digits) = form.strip_prefix("hex").and_then(|digits| digits.trim().parse::<u8>().ok()) {
        let needed = field.kind.raw_bits().unwrap_or(64).div_ceil(4);
        if digits < needed {
            let message = format!("`{name}` needs {needed} hex digits, and {digits} are written");
            return problem(message, format!("write `{{{name}:hex{needed}}}`"));
        }
        if !number || field.kind.is_signed() || digits > 16 {
            return problem(
                format!("`{name}` cannot be written in hex"),
                "only unsigned numbers can, with up to 16 digits",
            );
        }
        LineForm::Hex(digits)
    } else if let Some(decimals) = form.strip_prefix("fixed").and_then(|digits| digits.trim().parse::<u8>().ok()) {
        let Kind::Number(number) = &field.kind else {
            return problem(format!("`{name}` cannot be written with decimals"), "only numbers can");
        };
        let needed = number.scaling.decimals();
        if u32::from(decimals) < needed || decimals > 18 {
            let message =
                format!("with {decimals} decimals, `{name}` cannot be told from its neighbours: it has {needed}");
            return problem(message, format!("write `{{{name}:fixed {needed}}}`"));
        }
        LineForm::Fixed(decimals)
    } else {
        return problem(format!("`{form}` is no way to write a field"), "write `{x}`, `{x:hex4}` or `{x:fixed 2}`");
    };
    let fits = match &field.kind {
        Kind::Number(_) | Kind::Compact(_) | Kind::Bool | Kind::Enum { .. } | Kind::Time { .. } => true,
        Kind::Text { length, .. } => *length != Length::Rest,
        _ => false,
    };
    if !fits {
        return problem(
            format!("`{name}` cannot be written in a line"),
            "a line holds integers, ranges, bools, labels and texts; for a float, use a range: a device may have no float unit",
        );
    }
    Ok((slot, parsed))
}

/// Whether a reader can tell where each field ends.
fn between(pieces: &[LinePiece], fields: &[Field]) -> Result<(), Problem> {
    for pair in pieces.windows(2) {
        let (LinePiece::Field { slot, form }, next) = (&pair[0], &pair[1]) else { continue };
        let field = &fields[*slot];
        let name = &field.name;
        match next {
            LinePiece::Field { .. } if !matches!(form, LineForm::Hex(_)) => {
                let help = "put a separator between the two, as in `{a}:{b}`";
                return problem(format!("a reader could not tell where `{name}` ends"), help);
            }
            LinePiece::Text(text) => {
                let first = text.chars().next().unwrap_or(' ');
                let numeric = matches!(field.kind, Kind::Number(_) | Kind::Compact(_) | Kind::Time { .. });
                let word = matches!(field.kind, Kind::Enum { .. } | Kind::Bool) || field.kind.none().is_some();
                let goes_on =
                    numeric && !matches!(form, LineForm::Hex(_)) && (first.is_ascii_digit() || ".-+eE".contains(first))
                        || word && (first.is_ascii_alphanumeric() || first == '_');
                if goes_on {
                    let message = format!("the `{first}` behind `{name}` could belong to the value");
                    return problem(message, "put another character between them, as in `{a}:{b}`");
                }
            }
            LinePiece::Field { .. } => {}
        }
    }
    Ok(())
}
