//! Text messages: the pattern of a line.

use super::Resolver;
use crate::budget::field_length;
use crate::diagnostics::{Code, Finding, is_unsafe_to_show, nearest};
use crate::model::{Field, Kind, Length, LineDigits, LineForm, LinePiece};
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
                return problem("a control character has no place in a line", "a line holds visible characters only");
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
            return problem(
                format!("`{}` does not stand in the line, so its value would not be sent", field.name),
                help,
            );
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
    let form = form_of(field, form)?;
    let fits = match &field.kind {
        Kind::Number(_) | Kind::Varint(_) | Kind::Bool | Kind::Enum { .. } | Kind::Time { .. } => true,
        Kind::Text { length, .. } => *length != Length::Rest,
        _ => false,
    };
    if !fits {
        return problem(
            format!("`{name}` cannot be written in a line"),
            "a line holds integers, ranges, bools, labels and texts; for a float, use a range: a device may have no float unit",
        );
    }
    Ok((slot, form))
}

/// The words behind the colon: `hex4`, or `fixed 2`, `wide 9`, `blank` together.
fn form_of(field: &Field, words: &str) -> Result<LineForm, Problem> {
    let name = &field.name;
    let mut form = LineForm::default();
    let mut rest = words.split_whitespace();
    while let Some(word) = rest.next() {
        // `fixed2` is as good as `fixed 2`.
        let (word, digits) = word.split_at(word.find(|c: char| c.is_ascii_digit()).unwrap_or(word.len()));
        let mut count = || if digits.is_empty() { rest.next().unwrap_or_default() } else { digits }.parse::<u8>();
        match word {
            "hex" if form.digits == LineDigits::Plain => match count() {
                Ok(digits) => form.digits = hex_digits(field, digits)?,
                Err(_) => return problem("`hex` needs a number of digits", format!("write `{{{name}:hex4}}`")),
            },
            "fixed" if form.digits == LineDigits::Plain => match count() {
                Ok(decimals) => form.digits = fixed_decimals(field, decimals)?,
                Err(_) => return problem("`fixed` needs a number of decimals", format!("write `{{{name}:fixed 2}}`")),
            },
            "wide" if form.wide == 0 => match count() {
                Ok(wide @ 1..=40) => form.wide = wide,
                _ => return problem("`wide` needs a number of characters", format!("write `{{{name}:wide 6}}`")),
            },
            "blank" if digits.is_empty() && !form.blank => form.blank = true,
            _ => {
                let help = "write `{x}`, `{x:hex4}`, `{x:fixed 2}`, `{x:wide 6}`, `{x:blank}`, or several as `{x:fixed 2 wide 6 blank}`";
                return problem(format!("`{words}` is not a way to write a field"), help);
            }
        }
    }
    if form.wide > 0 {
        let decimal = matches!(field.kind, Kind::Number(_) | Kind::Varint(_));
        if !decimal || matches!(form.digits, LineDigits::Hex(_)) {
            return problem(
                format!("`wide` says nothing about `{name}`"),
                "only numbers in decimal are filled up with zeros",
            );
        }
        let (_, most) = field_length(field, LineForm { wide: 0, blank: true, ..form });
        if most > usize::from(form.wide) {
            let message = format!("`{name}` needs up to {most} characters, and {} are written", form.wide);
            return problem(message, format!("write `wide {most}`, or narrow its range"));
        }
    }
    if form.blank && field.kind.none().is_none() {
        let message = format!("`blank` says how \"no reading\" is written, and `{name}` always has one");
        return problem(message, "write `or none` after the field's type, or take `blank` out");
    }
    Ok(form)
}

fn hex_digits(field: &Field, digits: u8) -> Result<LineDigits, Problem> {
    let name = &field.name;
    let needed = field.kind.raw_bits().unwrap_or(64).div_ceil(4);
    if digits < needed {
        let message = format!("`{name}` needs {needed} hex digits, and {digits} are written");
        return problem(message, format!("write `{{{name}:hex{needed}}}`"));
    }
    if !matches!(field.kind, Kind::Number(_) | Kind::Varint(_)) || field.kind.is_signed() || digits > 16 {
        let help = "only unsigned numbers can, with up to 16 digits";
        return problem(format!("`{name}` cannot be written in hex"), help);
    }
    Ok(LineDigits::Hex(digits))
}

fn fixed_decimals(field: &Field, decimals: u8) -> Result<LineDigits, Problem> {
    let name = &field.name;
    let Kind::Number(number) = &field.kind else {
        return problem(format!("`{name}` cannot be written with decimals"), "only numbers can");
    };
    let needed = number.scaling.decimals();
    if u32::from(decimals) < needed || decimals > 18 {
        let message = format!("with {decimals} decimals, `{name}` cannot be told from its neighbours: it has {needed}");
        return problem(message, format!("write `{{{name}:fixed {needed}}}`"));
    }
    Ok(LineDigits::Fixed(decimals))
}

/// Whether a reader can tell where each field ends.
fn between(pieces: &[LinePiece], fields: &[Field]) -> Result<(), Problem> {
    for pair in pieces.windows(2) {
        let (LinePiece::Field { slot, form }, next) = (&pair[0], &pair[1]) else { continue };
        let field = &fields[*slot];
        let name = &field.name;
        match next {
            LinePiece::Field { .. } if form.blank => {
                let help = "put a separator between the two, as in `{a:blank},{b}`";
                return problem(format!("a reader could not tell whether `{name}` is there"), help);
            }
            LinePiece::Field { .. } if !form.has_one_size() => {
                let help = "put a separator between the two, as in `{a}:{b}`";
                return problem(format!("a reader could not tell where `{name}` ends"), help);
            }
            LinePiece::Text(text) => {
                let first = text.chars().next().unwrap_or(' ');
                let numeric = matches!(field.kind, Kind::Number(_) | Kind::Varint(_) | Kind::Time { .. });
                let word =
                    matches!(field.kind, Kind::Enum { .. } | Kind::Bool) || field.kind.none().is_some() && !form.blank;
                let goes_on = numeric && !form.has_one_size() && (first.is_ascii_digit() || ".-+eE".contains(first))
                    || word && (first.is_ascii_alphanumeric() || first == '_');
                if goes_on {
                    let message = format!("the `{first}` after `{name}` could belong to the value");
                    return problem(message, "put another character between them, as in `{a}:{b}`");
                }
            }
            LinePiece::Field { .. } => {}
        }
    }
    Ok(())
}
