//! Tables of samples: a line for each moment, a column for each signal, with or without a column of times.

use std::io::{self, BufRead as _, BufReader, Read};
use std::ops::ControlFlow;

use crate::wave::{Damage, Moment, Outcome, Signal, Value, WaveSink};

/// The longest line that is read.
const MAX_LINE: usize = 1 << 16;

/// So many lines at most may stand in front of the samples.
const MAX_PREAMBLE: usize = 1000;

/// What was found in front of the samples.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Found {
    /// Lines in front of the samples and their heading, which say nothing here.
    pub preamble: usize,
    /// Whether a heading was found.
    pub has_heading: bool,
    /// Lines that hold no sample, between and behind those that do: the first, counted from 1, and how many.
    pub skipped: Option<(u64, u64)>,
}

/// Reads a table to its end, or until the sink has enough.
///
/// Columns are separated by comma, semicolon or tab; where it is not the comma, numbers may have a decimal comma. Signals are called as their
/// columns, or `0`, `1`, … without a heading. The first column is the time in seconds (or in ms, us, ns, ps, if its heading says so), unless a
/// `rate` in samples a second says that there is none.
///
/// `columns` says which columns are taken, and as what: a name, and the column by its heading or by number from 0. The one called `time` holds
/// the times.
///
/// # Errors
/// Those of the reader.
pub fn read(
    input: impl Read,
    rate: Option<u64>,
    columns: &[(String, String)],
    sink: &mut dyn WaveSink,
) -> io::Result<(Outcome, Found)> {
    let mut input = BufReader::with_capacity(1 << 16, input);
    let mut found = Found::default();
    let (mut bytes, mut number) = (0u64, 0u64);
    let mut table: Option<Table> = None;
    let mut heading: Option<String> = None;
    let mut line = Vec::new();
    let mut last: Vec<Option<f64>> = Vec::new();
    let mut now = Moment::default();
    let mut is_buffered = false;
    let damaged = |offset: u64, reason: String| Outcome { bytes: offset, damage: Some(Damage { offset, reason }) };
    loop {
        line.clear();
        if !is_buffered {
            sink.pause();
        }
        let read = io::Read::take(&mut input, MAX_LINE as u64 + 1).read_until(b'\n', &mut line)?;
        // What lies there without an end of line is read when more of it comes.
        is_buffered = line.ends_with(b"\n") && input.buffer().contains(&b'\n');
        if read == 0 {
            break;
        }
        number += 1;
        if read > MAX_LINE {
            return Ok((damaged(bytes, "a line is longer than a sample can be".to_owned()), found));
        }
        let text = String::from_utf8_lossy(&line);
        let text = text.trim_start_matches('\u{FEFF}').trim_end_matches(['\r', '\n']).to_owned();
        let offset = bytes;
        bytes += read as u64;
        if table.is_none() {
            match Table::of(&text, heading.as_deref(), rate).map(|made| made.with(columns)) {
                Some(Err(reason)) => return Ok((damaged(0, reason), found)),
                Some(Ok(made)) => {
                    found.preamble -= usize::from(made.has_heading).min(found.preamble);
                    found.has_heading = made.has_heading;
                    let flow = sink.signals(&made.signals);
                    last = vec![None; made.signals.len()];
                    table = Some(made);
                    if flow.is_break() {
                        return Ok((Outcome { bytes, damage: None }, found));
                    }
                }
                None => {
                    found.preamble += 1;
                    if found.preamble > MAX_PREAMBLE {
                        return Ok((
                            damaged(0, format!("there is no sample in the first {MAX_PREAMBLE} lines")),
                            found,
                        ));
                    }
                    if !text.trim().is_empty() {
                        heading = Some(text);
                    }
                    continue;
                }
            }
        }
        let Some(table) = &mut table else { continue };
        let Some((at, values)) = table.sample(&text) else {
            if !text.trim().is_empty() {
                let (first, count) = found.skipped.unwrap_or((number, 0));
                found.skipped = Some((first, count + 1));
            }
            continue;
        };
        let Some(at) = at.filter(|at| *at >= now) else {
            return Ok((damaged(offset, format!("time goes back in line {number}")), found));
        };
        now = at;
        if sink.until(now).is_break() {
            return Ok((Outcome { bytes, damage: None }, found));
        }
        for (signal, (value, last)) in values.iter().zip(&mut last).enumerate() {
            if value.is_some() && *value != *last {
                *last = *value;
                if sink.value(now, signal, Value::Number(value.unwrap_or_default())).is_break() {
                    return Ok((Outcome { bytes, damage: None }, found));
                }
            }
        }
    }
    if table.is_none() {
        let reason = "this is neither a value change dump nor a table of samples: no line holds numbers in columns";
        return Ok((damaged(0, reason.to_owned()), Found::default()));
    }
    let _: ControlFlow<()> = sink.until(now);
    Ok((Outcome { bytes, damage: None }, found))
}

