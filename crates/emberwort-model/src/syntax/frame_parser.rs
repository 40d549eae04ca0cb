//! Channels and their frames: media, limits, parts and roles.

use super::ast::{ByteOrder, ChannelItem, FrameEnd, FrameItem, KeyKind, Name, PartItem, PartKind, RoleItem};
use super::lexer::TokenKind;
use super::parser::Parser;
use crate::algorithm::{Algorithm, Crc};
use crate::diagnostics::{Code, Finding, nearest};
use crate::source::Span;
use crate::stuffing::{ByteSet, Escape, Stuffing};

const CHANNEL_WORDS: &[&str] = &["medium", "limit", "frame", "stuffing", "lines", "gap", "status", "packet", "select"];
const ROLE_WORDS: &[&str] = &["message", "length", "address", "sequence", "revision", "same"];

impl Parser<'_> {
    pub(super) fn channel_statement(&mut self, item: &mut ChannelItem) -> Option<()> {
        let token = self.peek();
        let word = if token.kind == TokenKind::Word { self.text_of(token) } else { "" };
        match word {
            "medium" => {
                self.next();
                let medium = self.medium()?;
                let span = Span::new(token.span.start, self.previous_end());
                self.once(&mut item.medium, (medium, span), "medium", token.span);
            }
            "limit" => {
                self.next();
                let number = self.number("the length of the longest frame")?;
                if !self.eat_word("bytes") && !self.eat_word("byte") {
                    return self.unexpected("`bytes`", "write `limit 128 bytes`");
                }
                self.once(&mut item.limit, number, "limit", token.span);
            }
            "packet" => {
                self.next();
                self.once(&mut item.finding, (FrameEnd::Packet, token.span), "packet", token.span);
            }
            "stuffing" => {
                self.next();
                let kind = self.text_of(self.peek());
                let end = match Stuffing::ALL.iter().find(|(word, _)| *word == kind) {
                    Some((_, stuffing)) => FrameEnd::Stuffing(*stuffing),
                    None if kind == "escape" => FrameEnd::Escape(self.escape()?),
                    None => return self.unknown_word("as a stuffing", &["cobs", "slip", "hdlc", "escape"]),
                };
                if kind != "escape" {
                    self.next();
                }
                let span = Span::new(token.span.start, self.previous_end());
                self.once(&mut item.finding, (end, span), "stuffing", token.span);
            }
            "lines" => {
                self.next();
                let end = self.peek();
                let crlf = match self.text_of(end) {
                    "lf" => false,
                    "crlf" => true,
                    _ => return self.unknown_word("as a line's end", &["lf", "crlf"]),
                };
                self.next();
                let span = token.span.to(end.span);
                self.once(&mut item.finding, (FrameEnd::Lines { crlf }, span), "lines", token.span);
            }
            "status" => {
                self.next();
                self.expect_word("bytes", "write `status bytes` or `status bytes running`")?;
                let end = FrameEnd::StatusBytes { running: self.eat_word("running") };
                let span = Span::new(token.span.start, self.previous_end());
                self.once(&mut item.finding, (end, span), "status", token.span);
            }
            "gap" => {
                self.next();
                let end = self.gap()?;
                let span = Span::new(token.span.start, self.previous_end());
                self.once(&mut item.finding, (end, span), "gap", token.span);
            }
            "select" => {
                self.next();
                self.expect_word(
                    "by",
                    "write `select by port`, `select by can_id`, `select by endpoint` or `select by size`",
                )?;
                let kind = self.peek();
                let key = match self.text_of(kind) {
                    "port" => KeyKind::Port,
                    "can_id" => KeyKind::CanId,
                    "endpoint" => KeyKind::Endpoint,
                    "size" => KeyKind::Size,
                    _ => {
                        return self.unknown_word("as what selects a message", &["port", "can_id", "endpoint", "size"]);
                    }
                };
                self.next();
                self.once(&mut item.select, (key, token.span.to(kind.span)), "select", token.span);
            }
            "frame" => {
                self.next();
                let from = if self.eat_word("from") { Some(self.end_of_link()?) } else { None };
                let mut parts = Vec::new();
                self.block(|p| {
                    let part = p.part()?;
                    parts.push(part);
                    Some(())
                })?;
                if item.frames.iter().any(|other| other.from == from || other.from.is_none() || from.is_none()) {
                    self.report(Finding::new(
                        Code::DuplicateStatement,
                        token.span,
                        "this channel already has a frame for this direction",
                        "describe one frame for both directions, or one `frame from host` and one `frame from device`",
                    ));
                } else {
                    item.frames.push(FrameItem { from, parts, span: token.span });
                }
            }
            _ => return self.unknown_word("in a channel", CHANNEL_WORDS),
        }
        Some(())
    }

    /// A byte of two hex digits.
    fn byte(&mut self, help: &str) -> Option<u8> {
        let text = self.text_of(self.peek());
        match u8::from_str_radix(text, 16) {
            Ok(byte) if text.len() == 2 => {
                self.next();
                Some(byte)
            }
            _ => self.unexpected("a byte of two hex digits", help),
        }
    }

    /// `escape 7D xor 20 of 7D C6`
    fn escape(&mut self) -> Option<Escape> {
        let help = "write `stuffing escape 7D xor 20 of 7D C6`: the escape byte, what the byte after it is XORed with, and the \
                    bytes that are escaped";
        self.next();
        let place = self.peek().span;
        let mut escape = Escape { escape: self.byte(help)?, xor: 0, escaped: ByteSet::default() };
        self.expect_word("xor", help)?;
        escape.xor = self.byte(help)?;
        self.expect_word("of", help)?;
        let mut bytes = Vec::new();
        while !self.at_line_end() {
            bytes.push(self.byte(help)?);
        }
        if bytes.is_empty() {
            return self.unexpected("the bytes that are escaped", help);
        }
        bytes.iter().for_each(|byte| escape.escaped.insert(*byte));
        if !escape.escaped.contains(escape.escape) {
            let message = format!("the escape byte {:02X} is not among the bytes that are escaped", escape.escape);
            let all: Vec<String> = escape.escaped.iter().map(|byte| format!("{byte:02X}")).collect();
            let help = format!(
                "add it, since a plain {0:02X} could not be told from an escape: `of {0:02X} {1}`",
                escape.escape,
                all.join(" ")
            );
            self.report(Finding::new(Code::BadStuffing, place, message, help));
        }
        // An escaped byte must not look like one that has to be escaped; only an escape that doubles itself may.
        if let Some(byte) = bytes.iter().find(|byte| escape.xor != 0 && escape.escaped.contains(**byte ^ escape.xor)) {
            let message = format!("{byte:02X} escaped is {:02X}, which has to be escaped itself", byte ^ escape.xor);
            self.report(Finding::new(
                Code::BadStuffing,
                place,
                message,
                "choose another number after `xor`, such as `20`",
            ));
        } else if escape.xor == 0 && bytes.iter().any(|byte| *byte != escape.escape) {
            let message = "an escape that changes nothing (`xor 00`) can only double itself: other bytes would go out as they are";
            let help = format!("write `of {:02X}` alone, or another number after `xor`, such as `20`", escape.escape);
            self.report(Finding::new(Code::BadStuffing, place, message, help));
        }
        Some(escape)
    }

    /// `3.5 characters` or `2 ms`, behind the word `gap`.
    fn gap(&mut self) -> Option<FrameEnd> {
        let number = self.number("how long the silence lasts, as in `gap 3.5 characters` or `gap 2 ms`")?;
        if !self.eat_word("characters") && !self.eat_word("character") {
            return self.duration_of(number).map(FrameEnd::IdleTime);
        }
        if number.value.mantissa <= 0 {
            self.report(Finding::new(
                Code::BadNumber,
                number.span,
                "a gap must be longer than 0",
                "write, for example, `gap 3.5 characters`",
            ));
            return None;
        }
        Some(FrameEnd::IdleCharacters(number.value))
    }

    fn part(&mut self) -> Option<PartItem> {
        let doc = self.take_doc();
        let name = self.name("a part of the frame")?;
        match name.text.as_str() {
            "sync" => {
                let mut bytes = Vec::new();
                while !self.at_line_end() {
                    bytes.push(self.byte("write `sync C6 39`")?);
                }
                if bytes.is_empty() {
                    return self.unexpected("the sync bytes", "write `sync C6 39`");
                }
                Some(PartItem { doc, name, kind: PartKind::Sync(bytes) })
            }
            "body" if !self.is_punct(':') => Some(PartItem { doc, name, kind: PartKind::Body }),
            _ => {
                self.expect_punct(':', "a part is `sync BYTES`, `body`, or `name : TYPE ROLE`")?;
                let (bits, hex) = match self.hex_digits()? {
                    Some(digits) => (4 * digits, true),
                    None => (self.unsigned_type()?, false),
                };
                let place = self.peek().span;
                let order = match self.text_of(self.peek()) {
                    "be" => Some((ByteOrder::Big, place)),
                    "le" => Some((ByteOrder::Little, place)),
                    _ => None,
                };
                if order.is_some() {
                    self.next();
                }
                let start = self.peek().span.start;
                let role = self.role()?;
                let span = Span::new(start, self.previous_end());
                Some(PartItem { doc, name, kind: PartKind::Value { bits, hex, order, role, span } })
            }
        }
    }

    /// `hex2`: a value that stands there in so many digits.
    fn hex_digits(&mut self) -> Option<Option<u8>> {
        let word = self.text_of(self.peek());
        let Some(digits) = word.strip_prefix("hex") else { return Some(None) };
        match digits.parse::<u8>() {
            Ok(digits @ 1..=16) => {
                self.next();
                Some(Some(digits))
            }
            _ => self.unexpected("a number of hex digits from 1 to 16", "write it right after the word, as in `hex2`"),
        }
    }

    fn role(&mut self) -> Option<RoleItem> {
        if self.eat_punct('=') {
            return Some(RoleItem::Fixed(self.number("the value")?));
        }
        let token = self.peek();
        if token.kind != TokenKind::Word {
            return self.unexpected(
                "what this part says",
                "one of: message, length of A..B, address, sequence, revision, same as PART, ALGORITHM over A..B, = VALUE",
            );
        }
        let role = match self.text_of(token) {
            "message" => RoleItem::Message,
            "address" => {
                self.next();
                let mut all = None;
                if self.peek().kind == TokenKind::Number {
                    all = Some(self.number("the node that means all of them")?);
                    let help = "write `address 0 for all`";
                    self.expect_word("for", help)?;
                    self.expect_word("all", help)?;
                }
                return Some(RoleItem::Address { all });
            }
            "same" => {
                self.next();
                self.expect_word("as", "write `same as size` or `same as size inverted`")?;
                let part = self.name("another part of the frame")?;
                return Some(RoleItem::Same { part, inverted: self.eat_word("inverted") });
            }
            "sequence" => RoleItem::Sequence,
            "revision" => RoleItem::Revision,
            "length" => {
                self.next();
                self.expect_word("of", "write `length of body` or `length of node..check`")?;
                let (from, to) = self.parts_range()?;
                let mut unit = 1;
                if self.eat_word("in") {
                    unit = self.whole("a number of bytes", 1, 255, Code::BadSize)?.0 as u32;
                    if !self.eat_word("bytes") && !self.eat_word("byte") {
                        return self.unexpected("`bytes`", "write `length of body in 2 bytes`");
                    }
                }
                return Some(RoleItem::Length { from, to, unit });
            }
            _ => return self.checksum(),
        };
        self.next();
        Some(role)
    }

    /// `NAME` or `NAME..NAME`
    fn parts_range(&mut self) -> Option<(Name, Name)> {
        let from = self.name("a part of the frame")?;
        if self.peek().kind != TokenKind::DotDot {
            return Some((from.clone(), from));
        }
        self.next();
        let to = self.name("a part of the frame")?;
        Some((from, to))
    }

    /// An algorithm with the values that change it: `crc-16/ibm-3740 start 0 final xor 0xFFFF`.
    /// `roles` are the words that could have stood in its place.
    pub(super) fn algorithm_with_values(&mut self, roles: &[&'static str]) -> Option<(Algorithm, String)> {
        let (mut algorithm, name) = self.algorithm(roles)?;
        loop {
            if self.eat_word("start") {
                let (value, _) = self.checksum_number(algorithm.bits())?;
                algorithm = algorithm.with_start(value);
            } else if self.eat_word("final") {
                self.expect_word("xor", "write `final xor 0xFFFF`")?;
                let (value, _) = self.checksum_number(algorithm.bits())?;
                algorithm = algorithm.with_final_xor(value);
            } else {
                break;
            }
        }
        Some((algorithm, name))
    }

    fn checksum(&mut self) -> Option<RoleItem> {
        let (algorithm, name) = self.algorithm_with_values(ROLE_WORDS)?;
        self.expect_word("over", "say which parts it covers: `crc-16/ibm-3740 over node..body`")?;
        let mut over = Vec::new();
        loop {
            let range = self.parts_range()?;
            over.push(range);
            if !self.eat_punct(',') {
                break;
            }
        }
        let skipping = self.eat_word("skipping");
        Some(RoleItem::Checksum { algorithm, name, over, skipping })
    }

    fn checksum_number(&mut self, bits: u8) -> Option<(u64, Span)> {
        let greatest = if bits == 64 { i128::from(u64::MAX) } else { (1 << bits) - 1 };
        self.whole("a value of the checksum's width", 0, greatest, Code::BadNumber)
            .map(|(value, span)| (value as u64, span))
    }

    fn algorithm(&mut self, roles: &[&'static str]) -> Option<(Algorithm, String)> {
        let first = self.peek();
        let mut end = self.next().span.end;
        let mut name = self.text_of(first).to_owned();
        // A catalogue name such as `crc-16/ibm-3740` is several tokens without space between them.
        while self.peek().span.start == end
            && matches!(
                self.peek().kind,
                TokenKind::Word | TokenKind::Number | TokenKind::Mixed | TokenKind::Punct('-' | '/')
            )
        {
            let token = self.next();
            end = token.span.end;
            name.push_str(self.text_of(token));
        }
        let span = Span::new(first.span.start, end);
        if name == "crc" && self.peek().kind == TokenKind::Number {
            return self.spelled_crc().map(|crc| (Algorithm::Crc(crc), "crc".to_owned()));
        }
        if matches!(name.as_str(), "sum8" | "sum16") && self.eat_word("negated") {
            name.push_str(" negated");
        }
        if let Some(algorithm) = Algorithm::named(&name) {
            return Some((algorithm, name));
        }
        let candidates = Algorithm::names().chain(roles.iter().copied());
        let help = match crate::algorithm::also_called(&name) {
            [] => None,
            known => Some(known.join(", or ")),
        };
        let help = match help.or_else(|| nearest(&name, candidates).map(|near| format!("`{near}`"))) {
            Some(near) => format!("did you mean {near}? `emberwort checksum --list` prints all names"),
            None if roles.is_empty() => "`emberwort checksum --list` prints all names".to_owned(),
            None => {
                "a role is message, length of A..B, address, sequence, revision, same as PART, = VALUE, or a checksum: \
                     `emberwort checksum --list` prints their names"
                    .to_owned()
            }
        };
        let message = match roles {
            [] => format!("`{name}` is not a known checksum"),
            _ => format!("`{name}` is neither a role of a frame part nor a known checksum"),
        };
        self.report(Finding::new(Code::UnknownAlgorithm, span, message, help).label("not known"));
        None
    }

    /// `16 poly 0x1021 init 0xFFFF reflect in reflect out`, behind the word `crc`.
    fn spelled_crc(&mut self) -> Option<Crc> {
        let (width, _) = self.whole("a CRC's width", 3, 64, Code::BadWidth)?;
        let width = width as u8;
        self.expect_word("poly", "a spelled-out CRC is `crc 16 poly 0x1021 init 0xFFFF over node..body`")?;
        let (polynomial, span) = self.checksum_number(width)?;
        if polynomial & 1 == 0 {
            self.report(even_polynomial(width, polynomial, span));
            return None;
        }
        let mut crc = Crc { width, polynomial, initial: 0, reflect_in: false, reflect_out: false, final_xor: 0 };
        loop {
            if self.eat_word("init") {
                crc.initial = self.checksum_number(width)?.0;
            } else if self.eat_word("reflect") {
                if self.eat_word("in") {
                    crc.reflect_in = true;
                } else if self.eat_word("out") {
                    crc.reflect_out = true;
                } else {
                    return self.unexpected("`in` or `out`", "write `reflect in reflect out` for a mirrored CRC");
                }
            } else {
                return Some(crc);
            }
        }
    }
}

/// The finding about a polynomial whose last term is missing, mostly since it was written the other way around.
fn even_polynomial(width: u8, polynomial: u64, span: Span) -> Finding {
    let digits = usize::from(width).div_ceil(4);
    let mirrored = polynomial.reverse_bits() >> (64 - u32::from(width));
    let help = match mirrored & 1 {
        1 => format!(
            "0x{polynomial:0digits$X} is 0x{mirrored:0digits$X} with its bits in reverse order, as programs have it that shift to the right: write \
             `crc {width} poly 0x{mirrored:0digits$X} reflect in reflect out`"
        ),
        _ => "write it without its highest term, most significant bit first, as in `crc 16 poly 0x1021`".to_owned(),
    };
    let message = format!("the polynomial of a CRC is odd, and 0x{polynomial:0digits$X} is even");
    Finding::new(Code::BadPolynomial, span, message, help).label("its last bit is 0")
}
