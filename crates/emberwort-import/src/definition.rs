//! From a CAN database to the text of a definition: a channel, and a message for each of the database.

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;

use emberwort_model::counting::plural;
use emberwort_model::tidy::tidy;

use crate::database::{Database, Message, Signal, SignalForm, Skipped};
use crate::names::{UsedNames, lower, upper};
use crate::placing::{Occupied, bits, bytes};

/// What the database does not say.
#[derive(Clone, Debug)]
pub struct Options<'a> {
    /// The name of the channel.
    pub channel: &'a str,
    /// The medium of the channel; that of the database's bit rate, or 500 kbit/s, without.
    pub medium: Option<&'a str>,
    /// The nodes that are the host; all others are devices.
    pub hosts: &'a [String],
    /// What is said in front of all, as comments.
    pub heading: &'a str,
}

/// A definition, and what became of the database in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Imported {
    /// The items, in canonical style.
    pub text: String,
    /// Names that could not be kept apart from the style: what they were and are, and of what.
    pub renamed: Vec<(String, String, String)>,
    /// What is not in the definition.
    pub left_out: Vec<Skipped>,
    /// Messages in it.
    pub messages: usize,
    /// Signals in it.
    pub signals: usize,
}

/// So many values of a multiplexor can be told apart.
const MAX_FORMS: usize = 512;

/// The definition of a database.
pub fn definition(database: &Database, options: &Options<'_>) -> Imported {
    let mut writer = Writer { left_out: database.skipped.clone(), ..Writer::default() };
    let needs_fd = database.messages.iter().any(|message| message.size > 8);
    let bitrate = database.bitrate.unwrap_or(500_000);
    let speed =
        if bitrate.is_multiple_of(1000) { format!("{} kbit/s", bitrate / 1000) } else { format!("{bitrate} bit/s") };
    let usual = format!("can {speed}{}", if needs_fd { " fd 2 Mbit/s" } else { "" });
    let channel = lower(options.channel, "bus");
    let mut text = String::new();
    for line in options.heading.lines() {
        let _ = writeln!(text, "# {line}");
    }
    text.push('\n');
    documented(&mut text, database.comment.as_deref().unwrap_or(""));
    let medium = options.medium.unwrap_or(&usual);
    let _ = writeln!(text, "channel {channel} {{\n    medium {medium}\n    packet\n    select by can_id\n}}");
    let mut ids = BTreeSet::new();
    for message in &database.messages {
        let why = match message.id {
            id if !message.is_extended && id > 0x7FF => {
                Some(format!("0x{id:X} has more than 11 bits, and nothing says 29"))
            }
            id if !ids.insert((id, message.is_extended)) => {
                Some(format!("0x{id:X} is the identifier of another one, too"))
            }
            _ => None,
        };
        match why {
            Some(why) => writer.leave_out(message.line, format!("the message `{}`", message.name), why),
            None => writer.message(message, &channel, options),
        }
    }
    for item in &writer.items {
        text.push('\n');
        text.push_str(item);
    }
    // What is written here has the form of a definition; if it had not, its author would like to see it.
    let text = tidy(&text).unwrap_or(text);
    let Writer { renamed, mut left_out, messages, signals, .. } = writer;
    left_out.sort_by_key(|left| left.line);
    Imported { text, renamed, left_out, messages, signals }
}

#[derive(Default)]
struct Writer {
    /// Items of the definition, those that others need first.
    items: Vec<String>,
    /// Names of items that are taken.
    taken: UsedNames,
    /// Enums by their bits and labels.
    enums: BTreeMap<(usize, Vec<(i64, String)>), String>,
    renamed: Vec<(String, String, String)>,
    left_out: Vec<Skipped>,
    /// Lines of signals that are in the definition.
    placed: BTreeSet<usize>,
    messages: usize,
    signals: usize,
}

/// A text as documentation of what follows.
fn documented(out: &mut String, text: &str) {
    for line in text.lines().map(str::trim).filter(|line| !line.is_empty()) {
        let _ = writeln!(out, "## {}", clean(line));
    }
}

/// A text without control characters.
fn clean(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}

/// A text in quotes.
fn quoted(text: &str) -> String {
    format!("\"{}\"", clean(text).replace('\\', "\\\\").replace('"', "\\\""))
}

