//! A shorter trial that fails in the same way.

use toml::{Table, Value};

/// A trial file that was made shorter.
#[derive(Clone, Debug, PartialEq)]
pub struct Minimised {
    /// Its text.
    pub text: String,
    /// How many trials were run for it.
    pub runs: u32,
}

/// The most trials that are run to make one shorter.
const MAX_RUNS: u32 = 400;

/// How a shorter span is written, in milliseconds.
fn span_text(milliseconds: u64) -> Value {
    Value::String(format!("{milliseconds} ms"))
}

struct Search<'f> {
    fails: &'f mut dyn FnMut(&str) -> bool,
    runs: u32,
}

impl Search<'_> {
    /// Whether a trial still fails; what cannot be asked any more counts as no.
    fn fails(&mut self, table: &Table) -> bool {
        if self.runs >= MAX_RUNS {
            return false;
        }
        self.runs += 1;
        toml::to_string(table).is_ok_and(|text| (self.fails)(&text))
    }

    /// The shortest span, in steps of a millisecond, with which it fails.
    fn shorten(&mut self, table: &mut Table, span: u64) {
        let (mut passes, mut fails) = (0, span);
        while fails - passes > 1.max(fails / 1_000) {
            let middle = passes + (fails - passes) / 2;
            let mut shorter = table.clone();
            shorter.insert("span".into(), span_text(middle));
            if self.fails(&shorter) {
                *table = shorter;
                fails = middle;
            } else {
                passes = middle;
            }
        }
    }

    /// Leaves out whatever is not needed, from the outside to the inside. `path` leads to the table that is looked at.
    fn thin(&mut self, whole: &mut Table, path: &[Step]) {
        let Some(here) = at(whole, path) else { return };
        let mut parts: Vec<Step> = match here {
            Value::Table(table) => table.keys().map(|key| Step::Key(key.clone())).collect(),
            // The last first, so that numbers stay.
            Value::Array(list) => (0..list.len()).rev().map(Step::Index).collect(),
            _ => return,
        };
        parts.retain(|part| !matches!(part, Step::Key(key) if KEPT.contains(&key.as_str()) && path.is_empty()));
        for part in parts {
            let mut inner = path.to_vec();
            inner.push(part);
            let mut without = whole.clone();
            remove(&mut without, &inner);
            if self.fails(&without) {
                *whole = without;
            } else {
                self.thin(whole, &inner);
            }
        }
    }
}

/// What a trial cannot be without, or what only says what it is.
const KEPT: [&str; 4] = ["channel", "span", "seed", "starts"];

#[derive(Clone, Debug)]
enum Step {
    Key(String),
    Index(usize),
}

fn at(table: &Table, path: &[Step]) -> Option<Value> {
    let mut here: Value = Value::Table(table.clone());
    for step in path {
        here = match (step, here) {
            (Step::Key(key), Value::Table(table)) => table.get(key)?.clone(),
            (Step::Index(index), Value::Array(list)) => list.get(*index)?.clone(),
            _ => return None,
        };
    }
    Some(here)
}

fn remove(table: &mut Table, path: &[Step]) {
    let Some((last, before)) = path.split_last() else { return };
    let Some((Step::Key(first), rest)) = before.split_first() else {
        if let Step::Key(key) = last {
            table.remove(key);
        }
        return;
    };
    let Some(mut here) = table.get_mut(first) else { return };
    for step in rest {
        let next = match (step, here) {
            (Step::Key(key), Value::Table(table)) => table.get_mut(key),
            (Step::Index(index), Value::Array(list)) => list.get_mut(*index),
            _ => None,
        };
        let Some(next) = next else { return };
        here = next;
    }
    match (last, here) {
        (Step::Key(key), Value::Table(table)) => {
            table.remove(key);
        }
        (Step::Index(index), Value::Array(list)) if *index < list.len() => {
            list.remove(*index);
        }
        _ => {}
    }
}

/// Makes a trial shorter as long as `fails` says that it fails as before. `span` is its span in milliseconds.
///
/// # Errors
/// If the text is not TOML.
pub fn minimise(text: &str, span: u64, fails: &mut dyn FnMut(&str) -> bool) -> Result<Minimised, toml::de::Error> {
    let mut table: Table = text.parse()?;
    let mut search = Search { fails, runs: 0 };
    search.shorten(&mut table, span);
    search.thin(&mut table, &[]);
    let runs = search.runs;
    let text = toml::to_string(&table).unwrap_or_else(|_| text.to_owned());
    Ok(Minimised { text, runs })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_is_needed_stays() {
        let text = "channel = \"bus\"\nspan = \"60 s\"\nmust = [\"a\", \"b\", \"c\"]\n\
                    [[device]]\nnode = 1\nspeed = 4\n[[device]]\nnode = 2\n[wire]\ndelay = \"1 ms\"\nbit_errors = 0.1\n";
        // It fails if `b` must hold, the wire has bit errors, and device 2 is there for at least 12.345 s.
        let mut fails = |text: &str| {
            let table: Table = text.parse().unwrap();
            let span: f64 =
                table["span"].as_str().unwrap().trim_end_matches(" ms").trim_end_matches(" s").parse().unwrap();
            let span = if text.contains("60 s") { 60_000.0 } else { span };
            span >= 12_345.0
                && text.contains("\"b\"")
                && text.contains("node = 2")
                && table.get("wire").and_then(|wire| wire.get("bit_errors")).is_some()
        };
        let found = minimise(text, 60_000, &mut fails).unwrap();
        let table: Table = found.text.parse().unwrap();
        assert_eq!(table["must"].as_array().unwrap().len(), 1);
        assert_eq!(table["device"].as_array().unwrap().len(), 1);
        assert_eq!(table["wire"].as_table().unwrap().len(), 1);
        let span: u64 = table["span"].as_str().unwrap().trim_end_matches(" ms").parse().unwrap();
        assert!((12_345..12_400).contains(&span), "{span}");
        assert!(found.runs < 60, "{}", found.runs);
    }
}
