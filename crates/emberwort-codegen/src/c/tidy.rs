//! How generated C is set: only ASCII is left, and long lines are broken.

use textwrap::{Options, WordSeparator, WordSplitter};

/// Columns that a line may have.
const WIDTH: usize = 120;

/// A file as it is written.
pub fn tidy(text: &str) -> String {
    let mut plain = String::with_capacity(text.len());
    text.chars().for_each(|c| in_ascii(c, &mut plain));
    let mut out = String::with_capacity(plain.len());
    let mut lines = plain.lines();
    while let Some(line) = lines.next() {
        if !line.trim_start().starts_with("/*") {
            broken(line, &mut out);
            continue;
        }
        let mut comment = vec![line];
        while !comment[comment.len() - 1].trim_end().ends_with("*/") {
            let Some(next) = lines.next() else { break };
            comment.push(next);
        }
        match comment.iter().any(|line| line.len() > WIDTH) {
            true => filled(&comment, &mut out),
            false => comment.iter().for_each(|line| out.extend([*line, "\n"])),
        }
    }
    out
}

/// Writes a comment in lines that are not too long. Paragraphs stay; so does what is set in.
fn filled(comment: &[&str], out: &mut String) {
    let indent = comment[0].len() - comment[0].trim_start().len();
    let mut paragraphs: Vec<String> = Vec::new();
    for line in comment {
        let line = line.trim();
        let text =
            line.strip_prefix("/*").or_else(|| line.strip_prefix('*').filter(|rest| *rest != "/")).unwrap_or(line);
        let text = text.strip_suffix("*/").unwrap_or(text).trim_end();
        let text = text.strip_prefix(' ').unwrap_or(text);
        let is_prose = |text: &str| !text.is_empty() && !text.starts_with(' ');
        match paragraphs.last_mut() {
            Some(last) if is_prose(text) && is_prose(last) => {
                last.push(' ');
                last.push_str(text);
            }
            _ => paragraphs.push(text.to_owned()),
        }
    }
    // The last line needs room for its end.
    let width = WIDTH - indent - "*/ ".len() - " * ".len();
    let options =
        Options::new(width).word_separator(WordSeparator::AsciiSpace).word_splitter(WordSplitter::NoHyphenation);
    let lines: Vec<String> = paragraphs
        .iter()
        .flat_map(|paragraph| match paragraph.starts_with(' ') || paragraph.is_empty() {
            true => vec![paragraph.clone()],
            false => textwrap::wrap(paragraph, &options).into_iter().map(std::borrow::Cow::into_owned).collect(),
        })
        .collect();
    let first = lines.iter().position(|line| !line.is_empty()).unwrap_or(0);
    let last = lines.iter().rposition(|line| !line.is_empty()).unwrap_or(0);
    for (n, line) in lines.iter().enumerate().take(last + 1).skip(first) {
        let (start, end) = (if n == first { "/*" } else { " *" }, if n == last { " */" } else { "" });
        let space = if line.is_empty() { "" } else { " " };
        out.push_str(&format!("{}{start}{space}{line}{end}\n", " ".repeat(indent)));
    }
}

/// A character of a comment, as near as ASCII comes to it.
fn in_ascii(c: char, out: &mut String) {
    match c {
        c if c.is_ascii() => out.push(c),
        '≈' => out.push_str("about "),
        '≤' => out.push_str("<="),
        '≥' => out.push_str(">="),
        '°' => out.push_str("deg"),
        'µ' | 'μ' => out.push('u'),
        'Ω' | '\u{2126}' => out.push_str("ohm"),
        '²' => out.push_str("^2"),
        '³' => out.push_str("^3"),
        // No asterisk, which could end a comment.
        '·' => out.push('.'),
        '×' => out.push('x'),
        '…' => out.push_str("..."),
        '–' | '—' | '−' => out.push('-'),
        '→' => out.push_str("->"),
        '‘' | '’' => out.push('\''),
        '“' | '”' => out.push('"'),
        _ => out.push('?'),
    }
}