/// A unit: as it is if nobody could take it for something else.
fn unit(text: &str) -> String {
    const PLAIN: [&str; 24] = [
        "%", "V", "mV", "kV", "A", "mA", "W", "kW", "Nm", "N", "kN", "rpm", "km/h", "m/s", "m", "mm", "km", "s", "ms",
        "bar", "mbar", "kPa", "Hz", "degC",
    ];
    match clean(text.trim()) {
        text if text.is_empty() => String::new(),
        text if PLAIN.contains(&text.as_str()) => format!(" {text}"),
        text => format!(" {}", quoted(&text)),
    }
}

impl Writer {
    fn leave_out(&mut self, line: usize, what: impl Into<String>, why: impl Into<String>) {
        self.left_out.push(Skipped { line, item: what.into(), reason: why.into(), is_about_bytes: true });
    }

    /// A name in its style; one that is another for a better reason than its style is said.
    fn name(&mut self, taken: Option<&mut UsedNames>, name: &str, styled: String, of: &str) -> String {
        let bare =
            |text: &str| text.chars().filter(char::is_ascii_alphanumeric).collect::<String>().to_ascii_lowercase();
        let (free, was_taken) = match taken {
            Some(taken) => taken.take(styled),
            None => self.taken.take(styled),
        };
        if was_taken || bare(&free) != bare(name) || !name.is_ascii() {
            self.renamed.push((name.to_owned(), free.clone(), of.to_owned()));
        }
        free
    }

    fn message(&mut self, message: &Message, channel: &str, options: &Options<'_>) {
        let name = self.name(None, &message.name, upper(&message.name, "Message"), "a message");
        if message.size > 64 {
            let why = format!("{} bytes are more than a frame carries", message.size);
            return self.leave_out(message.line, format!("the message `{}`", message.name), why);
        }
        let mut text = String::new();
        documented(&mut text, message.comment.as_deref().unwrap_or(""));
        if !message.senders.is_empty() {
            documented(&mut text, &format!("Sent by {}.", message.senders.join(", ")));
        }
        let is_of_host = message.senders.iter().any(|sender| options.hosts.contains(sender));
        let from = if is_of_host { "host" } else { "device" };
        let every = match message.cycle {
            Some(cycle) if (0.001..=3.6e9).contains(&cycle) => format!(" every {} us", (cycle * 1000.0).round()),
            _ => String::new(),
        };
        let every = every.strip_suffix("000 us").map_or(every.clone(), |whole| format!("{whole} ms"));
        let extended = if message.is_extended { " extended" } else { "" };
        let digits = if message.is_extended { 8 } else { 3 };
        let _ = writeln!(
            text,
            "message {name} {{\n    from {from}{every}\n    on {channel} can_id 0x{:0digits$X}{extended}\n",
            message.id
        );
        let signals: Vec<&Signal> = message.signals.iter().filter(|signal| self.fits(signal, message)).collect();
        let (present, others): (Vec<&Signal>, Vec<&Signal>) =
            signals.into_iter().partition(|signal| signal.multiplexed.is_none());
        let fields = self.section(message, &name, (present, others), (0, None));
        text.push_str(&fields);
        text.push_str("}\n");
        self.items.push(text);
        self.messages += 1;
        // What no section placed was said where that became clear; what nothing can select was not.
        for signal in &message.signals {
            if self.placed.contains(&signal.line) {
                self.signals += 1;
            } else if !self.left_out.iter().any(|left| left.line == signal.line) {
                self.leave_out(
                    signal.line,
                    format!("the signal `{}`", signal.name),
                    "no multiplexor says when it is there",
                );
            }
        }
    }

    /// Whether a signal lies in its frame, and has a form that numbers can have.
    fn fits(&mut self, signal: &Signal, message: &Message) -> bool {
        let why = match (signal.form, signal.bits) {
            (_, 0) => Some("it has no bits".to_owned()),
            (SignalForm::Float, bits) if bits != 32 && bits != 64 => Some(format!("a float of {bits} bits is none")),
            (SignalForm::Float, _) if signal.start % 8 != if signal.is_big_endian { 7 } else { 0 } => {
                Some("a float begins with a byte".to_owned())
            }
            (_, bits) if bits > 64 => Some(format!("{bits} bits are more than the 64 of a number")),
            _ => match bits(signal) {
                Some(bits) if bytes(&bits).1 < message.size => None,
                _ => Some(format!("it reaches beyond the {} of its message", plural(message.size, "byte"))),
            },
        };
        let fits = why.is_none();
        if let Some(why) = why {
            self.leave_out(signal.line, format!("the signal `{}`", signal.name), why);
        }
        fits
    }

