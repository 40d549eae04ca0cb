//! Channels and their frames: media, limits, parts and roles.

use super::ast::{ChannelItem, FrameEnd, FrameItem, Medium, Name, PartItem, PartKind, RoleItem};
use super::lexer::TokenKind;
use super::parser::Parser;
use crate::algorithm::{Algorithm, Crc};
use crate::diagnostics::{Code, Finding, nearest};
use crate::source::Span;

const CHANNEL_WORDS: &[&str] = &["medium", "limit", "frame", "stuffing", "packet"];
const ROLE_WORDS: &[&str] = &["message", "length", "address", "sequence", "revision"];

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
                let kind = self.peek();
                match self.text_of(kind) {
                    "cobs" => {
                        self.next();
                        let span = token.span.to(kind.span);
                        self.once(&mut item.finding, (FrameEnd::Cobs, span), "stuffing", token.span);
                    }
                    "slip" | "hdlc" | "escape" => {
                        let help = "use `stuffing cobs`, or `sync` bytes with a length part, for now";
                        return self.not_built_yet(kind.span, "stuffings other than `cobs`", help);
                    }
                    _ => return self.unknown_word("as a stuffing", &["cobs", "slip", "hdlc", "escape"]),
                }
            }
            "lines" | "gap" | "select" => {
                let help = "use `sync` with a length part, `stuffing cobs` or `packet`, and a `message` part, for now";
                return self.not_built_yet(token.span, &format!("`{word}` channels"), help);
            }
            "frame" => {
                self.next();
                if self.is_word("from") {
                    let span = self.peek().span;
                    let help = "describe one frame for both directions for now";
                    return self.not_built_yet(span, "frames that differ by direction", help);
                }
                let mut parts = Vec::new();
                self.block(|p| {
                    let part = p.part()?;
                    parts.push(part);
                    Some(())
                })?;
                self.once(&mut item.frame, FrameItem { parts, span: token.span }, "frame", token.span);
            }
            _ => return self.unknown_word("in a channel", CHANNEL_WORDS),
        }
        Some(())
    }

    fn medium(&mut self) -> Option<Medium> {
        let token = self.peek();
        match self.text_of(token) {
            "uart" => {
                self.next();
                let (baud, _) = self.whole("a speed in bits a second", 1, 100_000_000, Code::BadNumber)?;
                let format = self.peek();
                let bad = "write data bits, parity and stop bits, as in `uart 115200 8N1`";
                let &[data, parity, stop] = self.text_of(format).as_bytes() else {
                    return self.unexpected("a character format", bad);
                };
                if !(b'5'..=b'9').contains(&data) || !b"NEO".contains(&parity) || !b"12".contains(&stop) {
                    return self.unexpected("a character format", bad);
                }
                self.next();
                Some(Medium::Uart {
                    baud: baud as u32,
                    data_bits: data - b'0',
                    parity: parity as char,
                    stop_bits: stop - b'0',
                })
            }
            "udp" => {
                self.next();
                let (port, _) = self.whole("a UDP port", 1, 65_535, Code::BadNumber)?;
                Some(Medium::Udp { port: port as u16 })
            }
            "spi" | "i2c" | "can" | "lora" | "tcp" | "stream" => {
                self.not_built_yet(token.span, "media other than `uart` and `udp`", "use one of these two for now")
            }
            _ => self.unknown_word("as a medium", &["uart", "udp", "spi", "i2c", "can", "lora", "tcp", "stream"]),
        }
    }

    fn part(&mut self) -> Option<PartItem> {
        let doc = self.take_doc();
        let name = self.name("a part of the frame")?;
        match name.text.as_str() {
            "sync" => {
                let mut bytes = Vec::new();
                while !self.at_line_end() {
                    let token = self.peek();
                    let text = self.text_of(token);
                    match u8::from_str_radix(text, 16) {
                        Ok(byte) if text.len() == 2 => bytes.push(byte),
                        _ => return self.unexpected("a byte of two hex digits", "write `sync C6 39`"),
                    }
                    self.next();
                }
                if bytes.is_empty() {
                    return self.unexpected("the sync bytes", "write `sync C6 39`");
                }
                Some(PartItem { doc, name, kind: PartKind::Sync(bytes) })
            }
            "body" if !self.is_punct(':') => Some(PartItem { doc, name, kind: PartKind::Body }),
            _ => {
                self.expect_punct(':', "a part is `sync BYTES`, `body`, or `name : TYPE ROLE`")?;
                let bits = self.unsigned_type()?;
                let start = self.peek().span.start;
                let role = self.role()?;
                let span = Span::new(start, self.previous_end());
                Some(PartItem { doc, name, kind: PartKind::Value { bits, role, span } })
            }
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
                "one of: message, length of A..B, address, sequence, revision, ALGORITHM over A..B, = VALUE",
            );
        }
        let role = match self.text_of(token) {
            "message" => RoleItem::Message,
            "address" => RoleItem::Address,
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
    pub(super) fn algorithm_with_values(&mut self) -> Option<(Algorithm, String)> {
        let (mut algorithm, name) = self.algorithm()?;
        loop {
            if self.eat_word("start") {
                let (value, _) = self.checksum_number(algorithm.bits())?;
                match &mut algorithm {
                    Algorithm::Crc(crc) => crc.initial = value,
                    Algorithm::Internet { start, .. } => *start = value as u16,
                    Algorithm::Sum8 { start, .. } | Algorithm::Xor8 { start, .. } => *start = value as u8,
                }
            } else if self.eat_word("final") {
                self.expect_word("xor", "write `final xor 0xFFFF`")?;
                let (value, _) = self.checksum_number(algorithm.bits())?;
                match &mut algorithm {
                    Algorithm::Crc(crc) => crc.final_xor = value,
                    Algorithm::Internet { final_xor, .. } => *final_xor = value as u16,
                    Algorithm::Sum8 { final_xor, .. } | Algorithm::Xor8 { final_xor, .. } => *final_xor = value as u8,
                }
            } else {
                break;
            }
        }
        Some((algorithm, name))
    }

    fn checksum(&mut self) -> Option<RoleItem> {
        let (algorithm, name) = self.algorithm_with_values()?;
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

    fn algorithm(&mut self) -> Option<(Algorithm, String)> {
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
        if matches!(name.as_str(), "sum16" | "fletcher16" | "fletcher32" | "adler32")
            || (name == "sum8" && self.is_word("negated"))
        {
            return self.not_built_yet(
                span,
                "these checksums",
                "use a CRC of the catalogue, `internet`, `sum8` or `xor8` for now",
            );
        }
        if let Some(algorithm) = Algorithm::named(&name) {
            return Some((algorithm, name));
        }
        let candidates = Algorithm::names().chain(ROLE_WORDS.iter().copied());
        let help = match nearest(&name, candidates) {
            Some(near) => format!("did you mean `{near}`? `emberwort checksum --list` prints all names"),
            None => "a role is message, length of A..B, address, sequence, revision, = VALUE, or a checksum: \
                     `emberwort checksum --list` prints their names"
                .to_owned(),
        };
        self.report(
            Finding::new(
                Code::UnknownAlgorithm,
                span,
                format!("`{name}` is neither a role of a frame part nor a known checksum"),
                help,
            )
            .label("not known"),
        );
        None
    }

    /// `16 poly 0x1021 init 0xFFFF reflect in reflect out`, behind the word `crc`.
    fn spelled_crc(&mut self) -> Option<Crc> {
        let (width, _) = self.whole("a CRC's width", 3, 64, Code::BadWidth)?;
        let width = width as u8;
        self.expect_word("poly", "a spelled-out CRC is `crc 16 poly 0x1021 init 0xFFFF over node..body`")?;
        let (polynomial, _) = self.checksum_number(width)?;
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
