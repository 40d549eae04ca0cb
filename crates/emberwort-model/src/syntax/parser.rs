//! Tokens to items. Reports every mistake and goes on behind it, so that one run shows them all.

use super::ast::{
    ByteOrder, ChannelItem, End, FieldItem, File, LabelItem, LabelledItem, LinkItem, Literal, MessageItem, Name,
    Number, SectionItem, TypeExpr,
};
use super::lexer::{Token, TokenKind, tokens};
use crate::algorithm::Algorithm;
use crate::diagnostics::{Code, Finding, escaped, nearest};
use crate::number::Decimal;
use crate::source::Span;

/// Reads a definition. The findings are those of the text's form; the items are all that could be read.
pub fn parse(text: &str) -> (File, Vec<Finding>) {
    let mut findings = Vec::new();
    let tokens = tokens(text, &mut findings);
    let mut parser = Parser { text, tokens, at: 0, findings, doc: String::new(), damaged: false };
    let file = parser.file();
    (file, parser.findings)
}

/// Reads a checksum algorithm as it stands in a frame part, without its `over …`.
///
/// # Errors
/// What is wrong with the text.
pub fn parse_algorithm(text: &str) -> Result<(Algorithm, String), Vec<Finding>> {
    let mut findings = Vec::new();
    let tokens = tokens(text, &mut findings);
    let mut parser = Parser { text, tokens, at: 0, findings, doc: String::new(), damaged: false };
    let found = parser.algorithm_with_values();
    if found.is_some() && parser.peek().kind != TokenKind::End {
        parser.unexpected::<()>(
            "the end of the algorithm",
            "behind its name only `start VALUE` and `final xor VALUE` can stand",
        );
    }
    match found {
        Some(found) if parser.findings.is_empty() => Ok(found),
        _ => Err(parser.findings),
    }
}

/// Words that never name a unit, because they go on with a field or end it.
const FIELD_WORDS: &[&str] =
    &["optional", "or", "in", "step", "added", "spare", "counter", "at", "be", "le", "retired"];

const ITEM_WORDS: &[&str] = &["link", "enum", "flags", "message", "channel", "import", "record", "table"];
const MESSAGE_WORDS: &[&str] = &["id", "from", "on", "answered", "added", "spare"];

/// A reader of tokens. `None` from a method means that its finding has been reported.
pub(super) struct Parser<'a> {
    text: &'a str,
    tokens: Vec<Token>,
    at: usize,
    pub(super) findings: Vec<Finding>,
    doc: String,
    /// Whether a statement of the item at hand could not be read, so that what is missing says nothing.
    damaged: bool,
}

impl<'a> Parser<'a> {
    // ---- tokens ----

    pub(super) fn peek(&self) -> Token {
        self.tokens[self.at]
    }

    fn peek_after(&self, ahead: usize) -> Token {
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
        &self.text[token.span.start..token.span.end]
    }