/// How the lines of a table are read.
struct Table {
    separator: char,
    has_heading: bool,
    signals: Vec<Signal>,
    /// Seconds of the unit of the times, if there is a column of them; else samples a second.
    times: Result<f64, u64>,
    /// The first time, which is the beginning.
    begins: Option<f64>,
    samples: u64,
    columns: usize,
    /// The column of the times, and those of the signals.
    time_column: usize,
    picked: Vec<usize>,
    titles: Vec<String>,
}

/// A number, maybe with a decimal comma.
fn number(cell: &str, separator: char) -> Option<f64> {
    let cell = cell.trim().trim_matches('"').trim();
    let value = match separator {
        ',' => cell.parse().ok(),
        _ => cell.replace(',', ".").parse().ok(),
    };
    value.filter(|value: &f64| value.is_finite())
}

impl Table {
    /// If a line is a sample: what its columns are.
    fn of(line: &str, heading: Option<&str>, rate: Option<u64>) -> Option<Self> {
        let least = if rate.is_some() { 1 } else { 2 };
        let separator = ['\t', ';', ','].into_iter().find(|separator| {
            let cells: Vec<&str> = line.split(*separator).collect();
            cells.len() >= least.max(2)
                && cells.iter().filter(|cell| number(cell, *separator).is_some()).count() >= least
                && cells.iter().all(|cell| cell.trim().is_empty() || number(cell, *separator).is_some())
        });
        let separator = match separator {
            Some(separator) => separator,
            None if rate.is_some() && number(line, ';').is_some() => ';',
            None => return None,
        };
        let columns = line.split(separator).count();
        let titles: Option<Vec<String>> = heading.and_then(|heading| {
            let cells: Vec<&str> = heading.split(separator).map(|cell| cell.trim().trim_matches('"').trim()).collect();
            // It may name columns that have nothing in them.
            let fits = cells.len() >= columns && cells.iter().all(|cell| number(cell, separator).is_none());
            fits.then(|| cells.into_iter().take(columns).map(str::to_owned).collect())
        });
        let has_heading = titles.is_some();
        let mut titles = titles.unwrap_or_else(|| (0..columns).map(|column| column.to_string()).collect());
        // A separator at the end of each line makes no column.
        if line.ends_with(separator) {
            titles.pop();
        }
        let times = match rate {
            Some(rate) => Err(rate),
            None => Ok(unit_of(&titles[0])),
        };
        let picked: Vec<usize> = (usize::from(rate.is_none())..titles.len()).collect();
        let signal = |column: &usize| Signal { name: titles[*column].clone(), is_analog: true };
        let signals = picked.iter().map(signal).collect();
        let (begins, samples, time_column) = (None, 0, 0);
        Some(Self { separator, has_heading, signals, times, begins, samples, columns, time_column, picked, titles })
    }

    /// With the columns that somebody says, if he does.
    fn with(mut self, columns: &[(String, String)]) -> Result<Self, String> {
        if columns.is_empty() {
            return Ok(self);
        }
        (self.picked, self.signals) = (Vec::new(), Vec::new());
        for (name, column) in columns {
            let by_title = self.titles.iter().position(|title| title == column);
            let found = by_title.or_else(|| column.parse().ok().filter(|column| *column < self.titles.len()));
            let Some(found) = found else {
                return Err(format!("there is no column `{column}`; the table has {}", self.titles.join(", ")));
            };
            if name == "time" {
                if let Ok(unit) = &mut self.times {
                    *unit = unit_of(&self.titles[found]);
                }
                self.time_column = found;
            } else {
                self.picked.push(found);
                self.signals.push(Signal { name: name.clone(), is_analog: true });
            }
        }
        Ok(self)
    }

    /// When a sample was taken, and what it holds.
    fn sample(&mut self, line: &str) -> Option<(Option<Moment>, Vec<Option<f64>>)> {
        let cells: Vec<Option<f64>> = line.split(self.separator).map(|cell| number(cell, self.separator)).collect();
        if cells.len() != self.columns {
            return None;
        }
        let picoseconds = |picoseconds: f64| {
            ((0.0..1.8e19).contains(&picoseconds)).then(|| Moment::from_picoseconds(picoseconds.round() as u64))
        };
        match self.times {
            Ok(unit) => {
                let time = cells[self.time_column]?;
                let begins = *self.begins.get_or_insert(time);
                let values = self.picked.iter().map(|column| cells[*column]).collect();
                Some((picoseconds((time - begins) * unit * 1e12), values))
            }
            Err(rate) => {
                cells[*self.picked.first()?]?;
                let at = picoseconds(self.samples as f64 * 1e12 / rate as f64);
                self.samples += 1;
                Some((at, self.picked.iter().map(|column| cells[*column]).collect()))
            }
        }
    }
}