    /// The fields of a message, or of a record that begins at a byte of it: those that are there, and those that others select. `root` is the
    /// multiplexor that selected this record.
    fn section(
        &mut self,
        message: &Message,
        owner: &str,
        (present, others): (Vec<&Signal>, Vec<&Signal>),
        (base, root): (usize, Option<&Signal>),
    ) -> String {
        let is_of = |signal: &Signal, by: &Signal| {
            signal.multiplexed.as_ref().is_some_and(|multiplexed| {
                multiplexed.by == by.name || multiplexed.by.is_empty() && by.multiplexed.is_none()
            })
        };
        let not_root = |signal: &&&Signal| root.is_none_or(|root| root.line != signal.line);
        let selecting = present.iter().filter(|signal| signal.is_multiplexor).filter(not_root);
        let mut selecting: Vec<&Signal> =
            selecting.copied().filter(|by| others.iter().any(|signal| is_of(signal, by))).collect();
        selecting.sort_by_key(|by| std::cmp::Reverse(others.iter().filter(|signal| is_of(signal, by)).count()));
        for by in selecting.iter().skip(1) {
            for signal in others.iter().filter(|signal| is_of(signal, by)) {
                let why = format!("`{}` selects other signals in the same place, and only one can", selecting[0].name);
                self.leave_out(signal.line, format!("the signal `{}`", signal.name), why);
            }
        }
        let first_byte = |signal: &Signal| bits(signal).map_or(0, |bits| bytes(&bits).0);
        let last_byte = |signal: &Signal| bits(signal).map_or(0, |bits| bytes(&bits).1);
        let Some(by) = selecting.first().copied() else {
            return self.fields(owner, &present, (base, None), message.size);
        };
        // What it selects, and what that selects: all lies behind it, and begins with a byte.
        let mut selected: Vec<&Signal> = others.iter().copied().filter(|signal| is_of(signal, by)).collect();
        let mut count = 0;
        while count < selected.len() {
            let more: Vec<&Signal> = others
                .iter()
                .copied()
                .filter(|signal| {
                    is_of(signal, selected[count]) && !selected.iter().any(|known| known.line == signal.line)
                })
                .collect();
            selected.extend(more);
            count += 1;
        }
        let mut region = selected.iter().map(|signal| first_byte(signal)).min().unwrap_or(0);
        loop {
            let across = present.iter().filter(|signal| signal.line != by.line && last_byte(signal) >= region);
            let first = across.map(|signal| first_byte(signal)).min().unwrap_or(region);
            if first >= region {
                break;
            }
            region = first;
        }
        if last_byte(by) >= region {
            for signal in &selected {
                let why = format!("it begins in the last byte of `{}`, which selects it", by.name);
                self.leave_out(signal.line, format!("the signal `{}`", signal.name), why);
            }
            return self.fields(owner, &present, (base, None), message.size);
        }
        let (mut here, behind): (Vec<&Signal>, Vec<&Signal>) =
            present.into_iter().partition(|signal| last_byte(signal) < region);
        // Nobody takes its name away from it.
        here.sort_by_key(|signal| signal.line != by.line);
        let mut text = self.fields(owner, &here, (base, Some(by)), region);
        // Values that select the same signals share a record.
        let mut values: BTreeMap<u64, BTreeSet<usize>> = BTreeMap::new();
        for (n, signal) in others.iter().enumerate().filter(|(_, signal)| is_of(signal, by)) {
            for (from, to) in signal.multiplexed.iter().flat_map(|multiplexed| &multiplexed.values) {
                let greatest = if by.bits >= 64 { u64::MAX } else { (1 << by.bits) - 1 };
                if *to > greatest {
                    let why = format!("`{}` has {}, and can never be {to}", by.name, plural(by.bits, "bit"));
                    self.leave_out(signal.line, format!("when `{}` is there", signal.name), why);
                }
                let to = (*to).min(from.saturating_add(MAX_FORMS as u64)).min(greatest);
                for value in *from..=to {
                    values.entry(value).or_default().insert(n);
                }
            }
        }
        if values.len() > MAX_FORMS {
            for signal in &selected {
                let why = format!("`{}` has more than {MAX_FORMS} values that select something", by.name);
                self.leave_out(signal.line, format!("the signal `{}`", signal.name), why);
            }
            return text;
        }
        let by_name = lower(&by.name, "signal");
        let mut records: BTreeMap<BTreeSet<usize>, String> = BTreeMap::new();
        let _ = writeln!(text, "    by_{by_name} : by {by_name} {{");
        let mut labels = UsedNames::default();
        for (value, members) in &values {
            let record = match records.get(members) {
                Some(record) => record.clone(),
                None => {
                    let styled = format!("{owner}{}{value}", upper(&by.name, "Signal"));
                    let (record, _) = self.taken.take(styled);
                    let mut inside: Vec<&Signal> = members.iter().map(|n| others[*n]).collect();
                    inside.extend(&behind);
                    let rest: Vec<&Signal> = others.iter().copied().filter(|signal| !is_of(signal, by)).collect();
                    let fields = self.section(message, &record, (inside, rest), (region, Some(by)));
                    self.items.push(format!("record {record} {{\n{fields}}}\n"));
                    records.insert(members.clone(), record.clone());
                    record
                }
            };
            let known = by.texts.iter().find(|(code, _)| u64::try_from(*code) == Ok(*value));
            let label = known.map_or(format!("{by_name}_{value}"), |(_, text)| lower(text, "value"));
            let (label, _) = labels.take(label);
            let _ = writeln!(text, "        {value} {label} : {record}");
        }
        let (others_label, _) = labels.take("others".to_owned());
        // A record has an end of its own: only a message can go on to that of the frame.
        if behind.is_empty() && root.is_none() {
            let _ = writeln!(text, "        else {others_label} : bytes[rest]");
        } else {
            let (record, _) = self.taken.take(format!("{owner}Others"));
            let fields = self.fields(&record, &behind, (region, None), message.size);
            self.items.push(format!("record {record} {{\n{fields}}}\n"));
            let _ = writeln!(text, "        else {others_label} : {record}");
        }
        text.push_str("    }\n");
        text
    }