/// Writes a line of code in several, if it is too long: behind commas and operators.
fn broken(line: &str, out: &mut String) {
    let mut rest = line.to_owned();
    let indent = line.len() - line.trim_start().len();
    let is_macro = line.trim_start().starts_with('#');
    let deeper = " ".repeat(indent + 4);
    while rest.len() > WIDTH {
        let most = WIDTH - if is_macro { 2 } else { 0 };
        let Some(at) = place_to_break(&rest, most) else { break };
        let behind = rest.split_off(at);
        out.push_str(rest.trim_end());
        out.push_str(if is_macro { " \\\n" } else { "\n" });
        rest = deeper.clone() + behind.trim_start();
    }
    out.push_str(&rest);
    out.push('\n');
}

/// Where a line can be broken, at most behind so many characters.
fn place_to_break(line: &str, most: usize) -> Option<usize> {
    let start = line.len() - line.trim_start().len() + 8;
    let mut quoted = false;
    let mut best: Option<(u8, usize)> = None;
    let bytes = line.as_bytes();
    let mut at = 0;
    while at < most.min(bytes.len()) {
        match bytes[at] {
            b'\\' if quoted => at += 1,
            b'"' => quoted = !quoted,
            b' ' | b'(' if at >= start && !quoted && (bytes[at] == b' ' || opens_arguments(bytes, at)) => {
                // A comment at the end of a line of code goes to the next line as a whole, a pointer's name stays with its type.
                let rank = match bytes[at] {
                    b'(' => 1,
                    _ if bytes[at + 1..].starts_with(b"/*") => 5,
                    _ if bytes[..at].ends_with(b"&&") || bytes[..at].ends_with(b"||") => 4,
                    _ if bytes[at - 1] == b',' => 3,
                    _ if bytes[at + 1] == b'*' && bytes[at + 2] != b' ' => 0,
                    _ if bytes[..at].ends_with(b"const") => 0,
                    _ => 2,
                };
                if best.is_none_or(|(known, _)| rank >= known) {
                    best = Some((rank, at + 1));
                }
            }
            _ => {}
        }
        at += 1;
    }
    best.map(|(_, at)| at)
}

/// Whether a bracket stands behind the name of a function that has arguments.
fn opens_arguments(bytes: &[u8], at: usize) -> bool {
    bytes[at - 1].is_ascii_alphanumeric() && bytes.get(at + 1).is_some_and(|next| *next != b')')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_comment_is_filled_as_a_whole() {
        let long = "a sentence of some words ".repeat(8);
        let text = format!(
            "    /* {long}and\n     * ends here.\n     *\n     *   set in   stays\n     * Another one. */\nint x; /* {long}*/\n"
        );
        let tidied = tidy(&text);
        let lines: Vec<&str> = tidied.lines().collect();
        assert!(lines.iter().all(|line| line.len() <= WIDTH), "{tidied}");
        assert!(lines[0].starts_with("    /* a sentence") && lines[1].starts_with("     * "), "{tidied}");
        assert!(lines.contains(&"     *") && lines.contains(&"     *   set in   stays"), "{tidied}");
        assert!(lines.contains(&"     * Another one. */"), "{tidied}");
        let is_word = |c: char| c.is_ascii_alphanumeric() || c == '_';
        let words = |text: &str| -> Vec<String> {
            text.split(|c| !is_word(c)).filter(|word| !word.is_empty()).map(str::to_owned).collect()
        };
        assert_eq!(words(&tidied), words(&text));
        // One that fits stays as it is, and only what C can hold is left.
        assert_eq!(tidy("/* in\n * lines */\nint µ;\n"), "/* in\n * lines */\nint u;\n");
    }

    #[test]
    fn code_is_broken_behind_commas_and_brackets_and_not_inside_of_a_pointer() {
        let name = "n".repeat(60);
        let broken = tidy(&format!(
            "static inline int {name}(const struct_with_a_long_name_behind_it_and_more_of_it_t *message, int b)\n{{\n}}\n"
        ));
        let lines: Vec<&str> = broken.lines().collect();
        assert!(lines.iter().any(|line| line.ends_with('(')), "{broken}");
        assert!(!lines.iter().any(|line| line.ends_with("const") || line.trim_start().starts_with('*')), "{broken}");
    }
}