    pub(super) fn previous_end(&self) -> usize {
        if self.at == 0 { 0 } else { self.tokens[self.at - 1].span.end }
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
            return self.unexpected(&format!("a word that begins {place}"), &format!("one of: {}", words.join(", ")));
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

    pub(super) fn not_built_yet<T>(&mut self, span: Span, what: &str, help: &str) -> Option<T> {
        self.report(Finding::new(
            Code::NotBuiltYet,
            span,
            format!("{what} are part of the language, but this version of Emberwort cannot work with them yet"),
            help,
        ));
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
        match Decimal::parse(self.text_of(token)) {
            Some(mut value) => {
                if negative {
                    value.mantissa = -value.mantissa;
                }
                Some(Number { value, span })
            }
            None => {
                self.report(Finding::new(
                    Code::BadNumber,
                    span,
                    format!("{} is too long a number", self.shown(token)),
                    format!(
                        "integers reach to 64 bits, decimals to {} digits; `_` stands between digits only",
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
    fn duration(&mut self) -> Option<u64> {
        let number = self.number("a duration")?;
        let token = self.peek();
        let unit: i128 = match self.text_of(token) {
            "us" => 1_000,
            "ms" => 1_000_000,
            "s" => 1_000_000_000,
            "min" => 60_000_000_000,
            "h" => 3_600_000_000_000,
            _ => return self.unexpected("a unit of time", "write `us`, `ms`, `s`, `min` or `h`, as in `200 ms`"),
        };
        self.at += 1;
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
                "this is no duration that can be kept: it is counted in nanoseconds, from 1 up to 584 years",
                "write a positive duration, as in `200 ms`",
            ));
        }
        nanoseconds
    }

    // ---- lines and blocks ----

    /// Goes to the next statement; documentation on the way is kept for it.
    fn skip_to_statement(&mut self) {
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

    pub(super) fn take_doc(&mut self) -> String {
        std::mem::take(&mut self.doc)
    }

    /// Skips the rest of a statement that could not be read: to the line's end, over any block that opens on the way.
    fn skip_statement(&mut self) {
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
            if statement(self).is_none() {
                self.damaged = true;
                self.skip_statement();
                if self.at == before {
                    self.at += 1;
                }
            }
        }
    }

    // ---- items ----

    fn file(&mut self) -> File {
        let mut file = File::default();
        loop {
            self.skip_to_statement();
            if self.peek().kind == TokenKind::End {
                return file;
            }
            let before = self.at;
            self.damaged = false;
            if self.item(&mut file).is_none() {
                self.skip_statement();
                if self.at == before || self.is_punct('}') {
                    self.at += usize::from(self.peek().kind != TokenKind::End);
                }
            }
        }
    }

    fn item(&mut self, file: &mut File) -> Option<()> {
        let word = if self.peek().kind == TokenKind::Word { self.text_of(self.peek()) } else { "" };
        match word {
            "link" => {
                let item = self.link()?;
                file.links.push(item);
            }
            "enum" | "flags" => {
                let item = self.labelled()?;
                file.labelled.push(item);
            }
            "message" => {
                let item = self.message()?;
                file.messages.push(item);
            }
            "channel" => {
                let item = self.channel()?;
                file.channels.push(item);
            }
            "import" => {
                let span = self.peek().span;
                return self.not_built_yet(span, "imports", "put all items of the link into one file for now");
            }
            "record" | "table" => {
                let span = self.peek().span;
                let help = "write the fields out in each message for now";
                return self.not_built_yet(span, &format!("{word}s"), help);
            }
            _ => return self.unknown_word("at the start of an item", ITEM_WORDS),
        }
        Some(())
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

    fn link(&mut self) -> Option<LinkItem> {
        let doc = self.take_doc();
        self.next();
        let name = self.name("the link's name")?;
        let mut item = LinkItem { doc, name, revision: None, byte_order: None, damaged: false };
        self.block(|p| {
            let span = p.peek().span;
            if p.eat_word("revision") {
                let number = p.number("a revision number")?;
                p.once(&mut item.revision, number, "revision", span);
            } else if p.eat_word("byte_order") {
                let token = p.peek();
                let order = match p.text_of(token) {
                    "little" => ByteOrder::Little,
                    "big" => ByteOrder::Big,
                    _ => return p.unknown_word("as a byte order", &["little", "big"]),
                };
                p.next();
                p.once(&mut item.byte_order, (order, token.span), "byte_order", span);
            } else {
                return p.unknown_word("in a link", &["revision", "byte_order"]);
            }
            Some(())
        })?;
        item.damaged = self.damaged;
        Some(item)
    }

    /// `u3`, `i16`: signedness and width, if the word has that form. A bad width is reported.
    fn integer_type(&mut self, word: &str, span: Span) -> Option<Option<(bool, u8)>> {
        let (signed, digits) = match word.split_at_checked(1) {
            Some(("u", digits)) => (false, digits),
            Some(("i", digits)) => (true, digits),
            _ => return Some(None),
        };
        if digits.is_empty() || !digits.bytes().all(|b| b.is_ascii_digit()) {
            return Some(None);
        }
        let least = if signed { 2 } else { 1 };
        match digits.parse::<u8>() {
            Ok(bits) if (least..=64).contains(&bits) => Some(Some((signed, bits))),
            _ => {
                self.report(Finding::new(
                    Code::BadWidth,
                    span,
                    format!("an integer cannot be {digits} bits wide"),
                    "unsigned integers have 1 to 64 bits (`u1` … `u64`), signed ones 2 to 64 (`i2` … `i64`)",
                ));
                None
            }
        }
    }

    pub(super) fn unsigned_type(&mut self) -> Option<u8> {
        let token = self.peek();
        let word = self.text_of(token);
        match self.integer_type(word, token.span)? {
            Some((false, bits)) => {
                self.next();
                Some(bits)
            }
            _ => self.unexpected("an unsigned integer type", "write its width, as in `u8`"),
        }
    }

    fn labelled(&mut self) -> Option<LabelledItem> {
        let doc = self.take_doc();
        let keyword = self.next();
        let flags = self.text_of(keyword) == "flags";
        let name = self.name("a name")?;
        self.expect_punct(':', "the width follows the name: `enum GateState : u3 { … }`")?;
        let bits = self.unsigned_type()?;
        let mut item = LabelledItem { doc, flags, name, bits, labels: Vec::new() };
        self.block(|p| {
            let mut doc = p.take_doc();
            let code = p.number(if flags { "a bit number" } else { "a code" })?;
            let name = p.name("a label")?;
            let token = p.peek();
            if token.kind == TokenKind::Text {
                p.next();
                doc = unquoted(p.text_of(token));
            }
            item.labels.push(LabelItem { code, name, text: doc });
            Some(())
        })?;
        Some(item)
    }

    fn message(&mut self) -> Option<MessageItem> {
        let doc = self.take_doc();
        self.next();
        let name = self.name("the message's name")?;
        let mut item = MessageItem {
            doc,
            name,
            id: None,
            from: None,
            every: None,
            on: Vec::new(),
            answered_by: Vec::new(),
            within: None,
            sections: vec![SectionItem::default()],
            damaged: false,
        };
        self.block(|p| p.message_statement(&mut item))?;
        item.damaged = self.damaged;
        Some(item)
    }

    fn message_statement(&mut self, item: &mut MessageItem) -> Option<()> {
        let token = self.peek();
        let named_field = self.peek_after(1).kind == TokenKind::Punct(':');
        let word = if token.kind == TokenKind::Word && !named_field { self.text_of(token) } else { "" };
        match word {
            "id" => {
                self.next();
                let number = self.number("the message's id")?;
                self.once(&mut item.id, number, "id", token.span);
            }
            "from" => {
                self.next();
                let end_token = self.peek();
                let end = match self.text_of(end_token) {
                    "device" => End::Device,
                    "host" => End::Host,
                    _ => return self.unknown_word("as an end of a link", &["device", "host"]),
                };
                self.next();
                self.once(&mut item.from, (end, end_token.span), "from", token.span);
                if self.eat_word("every") {
                    let duration = self.duration()?;
                    item.every = Some(duration);
                }
            }
            "on" => {
                self.next();
                loop {
                    let name = self.name("a channel's name")?;
                    item.on.push(name);
                    let key = self.peek();
                    if self.is_word("port") || self.is_word("can_id") {
                        return self.not_built_yet(
                            key.span,
                            "keys outside the frame",
                            "let a frame part with the role `message` select the message for now",
                        );
                    }
                    if !self.eat_punct(',') {
                        break;
                    }
                }
            }
            "answered" => {
                self.next();
                self.expect_word("by", "write `answered by MESSAGE within 50 ms`")?;
                loop {
                    let name = self.name("a message's name")?;
                    item.answered_by.push(name);
                    if !self.eat_punct(',') {
                        break;
                    }
                }
                if self.eat_word("within") {
                    let duration = self.duration()?;
                    item.within = Some(duration);
                }
            }
            "added" => {
                self.next();
                self.expect_word("in", "write `added in 2 { … }`")?;
                let revision = self.number("a revision number")?;
                let mut fields = Vec::new();
                self.block(|p| {
                    let field = p.field()?;
                    fields.push(field);
                    Some(())
                })?;
                item.sections.push(SectionItem { revision: Some(revision), fields });
            }
            "line" => {
                return self.not_built_yet(
                    token.span,
                    "text messages",
                    "describe binary messages for now; text consoles come later",
                );
            }
            _ => {
                if token.kind == TokenKind::Word && !named_field && word != "spare" {
                    return self.unknown_word("in a message", MESSAGE_WORDS);
                }
                let behind_section = item.sections.len() > 1;
                let field = self.field()?;
                if behind_section {
                    self.report(Finding::new(
                        Code::Unexpected,
                        token.span,
                        "this field stands behind an `added in` block, but the bytes of older revisions come first",
                        "move it above the first `added in`, or into a block of the revision that adds it",
                    ));
                } else {
                    item.sections[0].fields.push(field);
                }
            }
        }
        Some(())
    }

    fn channel(&mut self) -> Option<ChannelItem> {
        let doc = self.take_doc();
        self.next();
        let name = self.name("the channel's name")?;
        let mut item = ChannelItem { doc, name, medium: None, limit: None, finding: None, frame: None, damaged: false };
        self.block(|p| p.channel_statement(&mut item))?;
        item.damaged = self.damaged;
        Some(item)
    }

    // ---- fields ----

    fn field(&mut self) -> Option<FieldItem> {
        let doc = self.take_doc();
        let named = self.peek_after(1).kind == TokenKind::Punct(':');
        if self.is_word("spare") && !named {
            let start = self.next().span;
            let (count, _) = self.whole("a size", 1, 65_535, Code::BadSize)?;
            let unit = if self.eat_word("bits") || self.eat_word("bit") {
                1
            } else if self.eat_word("bytes") || self.eat_word("byte") {
                8
            } else {
                return self.unexpected("`bits` or `bytes`", "write `spare 3 bits` or `spare 2 bytes`");
            };
            let ty_span = Span::new(start.start, self.previous_end());
            let ty = TypeExpr::Spare { bits: count as u32 * unit };
            return Some(FieldItem {
                doc,
                name: None,
                ty,
                ty_span,
                unit: String::new(),
                optional: false,
                none: None,
                default: None,
            });
        }
        let name = self.name("a field's name")?;
        self.expect_punct(':', "a field is written `name : TYPE`")?;
        let start = self.peek().span.start;
        let (ty, mut unit) = self.type_expr()?;
        let mut field = FieldItem {
            doc,
            name: Some(name),
            ty: TypeExpr::Bool,
            ty_span: Span::new(start, self.previous_end()),
            unit: String::new(),
            optional: false,
            none: None,
            default: None,
        };
        while !self.at_line_end() {
            let token = self.peek();
            if token.kind == TokenKind::Word && self.peek_after(1).kind == TokenKind::Punct(':') {
                break;
            }
            if self.eat_punct('=') {
                let value = self.literal()?;
                self.once(&mut field.default, value, "=", token.span);
                continue;
            }
            let word = if token.kind == TokenKind::Word { self.text_of(token) } else { "" };
            match word {
                "optional" => {
                    self.next();
                    field.optional = true;
                }
                "or" => {
                    self.next();
                    self.expect_word("none", "write `or none`: one raw code then means \"no reading\"")?;
                    field.none = Some(Span::new(token.span.start, self.previous_end()));
                }
                "added" | "spare" => break,
                word @ ("counter" | "at" | "be" | "le" | "retired") => {
                    let what = match word {
                        "counter" => "counters",
                        "at" => "explicit places",
                        "retired" => "retired fields",
                        _ => "byte orders of single fields",
                    };
                    return self.not_built_yet(token.span, what, "leave this word out for now");
                }
                word => {
                    if unit.is_empty() && matches!(ty, TypeExpr::Integer { .. } | TypeExpr::Float32) && !word.is_empty()
                    {
                        unit = self.unit();
                        continue;
                    }
                    return self.unknown_word("behind a field's type", &["optional", "or none", "="]);
                }
            }
        }
        field.ty = ty;
        field.unit = unit;
        Some(field)
    }

    fn literal(&mut self) -> Option<(Literal, Span)> {
        let token = self.peek();
        match token.kind {
            TokenKind::Number | TokenKind::Punct('-') => {
                let number = self.number("a value")?;
                Some((Literal::Number(number.value), number.span))
            }
            TokenKind::Text => {
                self.next();
                Some((Literal::Text(unquoted(self.text_of(token))), token.span))
            }
            TokenKind::Word => {
                self.next();
                Some((Literal::Word(self.text_of(token).to_owned()), token.span))
            }
            TokenKind::Punct('[') => {
                self.next();
                let mut labels = Vec::new();
                while !self.is_punct(']') {
                    let label = self.name("a flag's label")?;
                    labels.push(label);
                    if !self.eat_punct(',') {
                        break;
                    }
                }
                self.expect_punct(']', "flags that are set stand in brackets: `[oil_hot, latch_stuck]`")?;
                Some((Literal::Labels(labels), Span::new(token.span.start, self.previous_end())))
            }
            _ => self.unexpected("a default value", "write a number, a label, a quoted text, `none` or `[flag, …]`"),
        }
    }

    /// A unit, if one stands here: a quoted text, or words and signs without space between them.
    fn unit(&mut self) -> String {
        let first = self.peek();
        match first.kind {
            TokenKind::Text => {
                self.next();
                return unquoted(self.text_of(first));
            }
            TokenKind::Punct('%') => {}
            TokenKind::Word
                if !FIELD_WORDS.contains(&self.text_of(first)) && self.peek_after(1).kind != TokenKind::Punct(':') => {}
            _ => return String::new(),
        }
        let mut end = self.next().span.end;
        while self.peek().span.start == end
            && matches!(
                self.peek().kind,
                TokenKind::Word | TokenKind::Number | TokenKind::Mixed | TokenKind::Punct('/' | '^' | '%' | '*' | '-')
            )
        {
            end = self.next().span.end;
        }
        let unit = &self.text[first.span.start..end];
        if let Some(near) = nearest(unit, FIELD_WORDS.iter().copied().filter(|word| word.len() >= 5)) {
            self.report(
                Finding::new(
                    Code::UnitLikeWord,
                    Span::new(first.span.start, end),
                    format!("`{unit}` is read as a unit here"),
                    format!("did you mean `{near}`? If it is a unit, put it in quotes: \"{unit}\""),
                )
                .label("a unit?"),
            );
        }
        unit.to_owned()
    }

    fn type_expr(&mut self) -> Option<(TypeExpr, String)> {
        let token = self.peek();
        match token.kind {
            TokenKind::Number | TokenKind::Punct('-') => self.range(),
            TokenKind::Word => self.named_type(),
            TokenKind::Punct('[') => {
                self.not_built_yet(token.span, "lists", "write the elements out as fields of their own for now")
            }
            _ => self.unexpected("a type", "as in `u8`, `i16 * 0.1 degC`, `0 .. 100 % step 0.5`, `bool`, `GateState`"),
        }
    }

    fn range(&mut self) -> Option<(TypeExpr, String)> {
        let low = self.number("the least value")?;
        if self.peek().kind != TokenKind::DotDot {
            return self.unexpected("`..`", "a range is written `0 .. 100 % step 0.5`");
        }
        self.next();
        let high = self.number("the greatest value")?;
        let mut unit = self.unit();
        if self.eat_word("step") {
            let step = self.number("the step")?;
            if unit.is_empty() && !self.at_line_end() && !self.is_punct('=') {
                unit = self.unit();
            }
            return Some((TypeExpr::Steps { low, high, step }, unit));
        }
        if self.eat_word("in") {
            let (bits, _) = self.whole("a width", 1, 64, Code::BadWidth)?;
            if !self.eat_word("bits") && !self.eat_word("bit") {
                return self.unexpected("`bits`", "write `0 .. 250 bar in 12 bits`");
            }
            return Some((TypeExpr::Spread { low, high, bits: bits as u8 }, unit));
        }
        self.unexpected(
            "`step` or `in`",
            "a range says its resolution: `0 .. 100 % step 0.5`, or its width: `0 .. 250 bar in 12 bits`",
        )
    }

    fn named_type(&mut self) -> Option<(TypeExpr, String)> {
        let token = self.next();
        let word = self.text_of(token);
        if let Some((signed, bits)) = self.integer_type(word, token.span)? {
            return self.integer(signed, bits);
        }
        let ty = match word {
            "bool" => TypeExpr::Bool,
            "f32" => {
                let unit = self.unit();
                return Some((TypeExpr::Float32, unit));
            }
            "f16" | "f64" => {
                return self.not_built_yet(token.span, "`f16` and `f64`", "use `f32` or a scaled integer for now");
            }
            "text" | "bytes" => return self.sized(word, token.span).map(|ty| (ty, String::new())),
            "ascii" | "compact" | "time" | "by" | "frame" | "exactly" | "key" | "value" => {
                let help = "use integers, ranges, enums, flags, `text[..N]` or `bytes[N]` for now";
                return self.not_built_yet(token.span, &format!("`{word}` fields"), help);
            }
            _ => TypeExpr::Named(Name { text: word.to_owned(), span: token.span }),
        };
        Some((ty, String::new()))
    }

    fn integer(&mut self, signed: bool, bits: u8) -> Option<(TypeExpr, String)> {
        let scale = if self.eat_punct('*') { Some(self.number("the scale")?) } else { None };
        // A minus belongs to the number itself.
        let offset = if self.eat_punct('+') || self.is_punct('-') { Some(self.number("the offset")?) } else { None };
        let unit = self.unit();
        Some((TypeExpr::Integer { signed, bits, scale, offset }, unit))
    }

    fn sized(&mut self, word: &str, span: Span) -> Option<TypeExpr> {
        self.expect_punct(
            '[',
            &format!("`{word}` needs a size: `{word}[{}12]`", if word == "text" { ".." } else { "" }),
        )?;
        let counted = self.peek().kind == TokenKind::DotDot;
        if counted {
            self.next();
        }
        if self.is_word("rest") || counted != (word == "text") {
            let now = if word == "text" { "text[..N]" } else { "bytes[N]" };
            return self.not_built_yet(
                span.to(self.peek().span),
                &format!("`{word}` fields of this form"),
                &format!("use `{now}` for now"),
            );
        }
        let (size, _) = self.whole("a size", 1, 65_535, Code::BadSize)?;
        self.expect_punct(']', "close the size with `]`")?;
        Some(if word == "text" { TypeExpr::Text { max: size as u32 } } else { TypeExpr::Bytes { length: size as u32 } })
    }
}

/// A quoted text without its quotes; `\"` and `\\` stand for `"` and `\`.
fn unquoted(text: &str) -> String {
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