/// Seconds of the unit that the heading of a column of times says; 1, if it says none.
fn unit_of(title: &str) -> f64 {
    let words: Vec<&str> = title.split(|c: char| !c.is_alphanumeric() && c != 'µ').collect();
    let units = [("ms", 1e-3), ("us", 1e-6), ("µs", 1e-6), ("ns", 1e-9), ("ps", 1e-12)];
    units.into_iter().find(|(unit, _)| words.contains(unit)).map_or(1.0, |(_, seconds)| seconds)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Default)]
    struct Log {
        names: Vec<String>,
        values: Vec<(u64, usize, f64)>,
        end: u64,
    }

    impl WaveSink for Log {
        fn signals(&mut self, signals: &[Signal]) -> ControlFlow<()> {
            self.names = signals.iter().map(|signal| signal.name.clone()).collect();
            ControlFlow::Continue(())
        }

        fn value(&mut self, at: Moment, signal: usize, value: Value) -> ControlFlow<()> {
            let Value::Number(number) = value else { panic!("{value:?}") };
            self.values.push((at.picoseconds(), signal, number));
            ControlFlow::Continue(())
        }

        fn until(&mut self, at: Moment) -> ControlFlow<()> {
            self.end = at.picoseconds();
            ControlFlow::Continue(())
        }
    }

    fn log(text: &str, rate: Option<u64>) -> (Log, Outcome, Found) {
        let mut log = Log::default();
        let (outcome, found) = read(text.as_bytes(), rate, &[], &mut log).unwrap();
        (log, outcome, found)
    }

    #[test]
    fn tables_of_many_forms_are_read() {
        let expected = vec![(0, 0, 0.1), (0, 1, 3.3), (500_000, 0, 3.2)];
        for text in [
            "Model,X1\nSerial,17\n\nTime,CH1,CH2\n-1e-6,0.1,3.3\n-5e-7,3.2,3.3\n",
            "\u{FEFF}t (us);CH1;CH2\r\n0;0,1;3,3\r\n0,5;3,2;3,3\r\n",
            "\"time [ns]\"\t\"CH1\"\t\"CH2\"\n100\t0.1\t3.3\n600\t3.2\t3.3\n",
            "Time,CH1,CH2,\n0,0.1,3.3,\n5e-7,3.2,3.3,\n",
        ] {
            let (log, outcome, _) = log(text, None);
            assert_eq!((log.names, log.values), (vec!["CH1".to_owned(), "CH2".to_owned()], expected.clone()), "{text}");
            assert_eq!((outcome.bytes, outcome.damage, log.end), (text.len() as u64, None, 500_000), "{text}");
        }
        let (alone, ..) = log("1\n1\n0\n", Some(1_000_000));
        assert_eq!(alone.values, [(0, 0, 1.0), (2_000_000, 0, 0.0)]);
        assert_eq!(log("a preamble\nTime,CH1\n0,1\n", None).2, Found { preamble: 1, has_heading: true, skipped: None });
        assert!(!log("0,1\n1,2\n", None).2.has_heading);
    }

    #[test]
    fn columns_are_taken_as_somebody_says() {
        let text = "a,Time [us],b\n5,0,1\n6,1,2\n";
        let columns = [("time", "Time [us]"), ("rx", "2"), ("tx", "a")].map(|(a, b)| (a.to_owned(), b.to_owned()));
        let mut log = Log::default();
        read(text.as_bytes(), None, &columns, &mut log).unwrap();
        assert_eq!(log.names, ["rx", "tx"]);
        assert_eq!(log.values, [(0, 0, 1.0), (0, 1, 5.0), (1_000_000, 0, 2.0), (1_000_000, 1, 6.0)]);
        let (outcome, _) = read(text.as_bytes(), None, &[("rx".to_owned(), "c".to_owned())], &mut log).unwrap();
        assert_eq!(outcome.damage.unwrap().reason, "there is no column `c`; the table has a, Time [us], b");
    }

    #[test]
    fn what_is_no_sample_is_counted_and_damage_said() {
        let (_, outcome, found) = log("Time,CH1\n0,1\nend of block\n1,0\n", None);
        assert_eq!((outcome.damage, found.skipped), (None, Some((3, 1))));
        assert_eq!(log("Time,CH1\n1,1\n0,0\n", None).1.damage.unwrap().reason, "time goes back in line 3");
        assert!(log("hello\n", None).1.damage.unwrap().reason.starts_with("this is neither"));
    }
}