    /// Fields at their places behind a byte of the frame, filled up to another one. `by` selects others, and is a whole number.
    fn fields(
        &mut self,
        owner: &str,
        signals: &[&Signal],
        (base, by): (usize, Option<&Signal>),
        up_to: usize,
    ) -> String {
        let (mut text, mut taken, mut occupied) = (String::new(), UsedNames::default(), Occupied::default());
        let mut end = base;
        for signal in signals {
            let places = bits(signal).unwrap_or_default();
            if !occupied.take(&places) {
                let why = "some of its bits are those of a signal in front of it";
                self.leave_out(signal.line, format!("the signal `{}`", signal.name), why);
                continue;
            }
            end = end.max(bytes(&places).1 + 1);
            let is_by = by.is_some_and(|by| by.line == signal.line);
            // In each of the records with which a signal can stand it has the same name.
            let styled = lower(&signal.name, "signal");
            let name = match self.placed.contains(&signal.line) {
                true => taken.take(styled).0,
                false => self.name(Some(&mut taken), &signal.name, styled, &format!("a signal of {owner}")),
            };
            self.field(signal, &name, owner, (base, is_by), &mut text);
            self.placed.insert(signal.line);
        }
        // As long as it has to be: the last bit is kept free, if nobody has it.
        if up_to > end.max(base) && !occupied.has(8 * up_to - 1) {
            let (name, _) = taken.take("filler".to_owned());
            let _ = writeln!(text, "    {name} : u1 at {}.7 retired", up_to - 1 - base);
        }
        text
    }

