//! Tokens to items. Reports every mistake and goes on behind it, so that one run shows them all.

use super::ast::{FieldItem, File, Name, Number};
use super::lexer::{Token, TokenKind, tokens};
use crate::algorithm::Algorithm;
use crate::diagnostics::{Code, Finding, escaped, nearest};
use crate::medium::{Medium, MediumKind};
use crate::model::Base;
use crate::number::Decimal;
use crate::source::Span;

/// What a text says.
#[derive(Clone, Debug)]
pub struct Parsed {
    /// All items that could be read.
    pub file: File,
    /// The findings of the text's form.
    pub findings: Vec<Finding>,
    /// Where each statement begins, rising.
    pub statements: Vec<usize>,
}

/// Reads one file of a definition, whose first byte has the place `base`.
pub fn parse(text: &str, base: usize) -> Parsed {
    let mut parser = Parser::new(text, base);
    let file = parser.file();
    Parsed { file, findings: parser.findings, statements: parser.statements }
}

/// Reads a checksum algorithm as it stands in a frame part, without its `over …`.
///
/// # Errors
/// What is wrong with the text.
pub fn parse_algorithm(text: &str) -> Result<(Algorithm, String), Vec<Finding>> {
    let mut parser = Parser::new(text, 0);
    let found = parser.algorithm_with_values(&[]);
    if found.is_some() && parser.peek().kind != TokenKind::End {
        parser.unexpected::<()>(
            "the end of the algorithm",
            "after its name only `start VALUE` and `final xor VALUE` can stand",
        );
    }
    match found {
        Some(found) if parser.findings.is_empty() => Ok(found),
        _ => Err(parser.findings),
    }
}

/// Reads the type of a field by itself, with what may stand behind a type: `0 .. 100 % step 0.5 or none`.
///
/// # Errors
/// What is wrong with the text.
pub fn parse_field_type(text: &str) -> Result<FieldItem, Vec<Finding>> {
    let mut parser = Parser::new(text, 0);
    let field = parser.typed(None);
    if field.is_some() && parser.peek().kind != TokenKind::End {
        parser.unexpected::<()>("the end of the type", "write one type, as in `0 .. 100 % step 0.5 or none`");
    }
    match field {
        Some(field) if parser.findings.iter().all(|finding| !finding.is_error()) => Ok(field),
        _ => Err(parser.findings),
    }
}

/// A change of a channel, message or field, as [`crate::what_if`] takes it.
#[derive(Clone, Debug)]
pub enum Change {
    /// Another medium.
    Medium(Medium),
    /// `limit N bytes`
    Limit(Number),
    /// `sfN`
    Spreading(u8),
    /// `N kHz`, in hertz.
    Bandwidth(u32),
    /// `4/N`
    Coding(u8),
    /// `duty N %`
    Duty(Decimal),
    /// `every DURATION`, in nanoseconds.
    Every(u64),
    /// `step N`
    Step(Number),
    /// `in N bits`
    Bits(u8),
    /// Another type.
    Type(Box<FieldItem>),
}

/// Reads a change.
///
/// # Errors
/// What is wrong with the text.
pub fn parse_change(text: &str) -> Result<Change, Vec<Finding>> {
    let mut parser = Parser::new(text, 0);
    let change = parser.change();
    if change.is_some() && parser.peek().kind != TokenKind::End {
        parser.unexpected::<()>("the end of the change", "write one change: `sf12`, `step 0.01`, `every 5 min`");
    }
    match change {
        Some(change) if parser.findings.iter().all(|finding| !finding.is_error()) => Ok(change),
        _ => Err(parser.findings),
    }
}

/// A reader of tokens. `None` from a method means that its finding has been reported.
pub(super) struct Parser<'a> {
    text: &'a str,
    /// The place of the text's first byte.
    base: usize,
    tokens: Vec<Token>,
    pub(super) at: usize,
    pub(super) findings: Vec<Finding>,
    doc: String,
    /// Whether a statement of the item at hand could not be read, so that what is missing says nothing.
    pub(super) damaged: bool,
    /// How deep the type at hand is nested.
    pub(super) depth: usize,
    statements: Vec<usize>,
}

