//! Lines of a log, by a pattern: `{time} ({can_id:hex}) {bytes}`.

use super::cells::{BytesForm, CellKind, Cells, Forms, TimeForm};

/// A pattern of lines: names in braces, and what stands between them. A blank stands for one or more, `{}` for anything.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pattern {
    parts: Vec<Part>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Part {
    /// This text.
    Text(String),
    /// At least one blank.
    Blank,
    /// What the part says; anything, if it is `None`.
    Named(Option<CellKind>),
}

impl Pattern {
    /// Reads a pattern, and the forms that it says for its parts.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn parse(text: &str, forms: &mut Forms) -> Result<Self, String> {
        let mut parts: Vec<Part> = Vec::new();
        let mut rest = text.trim();
        while !rest.is_empty() {
            if let Some(inner) = rest.strip_prefix('{') {
                let (name, behind) = inner.split_once('}').ok_or("a brace is not closed")?;
                let (name, form) = name.split_once(':').unwrap_or((name, ""));
                let what = if name.is_empty() { None } else { Some(named(name)?) };
                if matches!(parts.last(), Some(Part::Named(_))) {
                    return Err(format!("nothing stands between `{{{name}}}` and the part before it"));
                }
                if what.is_some() && parts.contains(&Part::Named(what)) {
                    return Err(format!("`{{{name}}}` stands there twice"));
                }
                set_form(what, form, forms)?;
                parts.push(Part::Named(what));
                rest = behind;
                continue;
            }
            let trimmed = rest.trim_start();
            if trimmed.len() < rest.len() {
                parts.push(Part::Blank);
                rest = trimmed;
                continue;
            }
            let end = rest.find(|c: char| c == '{' || c.is_whitespace()).unwrap_or(rest.len());
            parts.push(Part::Text(rest[..end].to_owned()));
            rest = &rest[end..];
        }
        if !parts.contains(&Part::Named(Some(CellKind::Bytes))) {
            return Err("it has no {bytes}".to_owned());
        }
        Ok(Self { parts })
    }

    /// Finds the parts of a line.
    ///
    /// # Errors
    /// Where it does not fit.
    pub fn find(&self, line: &str, cells: &mut Cells) -> Result<(), String> {
        let mut rest = line.trim();
        let mut parts = self.parts.iter().peekable();
        while let Some(part) = parts.next() {
            match part {
                Part::Text(text) => {
                    rest = rest.strip_prefix(text.as_str()).ok_or_else(|| format!("`{text}` does not stand there"))?;
                }
                Part::Blank => {
                    let trimmed = rest.trim_start();
                    if trimmed.len() == rest.len() && !rest.is_empty() {
                        return Err("a blank does not stand there".to_owned());
                    }
                    rest = trimmed;
                }
                Part::Named(what) => {
                    let end = match parts.peek() {
                        None | Some(Part::Named(_)) => rest.len(),
                        Some(Part::Text(text)) => {
                            rest.find(text.as_str()).ok_or_else(|| format!("`{text}` does not stand there"))?
                        }
                        Some(Part::Blank) => blank(rest, *what).unwrap_or(rest.len()),
                    };
                    if let Some(what) = what {
                        cells.take(*what, &rest[..end])?;
                    }
                    rest = &rest[end..];
                }
            }
        }
        if rest.is_empty() { Ok(()) } else { Err("there is more in the line than in the pattern".to_owned()) }
    }
}

/// Where the blank stands that ends a part: one between a date and a time of day is a part of both.
fn blank(text: &str, what: Option<CellKind>) -> Option<usize> {
    let first = text.find(char::is_whitespace)?;
    let is_date =
        what == Some(CellKind::Time) && text[..first].matches('-').count() == 2 && !text[..first].contains(':');
    if !is_date {
        return Some(first);
    }
    let behind = text[first..].trim_start();
    let skipped = text.len() - behind.len();
    Some(behind.find(char::is_whitespace).map_or(text.len(), |end| skipped + end))
}

/// What a name stands for.
pub(super) fn named(name: &str) -> Result<CellKind, String> {
    CellKind::named(name).ok_or_else(|| {
        let names: Vec<&str> = CellKind::ALL.iter().map(|(name, _)| *name).collect();
        let name = emberwort_model::diagnostics::escaped(name);
        format!("nothing is called `{name}`; there are {}", names.join(", "))
    })
}

