//! From tokens to a database. What cannot be read is stepped over, and said.

use std::collections::BTreeMap;

use crate::database::{Database, Message, Multiplexed, Signal, SignalForm, Skipped};
use crate::decimal::plain;
use crate::encoding::text_of;
use crate::tokens::{Kind, Token, tokens};

/// The words with which statements begin.
const STATEMENTS: [&str; 24] = [
    "VERSION",
    "NS_",
    "BS_",
    "BU_",
    "BO_",
    "SG_",
    "CM_",
    "VAL_",
    "VAL_TABLE_",
    "BA_",
    "BA_DEF_",
    "BA_DEF_DEF_",
    "BA_DEF_REL_",
    "BA_REL_",
    "BA_DEF_DEF_REL_",
    "SIG_VALTYPE_",
    "SG_MUL_VAL_",
    "BO_TX_BU_",
    "SIG_GROUP_",
    "EV_",
    "ENVVAR_DATA_",
    "SGTYPE_",
    "SIGTYPE_VALTYPE_",
    "SIG_TYPE_REF_",
];

/// The identifier of the message that holds signals of no message.
const NOWHERE: u32 = 0xC000_0000;

/// The attribute that says how often a message is sent, in milliseconds.
const CYCLE: &str = "GenMsgCycleTime";

/// Reads a CAN database.
pub fn read(bytes: &[u8]) -> Database {
    let (text, is_utf8) = text_of(bytes);
    let tokens = tokens(&text);
    let mut parser = Parser {
        tokens: &tokens,
        at: 0,
        database: Database { is_utf8, ..Database::default() },
        attributes: BTreeMap::new(),
        usual_cycle: None,
        is_nowhere: false,
    };
    parser.run();
    parser.finish()
}

struct Parser<'a> {
    tokens: &'a [Token],
    at: usize,
    database: Database,
    /// Attributes that mean nothing here: where the first stands, and how many there are.
    attributes: BTreeMap<String, (usize, usize)>,
    usual_cycle: Option<f64>,
    /// Whether the signals at hand belong to no message.
    is_nowhere: bool,
}