impl<'a> Parser<'a> {
    fn new(text: &'a str, base: usize) -> Self {
        let mut findings = Vec::new();
        let mut tokens = tokens(text, base, &mut findings);
        tokens.retain(|token| token.kind != TokenKind::Comment);
        Self {
            text,
            base,
            tokens,
            at: 0,
            findings,
            doc: String::new(),
            damaged: false,
            depth: 0,
            statements: Vec::new(),
        }
    }

    // ---- tokens ----

    pub(super) fn peek(&self) -> Token {
        self.tokens[self.at]
    }

    pub(super) fn peek_after(&self, ahead: usize) -> Token {
        self.tokens[(self.at + ahead).min(self.tokens.len() - 1)]
    }

    pub(super) fn next(&mut self) -> Token {
        let token = self.peek();
        if token.kind != TokenKind::End {
            self.at += 1;
        }
        token
    }

    pub(super) fn text_of(&self, token: Token) -> &'a str {
        self.text_between(token.span.start, token.span.end)
    }

    /// The text from one place to another.
    pub(super) fn text_between(&self, start: usize, end: usize) -> &'a str {
        &self.text[start - self.base..end - self.base]
    }

    /// The text of so many bytes from a place on, if it has so many.
    pub(super) fn text_at(&self, start: usize, length: usize) -> Option<&'a str> {
        self.text.get(start - self.base..start - self.base + length)
    }

    pub(super) fn previous_end(&self) -> usize {
        if self.at == 0 { self.base } else { self.tokens[self.at - 1].span.end }
    }

    pub(super) fn is_word(&self, word: &str) -> bool {
        self.peek().kind == TokenKind::Word && self.text_of(self.peek()) == word
    }

    pub(super) fn eat_word(&mut self, word: &str) -> bool {
        let found = self.is_word(word);
        if found {
            self.at += 1;
        }
        found
    }

    pub(super) fn is_punct(&self, c: char) -> bool {
        self.peek().kind == TokenKind::Punct(c)
    }

    pub(super) fn eat_punct(&mut self, c: char) -> bool {
        let found = self.is_punct(c);
        if found {
            self.at += 1;
        }
        found
    }

    pub(super) fn at_line_end(&self) -> bool {
        matches!(self.peek().kind, TokenKind::Newline | TokenKind::End | TokenKind::Doc | TokenKind::Punct('}'))
    }

    /// How a token reads in a sentence.
    pub(super) fn shown(&self, token: Token) -> String {
        match token.kind {
            TokenKind::End => "the end of the file".into(),
            TokenKind::Newline => "the end of the line".into(),
            TokenKind::Doc => "a documentation comment".into(),
            _ => format!("`{}`", escaped(self.text_of(token).get(..40).unwrap_or(self.text_of(token)))),
        }
    }

    pub(super) fn report(&mut self, finding: Finding) {
        self.findings.push(finding);
    }

    pub(super) fn unexpected<T>(&mut self, expected: &str, help: &str) -> Option<T> {
        let token = self.peek();
        let span = if token.kind == TokenKind::Newline {
            Span::new(self.previous_end(), self.previous_end())
        } else {
            token.span
        };
        let message = format!("expected {expected}, found {}", self.shown(token));
        self.report(Finding::new(Code::Unexpected, span, message, help).label(format!("expected {expected}")));
        None
    }

    pub(super) fn unknown_word<T>(&mut self, place: &str, words: &[&str]) -> Option<T> {
        let token = self.peek();
        if token.kind != TokenKind::Word {
            // As in C: `u8[64]`.
            if self.is_punct('[') {
                let expected = format!("one of the words that can stand {place}");
                return self.unexpected(
                    &expected,
                    "the length of a list stands in front of its type: `[64] u8`; that of a text after it: `text[64]`",
                );
            }
            let expected = format!("one of the words that can stand {place}");
            return self.unexpected(&expected, &format!("these are: {}", words.join(", ")));
        }
        let word = self.text_of(token);
        let help = match nearest(word, words.iter().copied()) {
            Some(near) => format!("did you mean `{near}`?"),
            None => format!("here can stand: {}", words.join(", ")),
        };
        self.report(
            Finding::new(Code::UnknownWord, token.span, format!("`{word}` means nothing {place}"), help)
                .label("not known here"),
        );
        None
    }

    pub(super) fn name(&mut self, what: &str) -> Option<Name> {
        let token = self.peek();
        if token.kind != TokenKind::Word {
            return self.unexpected(what, "names are ASCII letters, digits and `_`, and begin with a letter");
        }
        self.at += 1;
        Some(Name { text: self.text_of(token).to_owned(), span: token.span })
    }

    pub(super) fn expect_word(&mut self, word: &str, help: &str) -> Option<()> {
        if self.eat_word(word) { Some(()) } else { self.unexpected(&format!("`{word}`"), help) }
    }

    pub(super) fn expect_punct(&mut self, c: char, help: &str) -> Option<()> {
        if self.eat_punct(c) { Some(()) } else { self.unexpected(&format!("`{c}`"), help) }
    }

    pub(super) fn number(&mut self, what: &str) -> Option<Number> {
        let start = self.peek().span;
        let negative = self.eat_punct('-');
        let token = self.peek();
        if token.kind != TokenKind::Number {
            return self.unexpected(what, "write a number: decimal, `0x1F`, `0b101`; `_` may stand between digits");
        }
        self.at += 1;
        let span = start.to(token.span);
        let base = Base::of(self.text_of(token));
        match Decimal::parse(self.text_of(token)) {
            Some(mut value) => {
                if negative {
                    value.mantissa = -value.mantissa;
                }
                Some(Number { value, base, span })
            }
            None => {
                self.report(Finding::new(
                    Code::BadNumber,
                    span,
                    format!("{} is too long a number", self.shown(token)),
                    format!(
                        "integers have up to 64 bits, decimals up to {} digits; `_` stands between digits only",
                        Decimal::MAX_DIGITS
                    ),
                ));
                None
            }
        }
    }

    /// A whole number from `least` to `greatest`.
    pub(super) fn whole(&mut self, what: &str, least: i128, greatest: i128, code: Code) -> Option<(i128, Span)> {
        let number = self.number(what)?;
        match number.value.as_integer() {
            Some(value) if (least..=greatest).contains(&value) => Some((value, number.span)),
            _ => {
                self.report(Finding::new(
                    code,
                    number.span,
                    format!("{} is not {what}: it must be a whole number from {least} to {greatest}", number.value),
                    format!("choose a number from {least} to {greatest}"),
                ));
                None
            }
        }
    }

    /// A duration in nanoseconds.
    pub(super) fn duration(&mut self) -> Option<u64> {
        let number = self.number("a duration")?;
        self.duration_of(number)
    }

    /// The unit behind the number of a duration: the whole in nanoseconds.
    pub(super) fn duration_of(&mut self, number: Number) -> Option<u64> {
        let unit = self.unit_of_time()?;
        self.duration_in(number, unit)
    }

    /// A unit of time, in nanoseconds.
    pub(super) fn unit_of_time(&mut self) -> Option<i128> {
        let unit = match self.text_of(self.peek()) {
            "ns" => 1,
            "us" => 1_000,
            "ms" => 1_000_000,
            "s" => 1_000_000_000,
            "min" => 60_000_000_000,
            "h" => 3_600_000_000_000,
            _ => {
                return self.unexpected("a unit of time", "write `ns`, `us`, `ms`, `s`, `min` or `h`, as in `200 ms`");
            }
        };
        self.at += 1;
        Some(unit)
    }

    /// So many units of so many nanoseconds.
    pub(super) fn duration_in(&mut self, number: Number, unit: i128) -> Option<u64> {
        let nanoseconds = number
            .value
            .mantissa
            .checked_mul(unit)
            .map(|n| n / 10i128.pow(number.value.decimals.min(36)))
            .and_then(|n| u64::try_from(n).ok())
            .filter(|n| *n > 0);
        if nanoseconds.is_none() {
            self.report(Finding::new(
                Code::BadNumber,
                number.span,
                "this duration is out of range: it can be 1 ns to 584 years",
                "write a positive duration, as in `200 ms`",
            ));
        }
        nanoseconds
    }

    fn change(&mut self) -> Option<Change> {
        let word = self.text_of(self.peek());
        if let Some(spreading) = word.strip_prefix("sf").and_then(|digits| digits.parse::<u8>().ok()) {
            if (7..=12).contains(&spreading) {
                self.next();
                return Some(Change::Spreading(spreading));
            }
            return self.unexpected("a spreading factor", "write `sf7` to `sf12`");
        }
        if MediumKind::WORDS.contains(&word) {
            return self.medium().map(Change::Medium);
        }
        if self.eat_word("limit") {
            let limit = self.number("the longest frame")?;
            self.expect_word("bytes", "write `limit 64 bytes`")?;
            return Some(Change::Limit(limit));
        }
        if self.eat_word("duty") {
            let share = self.number("a share of the time")?;
            self.expect_punct('%', "write `duty 1 %`")?;
            return Some(Change::Duty(share.value));
        }
        if self.eat_word("every") {
            return self.duration().map(Change::Every);
        }
        if self.eat_word("step") {
            return self.number("the step").map(Change::Step);
        }
        if self.eat_word("in") {
            let (bits, _) = self.whole("a width", 1, 64, Code::BadWidth)?;
            self.expect_word("bits", "write `in 12 bits`")?;
            return Some(Change::Bits(bits as u8));
        }
        let next = self.text_of(self.peek_after(1));
        if self.peek().kind == TokenKind::Number && next == "/" {
            self.next();
            self.next();
            return self.whole("a coding rate", 5, 8, Code::BadNumber).map(|(coding, _)| Change::Coding(coding as u8));
        }
        if self.peek().kind == TokenKind::Number && ["Hz", "kHz", "MHz"].contains(&next) {
            return self.speed("Hz", "125 kHz").map(Change::Bandwidth);
        }
        self.typed(None).map(|field| Change::Type(Box::new(field)))
    }

    // ---- lines and blocks ----

    /// Goes to the next statement; documentation on the way is kept for it.
    pub(super) fn skip_to_statement(&mut self) {
        self.doc.clear();
        loop {
            match self.peek().kind {
                TokenKind::Newline => {}
                TokenKind::Doc => {
                    let line = self.text_of(self.peek()).trim_start_matches('#');
                    if !self.doc.is_empty() {
                        self.doc.push('\n');
                    }
                    self.doc.push_str(line.trim());
                }
                _ => return,
            }
            self.at += 1;
        }
    }

    /// Notes that a statement begins here.
    pub(super) fn begin_statement(&mut self) {
        self.statements.push(self.peek().span.start);
    }

    pub(super) fn take_doc(&mut self) -> String {
        std::mem::take(&mut self.doc)
    }

    /// Skips the rest of a statement that could not be read: to the line's end, over any block that opens on the way.
    pub(super) fn skip_statement(&mut self) {
        let mut depth = 0usize;
        loop {
            match self.peek().kind {
                TokenKind::End => return,
                TokenKind::Newline if depth == 0 => return,
                TokenKind::Punct('{') => depth += 1,
                TokenKind::Punct('}') if depth == 0 => return,
                TokenKind::Punct('}') => depth -= 1,
                _ => {}
            }
            self.at += 1;
        }
    }

    /// `{ statement … }`. A statement that cannot be read is skipped.
    pub(super) fn block(&mut self, mut statement: impl FnMut(&mut Self) -> Option<()>) -> Option<Span> {
        let open = self.peek().span;
        self.expect_punct('{', "a block stands in braces: `{ … }`")?;
        loop {
            self.skip_to_statement();
            if self.is_punct('}') {
                return Some(open.to(self.next().span));
            }
            if self.peek().kind == TokenKind::End {
                self.damaged = true;
                self.report(
                    Finding::new(Code::OpenBlock, open, "this block is not closed", "put a `}` at its end")
                        .label("opened here"),
                );
                return Some(open);
            }
            let before = self.at;
            self.begin_statement();
            if statement(self).is_none() {
                self.damaged = true;
                self.skip_statement();
                if self.at == before {
                    self.at += 1;
                }
            }
        }
    }

    pub(super) fn once<T>(&mut self, slot: &mut Option<T>, value: T, what: &str, span: Span) {
        if slot.is_some() {
            self.report(Finding::new(
                Code::DuplicateStatement,
                span,
                format!("`{what}` stands here a second time"),
                "keep one of the two",
            ));
        } else {
            *slot = Some(value);
        }
    }
}

/// A quoted text without its quotes; `\"` and `\\` stand for `"` and `\`.
pub(crate) fn unquoted(text: &str) -> String {
    let inner = text.strip_prefix('"').unwrap_or(text);
    let inner = inner.strip_suffix('"').unwrap_or(inner);
    let mut out = String::with_capacity(inner.len());
    let mut chars = inner.chars();
    while let Some(c) = chars.next() {
        match c {
            '\\' => out.extend(chars.next()),
            c => out.push(c),
        }
    }
    out
}