    fn field(&mut self, signal: &Signal, name: &str, owner: &str, (base, is_by): (usize, bool), out: &mut String) {
        let is_first = !self.placed.contains(&signal.line);
        let left_out = |writer: &mut Self, what: String, why: &str| {
            if is_first {
                writer.leave_out(signal.line, what, why);
            }
        };
        let mut docs = signal.comment.clone().unwrap_or_default();
        let has_scale = signal.factor != "1" || signal.offset != "0";
        let is_enum = !is_by
            && !has_scale
            && signal.form == SignalForm::Unsigned
            && signal.unit.trim().is_empty()
            && !signal.texts.is_empty()
            && signal.bits < 63
            && signal.texts.iter().all(|(code, _)| (0..1i64 << signal.bits).contains(code));
        let kind = match signal.form {
            _ if is_enum => self.enumeration(signal, owner),
            SignalForm::Float => format!("f{}", signal.bits),
            SignalForm::Signed if signal.bits > 1 => format!("i{}", signal.bits),
            SignalForm::Signed => {
                left_out(self, format!("the sign of `{}`", signal.name), "one bit has no room for it");
                "u1".to_owned()
            }
            SignalForm::Unsigned => format!("u{}", signal.bits),
        };
        let scale = match (has_scale, signal.form) {
            (true, SignalForm::Float) | (true, _)
                if signal.factor == "0" || is_by || signal.form == SignalForm::Float =>
            {
                let what = format!("the scale of `{}`, * {} + {}", signal.name, signal.factor, signal.offset);
                let why = match signal.form {
                    SignalForm::Float => "a float is the number itself",
                    _ if is_by => "what selects other signals is a whole number",
                    _ => "all values would be one",
                };
                left_out(self, what, why);
                String::new()
            }
            // What a number means has to fit into 38 digits.
            (true, _) if digits(&signal.factor) + digits(&signal.offset) + signal.bits / 3 > 34 => {
                let what = format!("the scale of `{}`, * {} + {}", signal.name, signal.factor, signal.offset);
                left_out(self, what, "it has more digits than can be computed exactly");
                String::new()
            }
            (true, _) => {
                let offset = match signal.offset.strip_prefix('-') {
                    _ if signal.offset == "0" => String::new(),
                    Some(magnitude) => format!(" - {magnitude}"),
                    None => format!(" + {}", signal.offset),
                };
                format!(" * {}{offset}", signal.factor)
            }
            (false, _) => String::new(),
        };
        if let Some((least, most)) = &signal.range {
            let unit = signal.unit.trim();
            let unit = if unit.is_empty() { String::new() } else { format!(" {unit}") };
            let _ = write!(docs, "\nFrom {least} to {most}{unit}.");
        }
        if !is_enum && !signal.texts.is_empty() {
            let texts: Vec<String> =
                signal.texts.iter().map(|(code, text)| format!("{code} {}", text.trim())).collect();
            let _ = write!(docs, "\nRaw values: {}.", texts.join(", "));
        }
        if !signal.receivers.is_empty() {
            let _ = write!(docs, "\nFor {}.", signal.receivers.join(", "));
        }
        let mut described = String::new();
        documented(&mut described, &docs);
        described.lines().for_each(|line| {
            let _ = writeln!(out, "    {line}");
        });
        let order = if signal.is_big_endian { " be" } else { "" };
        let (byte, bit) = (signal.start / 8 - base, signal.start % 8);
        let _ = writeln!(out, "    {name} : {kind}{scale}{}{order} at {byte}.{bit}", unit(&signal.unit));
    }

    /// The enum with the texts of a signal's values; one for all that have the same.
    fn enumeration(&mut self, signal: &Signal, owner: &str) -> String {
        let key = (signal.bits, signal.texts.clone());
        if let Some(known) = self.enums.get(&key) {
            return known.clone();
        }
        let (name, _) = self.taken.take(format!("{owner}{}", upper(&signal.name, "Signal")));
        let mut text = format!("enum {name} : u{} {{\n", signal.bits);
        let (mut labels, mut codes) = (UsedNames::default(), BTreeSet::new());
        let mut texts = signal.texts.clone();
        texts.sort_by_key(|(code, _)| *code);
        for (code, value) in texts {
            if !codes.insert(code) {
                self.leave_out(
                    signal.line,
                    format!("the text `{value}` of `{}`", signal.name),
                    "its value has another one, too",
                );
                continue;
            }
            let (label, _) = labels.take(lower(&value, "value"));
            let _ = writeln!(text, "    {code} {label} {}", quoted(value.trim()));
        }
        text.push_str("}\n");
        self.items.push(text);
        self.enums.insert(key, name.clone());
        name
    }
}

/// Digits of a number, and those behind its point once more: they count for all that is added to it.
fn digits(text: &str) -> usize {
    let behind = text.split_once('.').map_or(0, |(_, behind)| behind.len());
    text.bytes().filter(u8::is_ascii_digit).count() + behind
}
