//! Media: what a channel runs over, with the words that say how bits stand there.

use super::lexer::TokenKind;
use super::parser::Parser;
use crate::diagnostics::{Code, Finding};
use crate::medium::{BitCode, BitFrame, LineCode, Medium, MediumKind, Pulse, SpiWords, UartFormat, UsbSpeed};
use crate::number::Decimal;

/// The speed of an Ethernet that says no other.
const ETHERNET_BITRATE: u32 = 100_000_000;

impl Parser<'_> {
    pub(super) fn medium(&mut self) -> Option<Medium> {
        let kind = self.medium_kind()?;
        let mut medium = Medium { kind, sending: None };
        if self.eat_word("tx") {
            let help = "write `tx 44 mA at 3.3 V`: the current while sending, and the supply";
            let current = self.number("the current while sending")?;
            self.expect_word("mA", help)?;
            self.expect_word("at", help)?;
            let voltage = self.number("the supply's voltage")?;
            self.expect_word("V", help)?;
            medium.sending = Some((current.value, voltage.value));
        }
        Some(medium)
    }

    fn medium_kind(&mut self) -> Option<MediumKind> {
        let token = self.peek();
        let word = self.text_of(token);
        if !MediumKind::WORDS.contains(&word) || token.kind != TokenKind::Word {
            return self.unknown_word("as a medium", MediumKind::WORDS);
        }
        self.next();
        Some(match word {
            "uart" => MediumKind::Uart(self.uart_format()?),
            "line" => MediumKind::Line(self.line_code()?),
            "udp" | "tcp" => {
                let port = self.whole("a port", 1, 65_535, Code::BadNumber)?.0 as u16;
                let ipv6 = self.eat_word("ipv6");
                let bitrate =
                    if self.eat_word("at") { self.speed("bit/s", "udp 4850 at 100 Mbit/s")? } else { ETHERNET_BITRATE };
                if word == "udp" {
                    MediumKind::Udp { port, ipv6, bitrate }
                } else {
                    MediumKind::Tcp { port, ipv6, bitrate }
                }
            }
            "spi" => MediumKind::Spi { hertz: self.speed("Hz", "spi 2 MHz")?, words: self.spi_words()? },
            "i2c" => MediumKind::I2c { hertz: self.speed("Hz", "i2c 400 kHz")? },
            "usb" => {
                let speed = match () {
                    () if self.eat_word("low") => UsbSpeed::Low,
                    () if self.eat_word("full") => UsbSpeed::Full,
                    () => return self.unexpected("a speed", "write `usb low` or `usb full`"),
                };
                MediumKind::Usb { speed }
            }
            "stream" => MediumKind::Stream { bitrate: self.speed("bit/s", "stream 1 Mbit/s")? },
            "can" => {
                let bitrate = self.speed("bit/s", "can 250 kbit/s")?;
                let (mut data_bitrate, mut sample) = (None, None);
                loop {
                    let start = self.peek().span;
                    if self.eat_word("fd") {
                        let speed = self.speed("bit/s", "can 500 kbit/s fd 2 Mbit/s")?;
                        self.once(&mut data_bitrate, speed, "fd", start);
                    } else if self.eat_word("sample") {
                        let (percent, _) = self.whole("a part of a bit in percent", 50, 95, Code::BadNumber)?;
                        self.expect_punct('%', "write `sample 80 %`")?;
                        self.once(&mut sample, percent as u8, "sample", start);
                    } else {
                        break MediumKind::Can { bitrate, data_bitrate, sample };
                    }
                }
            }
            _ => return self.lora(),
        })
    }

    fn lora(&mut self) -> Option<MediumKind> {
        let token = self.peek();
        let spreading = self.text_of(token).strip_prefix("sf").and_then(|digits| digits.parse::<u8>().ok());
        let Some(spreading) = spreading.filter(|spreading| (7..=12).contains(spreading)) else {
            return self
                .unexpected("a spreading factor", "write `sf7` to `sf12`, as in `lora sf9 125 kHz 4/5 duty 1 %`");
        };
        self.next();
        let bandwidth = self.speed("Hz", "lora sf9 125 kHz 4/5")?;
        let bad = "write a coding rate from `4/5` to `4/8`";
        if self.text_of(self.peek()) != "4" {
            return self.unexpected("a coding rate", bad);
        }
        self.next();
        self.expect_punct('/', bad)?;
        let (coding, _) = self.whole("a coding rate", 5, 8, Code::BadNumber)?;
        let (mut duty, mut overhead) = (None, None);
        loop {
            let start = self.peek().span;
            if self.eat_word("duty") {
                let share = self.number("a share of the time")?;
                self.expect_punct('%', "write `duty 1 %`")?;
                self.once(&mut duty, share.value, "duty", start);
            } else if self.eat_word("overhead") {
                let (bytes, _) = self.whole("a number of bytes", 0, 200, Code::BadSize)?;
                if !self.eat_word("bytes") && !self.eat_word("byte") {
                    return self.unexpected("`bytes`", "write `overhead 13 bytes`");
                }
                self.once(&mut overhead, bytes as u32, "overhead", start);
            } else {
                return Some(MediumKind::Lora { spreading, bandwidth, coding: coding as u8, duty, overhead });
            }
        }
    }

    /// Speed and form of the characters of a serial line.
    fn uart_format(&mut self) -> Option<UartFormat> {
        const BAD: &str = "write data bits, parity and stop bits, as in `uart 115200 8N1`";
        let (baud, _) = self.whole("a speed in bits a second", 1, 100_000_000, Code::BadNumber)?;
        let token = self.peek();
        // `8N1.5` is a word, a point and a number.
        let longest = self.text_at(token.span.start, 5).filter(|text| text.ends_with("1.5"));
        let text = longest.unwrap_or(self.text_of(token)).to_owned();
        let upper = text.to_ascii_uppercase();
        let &[data @ b'5'..=b'9', parity @ (b'N' | b'E' | b'O' | b'M' | b'S'), ref stop @ ..] = upper.as_bytes() else {
            return self.unexpected("a character format", BAD);
        };
        let stop_halves = match stop {
            b"1" => 2,
            b"1.5" => 3,
            b"2" => 4,
            _ => return self.unexpected("a character format", BAD),
        };
        if upper != text {
            return self.unexpected("a character format in capitals", &format!("write `uart {baud} {upper}`"));
        }
        let end = token.span.start + text.len();
        while self.peek().span.start < end {
            self.next();
        }
        let (mut rests_low, mut order) = (None, None);
        loop {
            let start = self.peek().span;
            if self.is_word("resting") {
                let rests_high = self.rest()?;
                self.once(&mut rests_low, !rests_high, "the level at rest", start);
            } else if self.is_word("lsb") || self.is_word("msb") {
                let is_lsb_first = self.bit_order()?;
                self.once(&mut order, !is_lsb_first, "the order of bits", start);
            } else {
                return Some(UartFormat {
                    baud: baud as u32,
                    data_bits: data - b'0',
                    parity: parity as char,
                    stop_halves,
                    rests_low: rests_low.unwrap_or(false),
                    is_msb_first: order.unwrap_or(false),
                });
            }
        }
    }

    /// `resting high` or `resting low`: whether it is high.
    fn rest(&mut self) -> Option<bool> {
        self.expect_word("resting", "write `resting high` or `resting low`")?;
        self.level()
    }

    fn level(&mut self) -> Option<bool> {
        match () {
            () if self.eat_word("low") => Some(false),
            () if self.eat_word("high") => Some(true),
            () => self.unexpected("a level", "write `low` or `high`"),
        }
    }

    /// `lsb first` or `msb first`: whether the least significant bit is.
    fn bit_order(&mut self) -> Option<bool> {
        let is_lsb_first = self.eat_word("lsb") || !self.eat_word("msb");
        self.expect_word("first", "write `lsb first` or `msb first`")?;
        Some(is_lsb_first)
    }

    /// `0` or `1`.
    fn bit(&mut self) -> Option<bool> {
        self.whole("a bit", 0, 1, Code::BadNumber).map(|(bit, _)| bit == 1)
    }

    /// What is said of the words of a serial peripheral interface, in any order.
    fn spi_words(&mut self) -> Option<SpiWords> {
        let (mut mode, mut bits, mut order, mut select, mut edges, mut words) =
            (None, None, None, None, [None; 2], None);
        loop {
            let start = self.peek().span;
            if self.eat_word("mode") {
                let (number, _) = self.whole("a mode", 0, 3, Code::BadNumber)?;
                self.once(&mut mode, number as u8, "mode", start);
            } else if self.eat_word("word") {
                let (number, _) = self.whole("a number of bits", 1, 64, Code::BadSize)?;
                if !self.eat_word("bits") && !self.eat_word("bit") {
                    return self.unexpected("`bits`", "write `word 16 bits`");
                }
                self.once(&mut bits, number as u8, "word", start);
            } else if self.is_word("lsb") || self.is_word("msb") {
                let is_lsb_first = self.bit_order()?;
                self.once(&mut order, is_lsb_first, "the order of bits", start);
            } else if self.eat_word("select") {
                let level = match () {
                    () if self.eat_word("low") => Some(false),
                    () if self.eat_word("high") => Some(true),
                    () if self.eat_word("none") => None,
                    () => return self.unexpected("a level", "write `select low`, `select high`, or `select none`"),
                };
                self.once(&mut select, level, "select", start);
            } else if self.is_word("device") || self.is_word("host") {
                let end = usize::from(self.eat_word("host") || !self.eat_word("device"));
                self.expect_word("edge", "write `device edge falling` or `host edge rising`")?;
                let rises = match () {
                    () if self.eat_word("rising") => true,
                    () if self.eat_word("falling") => false,
                    () => return self.unexpected("an edge", "write `rising` or `falling`"),
                };
                self.once(&mut edges[end], rises, "this edge", start);
            } else if self.is_word("frame") && self.counts_words() {
                self.next();
                let (number, _) = self.whole("a number of words", 1, 65_535, Code::BadSize)?;
                if !self.eat_word("words") && !self.eat_word("word") {
                    return self.unexpected("`words`", "write `frame 2 words`");
                }
                self.once(&mut words, number as u16, "frame", start);
            } else {
                let usual = SpiWords::default();
                return Some(SpiWords {
                    mode: mode.unwrap_or(usual.mode),
                    bits: bits.unwrap_or(usual.bits),
                    is_lsb_first: order.unwrap_or(usual.is_lsb_first),
                    select: select.unwrap_or(usual.select),
                    edges,
                    words,
                });
            }
        }
    }

    /// Whether a number comes behind the word at hand: `frame 2 words` of a medium, and not the frame of the channel.
    fn counts_words(&self) -> bool {
        self.peek_after(1).kind == TokenKind::Number
    }

    /// `..`, if it comes next.
    fn eat_range(&mut self) -> bool {
        let is_next = self.peek().kind == TokenKind::DotDot;
        if is_next {
            self.next();
        }
        is_next
    }

    /// The code of a line of one wire, and how its frames are made of bits.
    fn line_code(&mut self) -> Option<LineCode> {
        const CODES: &str =
            "write `nrz`, `nrzi 0 toggles`, `manchester 1 rises`, or `manchester differential 0 splits`";
        let bits = if self.eat_word("pulse") {
            self.pulse_code()?
        } else {
            let bitrate = self.speed("bit/s", "line 10 kbit/s manchester 1 rises")?;
            match () {
                () if self.eat_word("nrz") => BitCode::Nrz { bitrate },
                () if self.eat_word("nrzi") => {
                    let toggles = self.bit()?;
                    self.expect_word("toggles", "write `nrzi 0 toggles` or `nrzi 1 toggles`")?;
                    let stuff = if self.eat_word("stuff") {
                        Some(self.whole("a number of bits", 2, 64, Code::BadNumber)?.0 as u8)
                    } else {
                        None
                    };
                    BitCode::Nrzi { bitrate, toggles, stuff }
                }
                () if self.eat_word("manchester") => {
                    if self.eat_word("differential") {
                        let splits = self.bit()?;
                        self.expect_word("splits", "write `manchester differential 0 splits`")?;
                        BitCode::Differential { bitrate, splits }
                    } else {
                        let bit = self.bit()?;
                        let rises = match () {
                            () if self.eat_word("rises") => true,
                            () if self.eat_word("falls") => false,
                            () => return self.unexpected("`rises` or `falls`", CODES),
                        };
                        BitCode::Manchester { bitrate, one_rises: bit == rises }
                    }
                }
                () => return self.unexpected("a line code", CODES),
            }
        };
        let (mut preamble, mut start_bit, mut end, mut order, mut rests_high) = (None, None, None, None, None);
        loop {
            let start = self.peek().span;
            if self.eat_word("preamble") {
                let (count, _) = self.whole("a number of bits", 1, 1000, Code::BadSize)?;
                self.expect_word("of", "write `preamble 16 of 1`")?;
                let bit = self.bit()?;
                self.once(&mut preamble, (count as u16, bit), "preamble", start);
            } else if self.eat_word("start") {
                let bit = self.bit()?;
                self.once(&mut start_bit, bit, "start", start);
            } else if self.eat_word("end") {
                let bit = self.bit()?;
                self.once(&mut end, bit, "end", start);
            } else if self.is_word("lsb") || self.is_word("msb") {
                let is_lsb_first = self.bit_order()?;
                self.once(&mut order, is_lsb_first, "the order of bits", start);
            } else if self.is_word("resting") {
                let level = self.rest()?;
                self.once(&mut rests_high, level, "the level at rest", start);
            } else {
                let frame = BitFrame { preamble, start: start_bit, end, is_lsb_first: order.unwrap_or(false) };
                let code = LineCode { bits, frame, rests_high: rests_high.unwrap_or(false) };
                if let Some((why, help)) = code.cannot_be_read() {
                    self.report(Finding::new(Code::BadNumber, start, why, help));
                    return None;
                }
                return Some(code);
            }
        }
    }

    /// `pulse high 0 90..110 us 1 190..210 us`, or with `tolerance 10 %` behind `0 100 us 1 200 us`.
    fn pulse_code(&mut self) -> Option<BitCode> {
        let token = self.peek();
        let known = Pulse::ALL.iter().find(|(word, _)| self.is_word(word));
        let Some((_, what)) = known else {
            return self.unexpected("what lasts", "write `pulse high`, `low`, `rising`, `falling` or `half`");
        };
        self.next();
        let (mut ranges, mut has_range) = ([(0, 0); 2], false);
        for (expected, range) in ranges.iter_mut().enumerate() {
            let span = self.peek().span;
            if self.bit()? != (expected == 1) {
                let why = "the 0 comes first, then the 1";
                let help = "write `pulse high 0 100 us 1 200 us tolerance 10 %`";
                self.report(Finding::new(Code::BadNumber, span, why, help));
                return None;
            }
            let first = self.number("how long it lasts")?;
            *range = if self.eat_range() {
                let second = self.number("the longest")?;
                let unit = self.unit_of_time()?;
                (self.duration_in(first, unit)?, self.duration_in(second, unit)?)
            } else {
                let least = self.duration_of(first)?;
                (least, if self.eat_range() { self.duration()? } else { least })
            };
            has_range |= range.0 != range.1;
            if range.0 > range.1 {
                let why = "the shortest is longer than the longest";
                self.report(Finding::new(Code::BadNumber, span, why, "write the shorter one first: `90..110 us`"));
                return None;
            }
        }
        if self.eat_word("tolerance") {
            let (percent, span) = self.whole("a tolerance in percent", 1, 90, Code::BadNumber)?;
            self.expect_punct('%', "write `tolerance 10 %`")?;
            if has_range {
                let why = "a tolerance beside a shortest and a longest";
                self.report(Finding::new(Code::BadNumber, span, why, "write the one or the other"));
                return None;
            }
            for (least, most) in &mut ranges {
                *least -= *least * percent as u64 / 100;
                *most += *most * percent as u64 / 100;
            }
        } else if !has_range {
            return self.unexpected("how exact that is", "write `tolerance 10 %`, or ranges such as `90..110 us`");
        }
        let [zero, one] = ranges;
        if zero.0 <= one.1 && one.0 <= zero.1 {
            let why = "some durations would be a 0 and a 1";
            let help = "let the two ranges not overlap";
            self.report(Finding::new(Code::BadNumber, token.span, why, help));
            return None;
        }
        Some(BitCode::Pulse { what: *what, zero, one })
    }

    /// A speed: a plain number, or one with a unit such as `kHz` or `Mbit/s`.
    pub(super) fn speed(&mut self, unit: &str, example: &str) -> Option<u32> {
        let number = self.number("a speed")?;
        let mut factor = 1i128;
        let start = self.peek();
        if start.kind == TokenKind::Word {
            let (prefix, times) = match self.text_of(start).as_bytes() {
                [b'k', ..] => ("k", 1_000),
                [b'M', ..] => ("M", 1_000_000),
                _ => ("", 1),
            };
            let wanted = format!("{prefix}{unit}");
            if self.text_at(start.span.start, wanted.len()) == Some(wanted.as_str()) {
                factor = times;
                let end = start.span.start + wanted.len();
                while self.peek().span.start < end {
                    self.next();
                }
            }
        }
        let Decimal { mantissa, decimals } = number.value;
        let value = mantissa.checked_mul(factor).zip(10i128.checked_pow(decimals));
        match value.filter(|(value, unit)| value % unit == 0).map(|(value, unit)| value / unit) {
            Some(value) if (1..=2_000_000_000).contains(&value) => Some(value as u32),
            _ => {
                self.report(Finding::new(
                    Code::BadNumber,
                    number.span,
                    format!(
                        "{} is not a usable speed: it must be a whole number of {unit} up to 2,000,000,000",
                        number.value
                    ),
                    format!("write, for example, `{example}`"),
                ));
                None
            }
        }
    }
}
