//! Fields: types, units, and what may stand behind a type.

use super::ast::{ByteOrder, CaseItem, FieldItem, Length, Literal, Name, TypeExpr};
use super::lexer::TokenKind;
use super::parser::{Parser, unquoted};
use crate::diagnostics::{Code, Finding, nearest};
use crate::source::Span;

/// Words that never name a unit, because they go on with a field or end it.
const FIELD_WORDS: &[&str] = &[
    "optional", "or", "in", "step", "added", "spare", "counter", "at", "be", "le", "retired", "read", "write", "kept",
    "else",
];

/// What may stand behind a type, for findings.
const MODIFIERS: &[&str] = &["optional", "or none", "=", "counter", "at", "be", "le", "retired"];

/// The words that begin a type.
pub(crate) const TYPE_WORDS: &[&str] = &[
    "bool", "f16", "f32", "f64", "compact", "text", "ascii", "bytes", "time", "by", "key", "value", "frame", "exactly",
];

/// How deep types can be nested.
const MAX_DEPTH: usize = 8;

/// A type and its unit.
type TypeAndUnit = Option<(TypeExpr, String)>;

impl Parser<'_> {
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
                    format!("an integer cannot have a width of {digits}"),
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

    /// `spare …` or `NAME : TYPE …`
    pub(super) fn field(&mut self) -> Option<FieldItem> {
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
            return Some(FieldItem {
                doc,
                ..FieldItem::plain(None, TypeExpr::Spare { bits: count as u32 * unit }, ty_span)
            });
        }
        let name = self.name("a field's name")?;
        self.expect_punct(':', "a field is written `name : TYPE`")?;
        let field = self.typed(Some(name))?;
        Some(FieldItem { doc, ..field })
    }

    /// `TYPE …`: a type and what stands behind it.
    pub(super) fn typed(&mut self, name: Option<Name>) -> Option<FieldItem> {
        let start = self.peek().span.start;
        let (ty, mut unit) = self.type_expr()?;
        let ty_span = Span::new(start, self.previous_end());
        let takes_unit = matches!(ty, TypeExpr::Integer { .. } | TypeExpr::Float(_) | TypeExpr::Varint { .. });
        let mut field = FieldItem::plain(name, ty, ty_span);
        while !self.at_line_end() {
            let token = self.peek();
            let begins_next = token.kind == TokenKind::Word && self.peek_after(1).kind == TokenKind::Punct(':');
            if begins_next || matches!(token.kind, TokenKind::Number) {
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
                    self.once(&mut field.optional, token.span, word, token.span);
                }
                "counter" => {
                    self.next();
                    self.once(&mut field.counter, token.span, word, token.span);
                }
                "retired" => {
                    self.next();
                    self.once(&mut field.retired, token.span, word, token.span);
                }
                "be" | "le" => {
                    self.next();
                    let order = if word == "be" { ByteOrder::Big } else { ByteOrder::Little };
                    self.once(&mut field.order, (order, token.span), "be or le", token.span);
                }
                "or" => {
                    self.next();
                    self.expect_word("none", "write `or none`: one raw code then means \"no reading\"")?;
                    let span = Span::new(token.span.start, self.previous_end());
                    self.once(&mut field.none, span, "or none", token.span);
                }
                "at" => {
                    self.next();
                    let at = self.explicit_place()?;
                    let span = Span::new(token.span.start, self.previous_end());
                    self.once(&mut field.at, (at, span), "at", token.span);
                }
                "added" | "spare" | "else" | "read" | "write" | "kept" => break,
                word => {
                    if unit.is_empty() && takes_unit && !word.is_empty() {
                        unit = self.unit();
                        // `step` and the like are no units.
                        if !unit.is_empty() {
                            continue;
                        }
                    }
                    if let "step" | "in" = word {
                        return self.unexpected(
                            "the end of the field",
                            "`step` and `in N bits` belong to ranges, as in `0 .. 30 V step 0.1` or `0 .. 30 V in 9 bits`; \
                             an integer has a scale: `u8 * 0.1 V`",
                        );
                    }
                    return self.unknown_word("after a field's type", MODIFIERS);
                }
            }
        }
        // What is said of the numbers of a list is said of each.
        if let TypeExpr::List { element, .. } = &mut field.ty {
            let mut inner = element;
            while let TypeExpr::List { .. } = inner.ty {
                let TypeExpr::List { element, .. } = &mut inner.ty else { break };
                inner = element;
            }
            inner.none = field.none.take();
            inner.order = field.order.take();
            inner.unit.clone_from(&unit);
        }
        field.unit = unit;
        Some(field)
    }

    /// `BYTE.BIT`, behind the word `at`.
    fn explicit_place(&mut self) -> Option<(u32, u8)> {
        let token = self.peek();
        let place = self.text_of(token).split_once('.').and_then(|(byte, bit)| {
            let byte = byte.parse::<u32>().ok().filter(|byte| *byte <= 65_535)?;
            Some((byte, bit.parse::<u8>().ok().filter(|bit| *bit <= 7)?))
        });
        match place {
            Some(place) if token.kind == TokenKind::Number => {
                self.next();
                Some(place)
            }
            _ => self.unexpected(
                "a byte and a bit, as in `at 2.4`",
                "bytes count from 0, bits from 0 (the least significant) to 7",
            ),
        }
    }

    /// Goes one level deeper into a type.
    fn nested<T>(&mut self, span: Span, inner: impl FnOnce(&mut Self) -> Option<T>) -> Option<T> {
        if self.depth >= MAX_DEPTH {
            self.report(Finding::new(
                Code::TooDeep,
                span,
                format!("types can be nested {MAX_DEPTH} levels deep, and this is one more"),
                "give the inner part a name as a `record`, and use that here",
            ));
            return None;
        }
        self.depth += 1;
        let found = inner(self);
        self.depth -= 1;
        found
    }

    fn list(&mut self) -> TypeAndUnit {
        let open = self.next().span;
        let length = self.length("elements")?;
        let start = self.peek().span.start;
        let (ty, unit) = self.nested(open, Self::type_expr)?;
        let element = FieldItem::plain(None, ty, Span::new(start, self.previous_end()));
        Some((TypeExpr::List { element: Box::new(FieldItem { unit: unit.clone(), ..element }), length }, unit))
    }

    /// `N]`, `..N]` or `rest]`, behind an opening bracket.
    fn length(&mut self, what: &str) -> Option<Length> {
        let length = if self.eat_word("rest") {
            Length::Rest
        } else {
            let counted = self.peek().kind == TokenKind::DotDot;
            if counted {
                self.next();
            }
            let (size, _) = self.whole(&format!("a number of {what}"), 1, 65_535, Code::BadSize)?;
            if counted { Length::UpTo(size as u32) } else { Length::Exact(size as u32) }
        };
        self.expect_punct(']', "close the size with `]`")?;
        Some(length)
    }

    fn by(&mut self, span: Span) -> TypeAndUnit {
        let field = self.name("the field that decides")?;
        let mut cases = Vec::new();
        let mut otherwise = None;
        self.nested(span, |p| {
            p.block(|p| {
                let doc = p.take_doc();
                let token = p.peek();
                if p.is_word("else") && p.peek_after(1).kind == TokenKind::Word {
                    p.next();
                    let field = p.named(doc)?;
                    p.once(&mut otherwise, Box::new(field), "else", token.span);
                    return Some(());
                }
                let case = match token.kind {
                    TokenKind::Number | TokenKind::Punct('-') | TokenKind::Word => p.literal()?,
                    _ => return p.unexpected("a number or a label", "a form is written `1 level : u16 * 0.1 m`"),
                };
                let field = p.named(doc)?;
                cases.push(CaseItem { case, field });
                Some(())
            })
        })?;
        Some((TypeExpr::By { field, cases, otherwise }, String::new()))
    }

    /// `NAME : TYPE …`
    fn named(&mut self, doc: String) -> Option<FieldItem> {
        let name = self.name("the form's name")?;
        self.expect_punct(':', "a form is written `1 level : u16 * 0.1 m`")?;
        let field = self.typed(Some(name))?;
        Some(FieldItem { doc, ..field })
    }

    /// The field that decides: `FIELD` or `MESSAGE.FIELD`.
    fn value_of(&mut self) -> TypeAndUnit {
        self.expect_word("of", "write `value of Settings by setting`")?;
        let table = self.name("a table's name")?;
        self.expect_word("by", "write `value of Settings by setting`: the field that holds the key")?;
        let first = self.name("the field that decides")?;
        let (request, field) =
            if self.eat_punct('.') { (Some(first), self.name("a field's name")?) } else { (None, first) };
        Some((TypeExpr::ValueOf { table, request, field }, String::new()))
    }

    pub(super) fn literal(&mut self) -> Option<(Literal, Span)> {
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
        let unit = self.text_between(first.span.start, end);
        if let Some(help) = no_unit(unit) {
            self.report(
                Finding::new(
                    Code::UnitLikeWord,
                    Span::new(first.span.start, end),
                    format!("`{unit}` is read as a unit here"),
                    format!("{help}. If it is a unit, put it in quotes: \"{unit}\""),
                )
                .label("a unit?"),
            );
            return unit.to_owned();
        }
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

    fn type_expr(&mut self) -> TypeAndUnit {
        let token = self.peek();
        match token.kind {
            TokenKind::Number | TokenKind::Punct('-') => self.range(),
            TokenKind::Word => self.named_type(),
            TokenKind::Punct('[') => self.list(),
            _ => self.unexpected("a type", "as in `u8`, `i16 * 0.1 degC`, `0 .. 100 % step 0.5`, `bool`, `GateState`"),
        }
    }

    fn range(&mut self) -> TypeAndUnit {
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

    fn named_type(&mut self) -> TypeAndUnit {
        let token = self.next();
        let word = self.text_of(token);
        if let Some((signed, bits)) = self.integer_type(word, token.span)? {
            return self.integer(signed, bits);
        }
        let ty = match word {
            "bool" => TypeExpr::Bool,
            "f16" | "f32" | "f64" => {
                let bits = word[1..].parse().unwrap_or(32);
                let unit = self.unit();
                return Some((TypeExpr::Float(bits), unit));
            }
            "compact" => {
                let inner = self.peek();
                let Some((signed, bits)) = self.integer_type(self.text_of(inner), inner.span)? else {
                    return self.unexpected("an integer type", "write `compact u32` or `compact i32`");
                };
                self.next();
                let unit = self.unit();
                return Some((TypeExpr::Varint { signed, bits }, unit));
            }
            "text" | "ascii" | "bytes" => {
                self.expect_punct(
                    '[',
                    &format!("`{word}` needs a size: `{word}[8]`, `{word}[..24]` or `{word}[rest]`"),
                )?;
                let length = self.length("bytes")?;
                if word == "bytes" {
                    TypeExpr::Bytes(length)
                } else {
                    TypeExpr::Text { ascii: word == "ascii", length }
                }
            }
            "time" => {
                let milliseconds = match self.text_of(self.peek()) {
                    "s" => false,
                    "ms" => true,
                    _ => return self.unexpected("`s` or `ms`", "write `time s` (32 bits) or `time ms` (64 bits)"),
                };
                self.next();
                TypeExpr::Time { milliseconds }
            }
            "by" => return self.by(token.span),
            "key" if self.is_word("of") => {
                self.next();
                TypeExpr::KeyOf(self.name("a table's name")?)
            }
            "value" if self.is_word("of") => return self.value_of(),
            "frame" if self.is_word("of") => {
                self.next();
                TypeExpr::FrameOf(self.name("a channel's name")?)
            }
            "exactly" => {
                let value = self.number("the constant")?;
                self.expect_punct(':', "write `exactly 0x01 : u8`")?;
                let inner = self.peek();
                let Some((signed, bits)) = self.integer_type(self.text_of(inner), inner.span)? else {
                    return self.unexpected("an integer type", "write `exactly 0x01 : u8`");
                };
                self.next();
                TypeExpr::Exactly { value, signed, bits }
            }
            _ => TypeExpr::Named(Name { text: word.to_owned(), span: token.span }),
        };
        Some((ty, String::new()))
    }

    fn integer(&mut self, signed: bool, bits: u8) -> TypeAndUnit {
        let scale = if self.eat_punct('*') { Some(self.number("the scale")?) } else { None };
        // A minus belongs to the number itself.
        let offset = if self.eat_punct('+') || self.is_punct('-') { Some(self.number("the offset")?) } else { None };
        let unit = self.unit();
        Some((TypeExpr::Integer { signed, bits, scale, offset }, unit))
    }
}

/// What to write in place of a word that is hardly a unit: one that says how numbers lie in bytes elsewhere.
fn no_unit(word: &str) -> Option<&'static str> {
    Some(match word.to_ascii_lowercase().as_str() {
        "bcd" => "a number in BCD is two `u4` fields a byte, the tens first",
        "big" | "bigendian" | "big_endian" | "big-endian" | "msb" | "msb_first" | "network" => {
            "write `be` for big-endian"
        }
        "little" | "littleendian" | "little_endian" | "little-endian" | "lsb" | "lsb_first" => {
            "write `le` for little-endian"
        }
        "unsigned" | "signed" | "int" | "uint" | "float" => "the type says that: `u8`, `i8`, `f32`",
        "const" | "constant" => "write `exactly 0x01 : u8` for a constant",
        "reserved" | "unused" | "padding" | "pad" => "write `spare 8 bits` for space without a name",
        "default" => "write `= 3` for a default",
        "xor" | "ones" | "inverted" | "negated" | "complement" | "complemented" => {
            "a field's bits are never turned over; a part of a frame may be: `same as PART inverted`"
        }
        "reversed" | "swapped" | "mirrored" | "reflected" | "flipped" => {
            "write `be` or `le` for the order of bytes; the order of bits is that of docs/wire.md"
        }
        "hex" | "hexadecimal" | "decimal" | "binary" | "octal" => {
            "a definition does not say how numbers are shown; `decode --as hex` shows the bytes"
        }
        "if" | "when" | "unless" | "until" | "while" => {
            "write `by FIELD { … }` for a field whose form another one decides, or `optional` for one that may be absent"
        }
        "sized" | "counted" | "repeated" | "array" => {
            "write `[..8] u16` for a list, `text[..20]` or `bytes[..20]` for what varies in length"
        }
        "nullable" | "opt" | "maybe" => "write `optional`, or `or none` for a code that means no reading",
        _ => return None,
    })
}