fn set_form(what: Option<CellKind>, form: &str, forms: &mut Forms) -> Result<(), String> {
    match (what, form) {
        (_, "") | (Some(CellKind::Bytes), "hex") | (Some(CellKind::Time), "s") => {}
        (Some(CellKind::Bytes), "base64") => forms.bytes = BytesForm::Base64,
        (Some(CellKind::CanId), "hex") => forms.hex_ids = true,
        (Some(CellKind::Time), "ms") => forms.time = TimeForm::Milliseconds,
        (Some(CellKind::Time), "us") => forms.time = TimeForm::Microseconds,
        (Some(CellKind::Time), "ns") => forms.time = TimeForm::Nanoseconds,
        (_, form) => {
            let form = emberwort_model::diagnostics::escaped(form);
            return Err(format!(
                "there is no form `{form}` of it; bytes are hex or base64, can_id is hex, time is s, ms, us or ns"
            ));
        }
    }
    Ok(())
}

/// How lines of a CAN log are often written.
const CAN_LOGS: [&str; 5] = [
    "({time}) {} {can_id:hex}#{bytes}",
    "{} {can_id:hex}#{bytes}",
    "{can_id:hex}#{bytes}",
    "({time}) {} {can_id:hex} [{}] {bytes}",
    "{} {can_id:hex} [{}] {bytes}",
];

/// The pattern by which the first line of a file can be read, if it looks like that of a CAN log.
pub fn can_log(first: &[u8]) -> Option<&'static str> {
    let text = String::from_utf8_lossy(first);
    let line = text.lines().map(str::trim).find(|line| !line.is_empty())?;
    let reads = |text: &&str| {
        let mut forms = Forms::default();
        let Ok(pattern) = Pattern::parse(text, &mut forms) else { return false };
        let mut cells = Cells::new(forms);
        pattern.find(line, &mut cells).is_ok() && cells.record().is_ok_and(|record| record.key.is_some())
    };
    CAN_LOGS.into_iter().find(reads)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_can_logs_are_known() {
        let cases = [
            ("\n(1700000000.100000) can0 123#0102\n(1700", Some(CAN_LOGS[0])),
            ("can0 1FFFFFFF#01", Some(CAN_LOGS[1])),
            ("123#DEADBEEF", Some(CAN_LOGS[2])),
            ("(12.5) can1  7FF   [2]  01 02", Some(CAN_LOGS[3])),
            ("can1  7FF   [2]  01 02", Some(CAN_LOGS[4])),
            ("C6 39 03 40", None),
            ("12:00:01 node #3 is up", None),
            ("\u{fffd}\0", None),
            ("", None),
        ];
        for (line, pattern) in cases {
            assert_eq!(can_log(line.as_bytes()), pattern, "{line}");
        }
    }

    /// Time, key and bytes.
    type Said = (Option<u64>, Option<u64>, Vec<u8>);

    fn found(pattern: &str, line: &str) -> Result<Said, String> {
        let mut forms = Forms::default();
        let pattern = Pattern::parse(pattern, &mut forms)?;
        let mut cells = Cells::new(forms);
        pattern.find(line, &mut cells)?;
        let record = cells.record()?;
        Ok((record.time.map(|time| time.nanoseconds()), record.key, record.bytes.to_vec()))
    }

    #[test]
    fn parts_are_found_between_what_is_known() {
        let extended = 1 << 31;
        for (pattern, line, expected) in [
            ("{time} {can_id:hex} {bytes}", "12.5   123  0A0B", (Some(12_500_000_000), Some(0x123), vec![10, 11])),
            (
                "({time}) {} {can_id:hex}#{bytes}",
                "(1.25) can0 18FF50E5#",
                (Some(1_250_000_000), Some(0x18FF_50E5 | extended), vec![]),
            ),
            ("{time:ms} > {bytes}", "1500 > 01 02", (Some(1_500_000_000), None, vec![1, 2])),
            ("{time} RX {bytes}", "1970-01-01 00:00:02 RX ff", (Some(2_000_000_000), None, vec![255])),
            ("p={port} {bytes:base64}", "p=7 AQI=", (None, Some(7), vec![1, 2])),
            ("{bytes}", "C6 39", (None, None, vec![0xC6, 0x39])),
        ] {
            assert_eq!(found(pattern, line), Ok(expected), "{pattern}");
        }
    }

    #[test]
    fn what_does_not_fit_is_said() {
        for (pattern, line, said) in [
            ("{time} RX {bytes}", "1.5 TX 00", "`RX` does not stand there"),
            ("{bytes}", "C6 3", "`C6 3` is not bytes in hex"),
            ("{time} {bytes}", "noon 00", "`noon` is not a time"),
            ("{bytes} end", "00 end more", "there is more in the line than in the pattern"),
            ("{time}", "", "it has no {bytes}"),
            ("{time}{bytes}", "", "nothing stands between"),
            ("{bytes} {bytes}", "", "stands there twice"),
            ("{byte}", "", "nothing is called `byte`"),
            ("{bytes", "", "a brace is not closed"),
            ("{bytes:octal}", "", "there is no form `octal` of it"),
        ] {
            let error = found(pattern, line).unwrap_err();
            assert!(error.contains(said), "{pattern} {line}: {error}");
        }
    }
}