impl Parser<'_> {
    fn peek(&self) -> Option<&Token> {
        self.tokens.get(self.at)
    }

    fn line(&self) -> usize {
        self.tokens.get(self.at.min(self.tokens.len().saturating_sub(1))).map_or(1, |token| token.line)
    }

    fn word(&mut self) -> Option<String> {
        let word = self.peek()?.word()?.to_owned();
        self.at += 1;
        Some(word)
    }

    fn text(&mut self) -> Option<String> {
        let Kind::Text(text) = &self.peek()?.kind else { return None };
        let text = text.clone();
        self.at += 1;
        Some(text)
    }

    fn number(&mut self) -> Option<String> {
        let Kind::Number(number) = &self.peek()?.kind else { return None };
        let number = number.clone();
        self.at += 1;
        Some(number)
    }

    fn whole<T: std::str::FromStr>(&mut self) -> Option<T> {
        self.number()?.parse().ok()
    }

    fn punct(&mut self, punct: char) -> Option<()> {
        let is = self.peek()?.is(punct);
        self.at += usize::from(is);
        is.then_some(())
    }

    fn skip(&mut self, line: usize, what: impl Into<String>, why: &str) {
        self.database.skipped.push(Skipped { line, item: what.into(), reason: why.to_owned(), is_about_bytes: true });
    }

    /// As [`Parser::skip`], for what says nothing about the bytes of a frame.
    fn pass(&mut self, line: usize, what: impl Into<String>, why: &str) {
        self.database.skipped.push(Skipped { line, item: what.into(), reason: why.to_owned(), is_about_bytes: false });
    }

    /// Whether a statement begins at a token: one of their words at the beginning of a line.
    fn begins(&self, at: usize) -> bool {
        self.tokens
            .get(at)
            .is_some_and(|token| token.is_first && token.word().is_some_and(|word| STATEMENTS.contains(&word)))
    }

    /// Goes on at the next statement.
    fn recover(&mut self) {
        while self.at < self.tokens.len() && !self.begins(self.at) {
            self.at += 1;
        }
    }

    /// To the end of the statement at hand: behind its semicolon, or where the next one begins.
    fn skip_rest(&mut self) {
        while let Some(token) = self.peek() {
            if token.is(';') {
                self.at += 1;
                return;
            }
            if self.begins(self.at) {
                return;
            }
            self.at += 1;
        }
    }

    fn run(&mut self) {
        while let Some(token) = self.peek() {
            let (line, is_first) = (token.line, token.is_first);
            let word = token.word().unwrap_or("").to_owned();
            if !is_first || !STATEMENTS.contains(&word.as_str()) {
                if !token.is(';') {
                    self.skip(line, "what stands here", "it is no statement of a CAN database");
                }
                self.at += 1;
                self.recover();
                continue;
            }
            self.at += 1;
            let from = self.at;
            let is_read = match word.as_str() {
                "VERSION" => self.text().map(|_| ()),
                "NS_" => self.symbols(),
                "BS_" => self.speed(),
                "BU_" => self.nodes(),
                "BO_" => self.message(line),
                "SG_" => self.signal(line),
                "CM_" => self.comment(),
                "VAL_" => self.value_texts(line),
                // Those are copied to the signals that have them.
                "VAL_TABLE_" | "BA_DEF_" => {
                    self.skip_rest();
                    Some(())
                }
                "BA_DEF_DEF_" => self.usual_attribute(),
                "BA_" => self.attribute(line),
                "SIG_VALTYPE_" => self.float(line),
                "SG_MUL_VAL_" => self.multiplexed(line),
                "BO_TX_BU_" => self.senders(),
                other => {
                    self.pass(line, format!("`{other}`"), "it says nothing about the bytes");
                    self.skip_rest();
                    Some(())
                }
            };
            if is_read.is_none() {
                let near = self.line();
                self.at = self.at.max(from);
                self.skip(line, format!("a statement `{word}`"), &format!("it cannot be read, at line {near}"));
                if word == "BO_" {
                    self.is_nowhere = true;
                }
                self.recover();
            }
        }
    }

    fn symbols(&mut self) -> Option<()> {
        self.punct(':')?;
        // A list of words; some of them are statements, but the next one of those is `BS_:`.
        while let Some(token) = self.peek() {
            let is_next = self.tokens.get(self.at + 1).is_some_and(|next| next.is(':'));
            if token.is_first && is_next {
                break;
            }
            self.at += 1;
        }
        Some(())
    }

    fn speed(&mut self) -> Option<()> {
        self.punct(':')?;
        if let Some(kilobits) = self.number() {
            self.database.bitrate = kilobits.parse::<u64>().ok().filter(|rate| *rate > 0).map(|rate| rate * 1000);
            while self.at < self.tokens.len() && !self.begins(self.at) {
                self.at += 1;
            }
        }
        Some(())
    }

    fn nodes(&mut self) -> Option<()> {
        self.punct(':')?;
        while !self.begins(self.at) {
            let Some(node) = self.word() else { break };
            self.database.nodes.push(node);
        }
        Some(())
    }

    fn message(&mut self, line: usize) -> Option<()> {
        let id: u32 = self.whole()?;
        let name = self.word()?;
        self.punct(':')?;
        let size: usize = self.whole()?;
        let sender = self.word();
        self.is_nowhere = id == NOWHERE;
        if self.is_nowhere {
            self.skip(line, format!("`{name}`"), "it holds signals that belong to no message");
            return Some(());
        }
        let senders = sender.into_iter().filter(|sender| sender != "Vector__XXX").collect();
        self.database.messages.push(Message {
            line,
            name,
            id: id & 0x1FFF_FFFF,
            is_extended: id >> 31 == 1,
            size,
            senders,
            ..Message::default()
        });
        Some(())
    }

    fn signal(&mut self, line: usize) -> Option<()> {
        let name = self.word()?;
        let mut signal = Signal { line, name, ..Signal::default() };
        if let Some(mark) = self.word() {
            // `M`, `m3`, or `m3M`.
            signal.is_multiplexor = mark.ends_with('M');
            let inner = mark.strip_suffix('M').unwrap_or(&mark);
            if !inner.is_empty() {
                let value: u64 = inner.strip_prefix('m')?.parse().ok()?;
                signal.multiplexed = Some(Multiplexed { by: String::new(), values: vec![(value, value)] });
            }
        }
        self.punct(':')?;
        signal.start = self.whole()?;
        self.punct('|')?;
        signal.bits = self.whole()?;
        self.punct('@')?;
        let order: u8 = self.whole()?;
        signal.is_big_endian = match order {
            0 => true,
            1 => false,
            _ => return None,
        };
        signal.form = if self.punct('-').is_some() {
            SignalForm::Signed
        } else {
            self.punct('+')?;
            SignalForm::Unsigned
        };
        self.punct('(')?;
        signal.factor = plain(&self.number()?)?;
        self.punct(',')?;
        signal.offset = plain(&self.number()?)?;
        self.punct(')')?;
        self.punct('[')?;
        let least = plain(&self.number()?)?;
        self.punct('|')?;
        let most = plain(&self.number()?)?;
        self.punct(']')?;
        // Nobody says 0 to 0 and means it.
        signal.range = (least != most).then_some((least, most));
        signal.unit = self.text()?;
        while !self.begins(self.at) {
            let Some(receiver) = self.word() else { break };
            if receiver != "Vector__XXX" {
                signal.receivers.push(receiver);
            }
            if self.punct(',').is_none() {
                break;
            }
        }
        if self.is_nowhere {
            self.skip(line, format!("the signal `{}`", signal.name), "it belongs to no message");
            return Some(());
        }
        match self.database.messages.last_mut() {
            Some(message) => message.signals.push(signal),
            None => self.skip(line, format!("the signal `{}`", signal.name), "no message stands in front of it"),
        }
        Some(())
    }

    /// The message with an identifier as the file writes it.
    fn by_id(&mut self, id: u32) -> Option<&mut Message> {
        let (id, is_extended) = (id & 0x1FFF_FFFF, id >> 31 == 1);
        self.database.messages.iter_mut().find(|message| message.id == id && message.is_extended == is_extended)
    }

    fn signal_of(&mut self, id: u32, name: &str) -> Option<&mut Signal> {
        self.by_id(id)?.signals.iter_mut().find(|signal| signal.name == name)
    }

    fn comment(&mut self) -> Option<()> {
        if let Some(text) = self.text() {
            self.database.comment = Some(text);
        } else {
            match self.word()?.as_str() {
                "BO_" => {
                    let id = self.whole()?;
                    let text = self.text()?;
                    if let Some(message) = self.by_id(id) {
                        message.comment = Some(text);
                    }
                }
                "SG_" => {
                    let id = self.whole()?;
                    let name = self.word()?;
                    let text = self.text()?;
                    if let Some(signal) = self.signal_of(id, &name) {
                        signal.comment = Some(text);
                    }
                }
                what => {
                    let line = self.line();
                    self.pass(
                        line,
                        format!("a comment on a `{what}`"),
                        "only those on messages and signals have a place",
                    );
                }
            }
        }
        self.skip_rest();
        Some(())
    }

    fn value_texts(&mut self, line: usize) -> Option<()> {
        let Some(id) = self.whole() else {
            let name = self.word()?;
            self.pass(line, format!("texts of the variable `{name}`"), "it goes over no bus");
            self.skip_rest();
            return Some(());
        };
        let name = self.word()?;
        let mut texts = Vec::new();
        while let Some(value) = self.number() {
            texts.push((value.parse::<f64>().ok()? as i64, self.text()?));
        }
        self.punct(';')?;
        match self.signal_of(id, &name) {
            Some(signal) => signal.texts = texts,
            None => self.skip(line, format!("texts of values of `{name}`"), "there is no such signal"),
        }
        Some(())
    }

    fn usual_attribute(&mut self) -> Option<()> {
        let name = self.text()?;
        if name == CYCLE {
            self.usual_cycle = self.number().and_then(|number| number.parse().ok());
        }
        self.skip_rest();
        Some(())
    }

    fn attribute(&mut self, line: usize) -> Option<()> {
        let name = self.text()?;
        match (name.as_str(), self.word().as_deref()) {
            (CYCLE, Some("BO_")) => {
                let id = self.whole()?;
                let cycle: f64 = self.whole()?;
                if let Some(message) = self.by_id(id) {
                    message.cycle = Some(cycle);
                }
            }
            ("Baudrate", None) => self.database.bitrate = self.whole(),
            _ => {
                let (first, count) = self.attributes.get(&name).copied().unwrap_or((line, 0));
                self.attributes.insert(name, (first, count + 1));
            }
        }
        self.skip_rest();
        Some(())
    }

    fn float(&mut self, line: usize) -> Option<()> {
        let id = self.whole()?;
        let name = self.word()?;
        self.punct(':');
        let kind: u8 = self.whole()?;
        self.skip_rest();
        match (self.signal_of(id, &name), kind) {
            (Some(signal), 1 | 2) => signal.form = SignalForm::Float,
            (Some(_), 0) => {}
            (Some(_), _) => self.skip(line, format!("the form of `{name}`"), "it is none of integer, float and double"),
            (None, _) => self.skip(line, format!("the form of `{name}`"), "there is no such signal"),
        }
        Some(())
    }

    fn multiplexed(&mut self, line: usize) -> Option<()> {
        let id = self.whole()?;
        let name = self.word()?;
        let by = self.word()?;
        let mut values = Vec::new();
        loop {
            let from: u64 = self.whole()?;
            // `0-3` is a number and one with a sign.
            self.punct('-');
            let to = self.number()?;
            let to: u64 = to.trim_start_matches('-').parse().ok()?;
            values.push((from.min(to), from.max(to)));
            if self.punct(',').is_none() {
                break;
            }
        }
        self.punct(';')?;
        match self.signal_of(id, &name) {
            Some(signal) => signal.multiplexed = Some(Multiplexed { by, values }),
            None => self.skip(line, format!("when `{name}` is there"), "there is no such signal"),
        }
        Some(())
    }

    fn senders(&mut self) -> Option<()> {
        let id = self.whole()?;
        self.punct(':')?;
        let mut senders = Vec::new();
        while let Some(sender) = self.word() {
            senders.push(sender);
            self.punct(',');
        }
        self.skip_rest();
        if let Some(message) = self.by_id(id) {
            senders.retain(|sender| !message.senders.contains(sender));
            message.senders.extend(senders);
        }
        Some(())
    }

    fn finish(mut self) -> Database {
        for (name, (line, count)) in std::mem::take(&mut self.attributes) {
            let times = if count == 1 { "once".to_owned() } else { format!("{count} times") };
            self.pass(line, format!("the attribute `{name}`, {times},"), "it says nothing about the bytes");
        }
        if let Some(usual) = self.usual_cycle {
            for message in &mut self.database.messages {
                message.cycle.get_or_insert(usual);
            }
        }
        self.database.skipped.sort_by_key(|skipped| skipped.line);
        self.database
    }
}
