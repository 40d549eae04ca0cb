//! Where in a trial file something stands that is named by a path of keys: `device 1.signals.GateStatus.oil`.

use std::ops::Range;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// The byte offsets of what a path names, or of the deepest part of it that stands in the file.
pub(super) fn of(text: &str, path: &str) -> Option<Range<usize>> {
    let table = DeTable::parse(text).ok()?;
    let mut here: Option<Range<usize>> = None;
    let mut inside: &DeTable<'_> = table.get_ref();
    let mut segments = path.split('.').peekable();
    while let Some(segment) = segments.next() {
        // `device 2` is the second of a list.
        let (name, number) = match segment.rsplit_once(' ') {
            Some((name, number)) => (name, number.parse::<usize>().ok()?.checked_sub(1)),
            None => (segment, None),
        };
        let Some((key, value)) = inside.iter().find(|(key, _)| key.get_ref() == name) else { return here };
        let value: &Spanned<DeValue<'_>> = match (number, value.get_ref()) {
            (Some(number), DeValue::Array(list)) => list.get(number)?,
            _ => value,
        };
        here = Some(if segments.peek().is_none() && number.is_none() {
            key.span().start..value.span().end
        } else {
            value.span()
        });
        match value.get_ref() {
            DeValue::Table(table) => inside = table,
            _ => return here,
        }
    }
    here
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_leads_to_its_place() {
        let text = "span = \"3 s\"\nmust = [\"one\", \"two\"]\n[[device]]\nnode = 1\n[[device]]\nnode = 2\n\n[device.signals.Report]\nlevel = { sine = 3 }\n";
        for (path, found) in [
            ("span", "span = \"3 s\""),
            ("must 2", "\"two\""),
            ("device 2.node", "node = 2"),
            ("device 2.signals.Report.level", "level = { sine = 3 }"),
            ("device 2.signals.Report.level.sine", "sine = 3"),
        ] {
            let place = of(text, path).unwrap_or_else(|| panic!("{path} has no place"));
            assert_eq!(&text[place], found, "{path}");
        }
        // What is missing is missing somewhere.
        assert!(of(text, "device 1.first_report").is_some());
        assert_eq!(of(text, "wire.delay"), None);
        assert_eq!(of(text, "device 9"), None);
    }
}
