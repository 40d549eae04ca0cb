//! Receivers: fed byte by byte, they give out the good frames, and those that nobody can read.

use std::cmp::Ordering;

use emberwort_model::budget::wire_time;
use emberwort_model::model::MediumKind;
use emberwort_model::plan::{FrameFinder, Part, Zone};
use emberwort_model::stuffing::Stuffing;

use super::Channel;
use super::build::Replaced;
use crate::c::tree::{Case, Stmt, Test, expr, print};
use crate::c::words::constant;
use crate::code::Code;
use crate::lower::frame::{Beginning, Size, beginning, fixed_parts, right};

impl Channel<'_> {
    pub(super) fn receiver(&self, header: &mut Code, source: &mut Code) {
        let Self { stem, link, link_upper, upper, plan, .. } = self;
        let inside = match self.plan.looks_inside_unread() {
            true => {
                "There is no checksum: after each frame that is broken or cannot be read it looks on one byte after its start, and counts each that it finds there as unread."
            }
            false if self.begins_anywhere() => {
                "After a broken frame it looks on one byte after its start; other frames are taken whole."
            }
            false => "After a broken frame it looks on behind its end; all frames are taken whole.",
        };
        let more = match plan.finder {
            FrameFinder::Stuffed(_) | FrameFinder::Lines { .. } => {
                "    size_t looked; /* bytes from `start` on that were looked at */\n    bool skipping;\n"
            }
            FrameFinder::Escaped(_) => {
                "    size_t read; /* bytes that are in plain already */\n    size_t size; /* of plain */\n"
            }
            FrameFinder::Idle { .. } => {
                "    size_t whole; /* bytes from `start` on behind which nothing came for a while */\n    bool skipping;\n"
            }
            FrameFinder::Sync => "    size_t needed; /* with fewer bytes nothing new can be said */\n",
            FrameFinder::StatusBytes { .. } => Self::status_fields(),
            _ => "",
        };
        let places = match plan.finder {
            FrameFinder::StatusBytes { .. } => "",
            _ => {
                "    size_t start; /* first byte of no frame yet */\n    size_t end; /* of the bytes that are there */\n"
            }
        };
        // The place of a status byte that was left out.
        let front = if matches!(plan.finder, FrameFinder::StatusBytes { .. }) { " + 1u" } else { "" };
        let plain = match plan.finder {
            FrameFinder::Escaped(_) => format!("    uint8_t plain[{upper}_LIMIT];\n"),
            _ => String::new(),
        };
        let silence = match plan.finder {
            FrameFinder::Idle { nanoseconds } => format!(
                "/* Nothing came for {nanoseconds} ns: the frame is complete. One frame can wait for ..._next(). */\n\
                 {link_upper}_FUNCTION void {stem}_receiver_silence({stem}_receiver_t *receiver);\n"
            ),
            _ => String::new(),
        };
        let gap = self.gap_call();
        // Each byte begins what reaches to the last one.
        let worst = match self.begins_anywhere() && plan.has_checksum() {
            true => format!(
                "* Most work of one byte: all bytes that wait are looked through for frames, with checksums of up to {} bytes in all; they are\n \
                 * then given up, and cost nothing more.\n ",
                plan.limit.saturating_mul(plan.limit + 1) / 2
            ),
            false => String::new(),
        };
        header.lines(&format!(
            "/* Finds frames in a stream. After each byte call ..._next() until it returns false, or give chunks of any size to\n \
              * ..._feed(); a frame points into the receiver and is valid until the next call. `result` says of the frame given out\n \
              * last whether its body can be read: {link_upper}_OK, or why not, as {link_upper}_UNKNOWN_MESSAGE, so that the other\n \
              * end can be told.\n \
              * {inside}\n \
{worst}              *\n \
              * All calls for one receiver belong to one context: if an interrupt takes the bytes, let it put them into a queue,\n \
              * and the main loop put them in here. */\n\
             typedef struct {stem}_receiver_t {{\n    \
                 bool ended;\n    \
                 {link}_codec_result_t result; /* of the frame given out last */\n\
                 {places}{more}    \
                 uint32_t good_frames;\n    \
                 uint32_t good_bytes;\n    \
                 uint32_t unread_frames; /* right, but of no known message, or with a body that cannot be read */\n    \
                 uint32_t unread_bytes;\n    \
                 uint32_t bad_checksums; /* this and the next two: what looked like the start of a frame and was none */\n    \
                 uint32_t bad_lengths;\n    \
                 uint32_t bad_values; /* constants, values said twice, stuffing */\n    \
                 uint32_t skipped_bytes; /* of broken frames, or of none */\n    \
                 uint8_t buffer[{upper}_LIMIT{front}];\n\
                 {plain}\
             }} {stem}_receiver_t;\n\
             {link_upper}_FUNCTION void {stem}_receiver_init({stem}_receiver_t *receiver);\n\
             /* One byte more. Up to {upper}_LIMIT bytes wait for ..._next(), half a frame with them; what there is no room for is\n \
             * skipped, and counted. */\n\
             {link_upper}_FUNCTION void {stem}_receiver_put({stem}_receiver_t *receiver, uint8_t byte);\n\
             {silence}\
             {link_upper}_FUNCTION bool {stem}_receiver_next({stem}_receiver_t *receiver, {stem}_frame_t *frame);\n\
             /* Bytes as they come, as from DMA or a queue: takes them until a frame is whole, and says in `taken` how many it took.\n \
              * Call it with the rest until it returns false: then all are taken. */\n\
             static inline bool {stem}_receiver_feed({stem}_receiver_t *receiver, const uint8_t *bytes, size_t size, size_t *taken,\n    \
                 {stem}_frame_t *frame)\n{{\n    \
                 for (*taken = 0; !{stem}_receiver_next(receiver, frame); (*taken)++) {{\n        \
                     if (*taken == size) {{\n            return false;\n        }}\n        \
                     {stem}_receiver_put(receiver, bytes[*taken]);\n    }}\n    \
                 return true;\n}}\n\
             {gap}\
             /* No more bytes will come: call ..._next() until it returns false once more. Bytes put in after that begin anew. */\n\
             static inline void {stem}_receiver_end({stem}_receiver_t *receiver)\n{{\n    receiver->ended = true;\n}}\n"
        ));
        header.line("");
        source.lines(&format!(
            "{link_upper}_FUNCTION void {stem}_receiver_init({stem}_receiver_t *receiver)\n{{\n    memset(receiver, 0, sizeof *receiver);\n}}\n"
        ));
        source.line("");
        if plan.finder != FrameFinder::Packet {
            self.accepts(source);
        }
        match plan.finder {
            FrameFinder::Sync => {
                self.take_bytes(source);
                self.next_by_length(source);
            }
            FrameFinder::Escaped(_) => {
                self.take_bytes(source);
                self.next_escaped(source);
            }
            FrameFinder::Stuffed(stuffing) => {
                self.take_bytes(source);
                self.next_stuffed(stuffing, source);
            }
            FrameFinder::Idle { .. } => {
                self.take_bytes(source);
                self.next_by_silence(source);
            }
            FrameFinder::Lines { crlf } => {
                self.take_bytes(source);
                self.next_line(crlf, source);
            }
            FrameFinder::StatusBytes { running } => self.status_bytes(running, header, source),
            FrameFinder::Packet => {}
        }
    }

    /// Whether a frame may begin anywhere in the buffer, and not only at its front.
    fn begins_anywhere(&self) -> bool {
        matches!(self.plan.finder, FrameFinder::Sync | FrameFinder::Escaped(_))
    }

    /// Taking bytes, which wait in the buffer until they are looked at.
    fn take_bytes(&self, source: &mut Code) {
        let Self { stem, upper, link_upper, .. } = self;
        // What is known of the bytes from `start` on, and is not any more.
        let forget = match self.plan.finder {
            FrameFinder::Escaped(_) => "    receiver->read = 0;\n",
            FrameFinder::Stuffed(_) | FrameFinder::Lines { .. } => "    receiver->looked = 0;\n",
            FrameFinder::Idle { .. } => "    receiver->whole = 0;\n",
            _ => "",
        };
        let begin_anew = match self.plan.finder {
            FrameFinder::Sync => "        receiver->needed = 0;\n",
            FrameFinder::Escaped(_) => "",
            _ => "        receiver->skipping = false;\n",
        };
        let no_room = match self.plan.finder {
            FrameFinder::Sync | FrameFinder::Escaped(_) => format!(
                "            /* Nobody called ..._next(): the oldest byte makes room. */\n            \
                 {stem}_receiver_skip(receiver, 1);\n"
            ),
            FrameFinder::Idle { .. } => format!(
                "            /* Too long for a frame, which is skipped until there is silence; or nobody asked for the one before. */\n            \
                 receiver->skipping = receiver->whole == 0u;\n            \
                 receiver->bad_lengths += receiver->skipping ? 1u : 0u;\n            \
                 {stem}_receiver_skip(receiver, receiver->skipping ? {upper}_LIMIT : receiver->whole);\n"
            ),
            _ => format!(
                "            /* Too long for a frame, or nobody called ..._next(): what follows is skipped up to a delimiter, too. */\n            \
                 receiver->bad_lengths++;\n            receiver->skipping = true;\n            \
                 {stem}_receiver_skip(receiver, {upper}_LIMIT);\n"
            ),
        };
        let until_silence = match self.plan.finder {
            FrameFinder::Idle { .. } => {
                "    if (receiver->skipping) {\n        receiver->skipped_bytes++;\n        return;\n    }\n"
            }
            _ => "",
        };
        source.lines(&format!(
            "static {link_upper}_APART void {stem}_receiver_skip({stem}_receiver_t *receiver, size_t size)\n{{\n    \
                 receiver->start += size;\n    receiver->skipped_bytes += (uint32_t)size;\n{forget}}}\n\n\
             {link_upper}_FUNCTION void {stem}_receiver_put({stem}_receiver_t *receiver, uint8_t byte)\n{{\n    \
                 if (receiver->ended) {{\n        \
                     /* What was half before the silence. */\n        \
                     {stem}_receiver_skip(receiver, receiver->end - receiver->start);\n        receiver->ended = false;\n{begin_anew}    }}\n    \
                 if (receiver->end == {upper}_LIMIT) {{\n        \
                     if (receiver->start == 0u) {{\n{no_room}        }}\n        \
                     receiver->end -= receiver->start;\n        \
                     memmove(receiver->buffer, receiver->buffer + receiver->start, receiver->end);\n        \
                     receiver->start = 0;\n    }}\n\
                 {until_silence}    \
                 receiver->buffer[receiver->end] = byte;\n    \
                 receiver->end++;\n}}\n"
        ));
        source.line("");
    }

    /// Declares the sync bytes, if frames begin with some.
    fn sync_bytes(&self) -> Option<Stmt> {
        let sync: Vec<String> = self.plan.sync.iter().map(|byte| format!("0x{byte:02X}u")).collect();
        let declared = format!("static const uint8_t sync[{}] = {{{}}}", sync.len(), sync.join(", "));
        (!sync.is_empty()).then(|| Stmt::call(declared))
    }

    /// The function that gives out the next frame.
    fn next(&self, statements: Vec<Stmt>, source: &mut Code) {
        let Self { stem, link_upper, .. } = self;
        source.line(format!(
            "{link_upper}_FUNCTION bool {stem}_receiver_next({stem}_receiver_t *receiver, {stem}_frame_t *frame)"
        ));
        source.open("{");
        print(&statements, source);
        source.close("}");
        source.line("");
    }

    /// How a receiver is told that nothing came for a while.
    fn gap_call(&self) -> String {
        let Self { stem, plan, .. } = self;
        if let FrameFinder::Idle { .. } | FrameFinder::Packet = plan.finder {
            return String::new();
        }
        let longest = wire_time::nanoseconds(plan.medium.kind.worst(plan.limit, false).time);
        let long = match plan.medium.kind {
            MediumKind::Uart(format) => {
                let us = longest.div_ceil(1000);
                format!("{us} us, which the longest frame takes at {} baud", format.baud)
            }
            _ => "longer than its sender ever pauses inside of a frame".to_owned(),
        };
        format!(
            "/* Nothing came for a while: what is half is dropped, and what stands whole in it is given out. Call it from the main\n \
              * loop once no byte came for {long},\n \
              * then ..._next() until it returns false; without it half a frame keeps back those after it. */\n\
             static inline void {stem}_receiver_gap({stem}_receiver_t *receiver)\n{{\n    receiver->ended = true;\n}}\n"
        )
    }

    /// A function that judges a whole frame, and says whether it is given out.
    fn accepts(&self, source: &mut Code) {
        let Self { stem, link_upper, plan, .. } = self;
        let inside = plan.looks_inside_unread();
        let unread = match inside {
            true => {
                "            /* Nothing says that it is a frame at all: the next can stand inside of it. */\n            \
                 receiver->unread_frames++;\n            receiver->skipped_bytes++;\n            taken = 1u;\n"
                    .to_owned()
            }
            false => format!(
                "            {stem}_receiver_count(&receiver->unread_frames, &receiver->unread_bytes, wire);\n"
            ),
        };
        let stray = match plan.finder {
            FrameFinder::Lines { .. } if !plan.has_checksum() => {
                format!(
                    "        if (receiver->result == {link_upper}_UNKNOWN_MESSAGE) {{\n            return false;\n        }}\n"
                )
            }
            _ => String::new(),
        };
        let (declared, taken) = if inside { ("    size_t taken = wire;\n", "taken") } else { ("", "wire") };
        let take = match plan.finder {
            FrameFinder::StatusBytes { .. } => String::new(),
            _ => format!("        receiver->start += {taken};\n"),
        };
        source.lines(&format!(
            "static {link_upper}_APART void {stem}_receiver_count(uint32_t *frames, uint32_t *bytes, size_t size)\n{{\n    \
                 (*frames)++;\n    *bytes += (uint32_t)size;\n}}\n\n\
             /* Judges a whole frame: whether it is given out. */\n\
             static bool {stem}_receiver_accepts({stem}_receiver_t *receiver, {stem}_frame_t *frame, const uint8_t *bytes,\n    \
                 size_t size, size_t wire)\n{{\n{declared}    \
                 receiver->result = {stem}_open(frame, bytes, size);\n    \
                 if (receiver->result == {link_upper}_OK) {{\n        \
                     receiver->result = {stem}_check_body(frame);\n\
                 {stray}        \
                     if (receiver->result == {link_upper}_OK) {{\n            \
                         {stem}_receiver_count(&receiver->good_frames, &receiver->good_bytes, wire);\n        \
                     }} else {{\n{unread}        }}\n{take}        \
                     return true;\n    }}\n{}    \
                 return false;\n}}\n",
            self.counted()
        ));
        source.line("");
    }

    /// Statements that count why a whole frame is none, of the reasons that there can be: a receiver that goes by the length has looked at
    /// it, and at the head, before.
    fn counted(&self) -> String {
        let Self { link_upper, plan, .. } = self;
        let by_length = plan.finder == FrameFinder::Sync;
        let looked_at = |part: &Part| by_length && part.zone == Zone::Head;
        let has_value = |part: &Part| part.hex || (right(plan, part).is_some() && !looked_at(part));
        let reasons = [
            ("BAD_CHECKSUM", "bad_checksums", plan.has_checksum()),
            ("BAD_LENGTH", "bad_lengths", !by_length),
            ("BAD_VALUE", "bad_values", (!by_length && !plan.sync.is_empty()) || plan.parts.iter().any(has_value)),
        ];
        let reasons: Vec<_> = reasons.iter().filter(|(.., can_be)| *can_be).collect();
        match reasons.as_slice() {
            [] => String::new(),
            [(_, counter, _)] => format!("    receiver->{counter}++;\n"),
            [tested @ .., (_, last, _)] => {
                let tests = tested.iter().map(|(result, counter, _)| {
                    format!("if (receiver->result == {link_upper}_{result}) {{\n        receiver->{counter}++;\n    }} else ")
                });
                format!("    {}{{\n        receiver->{last}++;\n    }}\n", tests.collect::<String>())
            }
        }
    }

    /// What is done with a whole frame, in a loop.
    fn judge(&self, bytes: &str, size: &str, taken: &str) -> Stmt {
        let accepts = format!("{}_receiver_accepts(receiver, frame, {bytes}, {size}, {taken})", self.stem);
        Stmt::If(Test::Other(expr![accepts]), vec![Stmt::Return(expr!["true"])], Vec::new())
    }

    /// Gives up a frame if a part (by index) with one right value has another in `bytes`.
    fn wrong_values(&self, bytes: &str, parts: &[usize], give_up: &Stmt) -> Vec<Stmt> {
        let one = |index: &usize| {
            let part = &self.plan.parts[*index];
            let test = Test::Other(self.is_wrong(part, right(self.plan, part)?, bytes));
            Some(Stmt::If(test, vec![Stmt::call("receiver->bad_values++"), give_up.clone()], Vec::new()))
        };
        parts.iter().filter_map(one).collect()
    }

    /// Declares `size`, the size of the frame whose first bytes are in `bytes`, or gives it up.
    fn size_of_frame(&self, bytes: &str, size: &Size, give_up: &Stmt) -> Vec<Stmt> {
        let parts = &self.plan.parts;
        let refuse = |wrong: String| {
            let bad_length = vec![Stmt::call("receiver->bad_lengths++"), give_up.clone()];
            Stmt::If(Test::Other(expr![wrong]), bad_length, Vec::new())
        };
        match size {
            Size::Said { part, unit, other, around, greatest } => {
                let part = &parts[*part];
                let value_type = match part.bits {
                    ..=16 if !part.hex => "unsigned",
                    ..=32 => "uint32_t",
                    _ => "uint64_t",
                };
                // A length below what surrounds the body has no comparison if it cannot be.
                let too_small = (*other > 0).then(|| format!("(size_t)count * {unit}u < {other}u"));
                let can_be_larger = part.hex || part.bits >= 32 || part.greatest() > *greatest as u64;
                let too_large = can_be_larger.then(|| format!("count > {greatest}u"));
                let wrong: Vec<String> = too_large.into_iter().chain(too_small).collect();
                let count = if *unit > 1 { format!("(size_t)count * {unit}u") } else { "(size_t)count".to_owned() };
                let size = match other.cmp(around) {
                    Ordering::Less => format!("{count} + {}u", around - other),
                    Ordering::Equal => count,
                    Ordering::Greater => format!("{count} - {}u", other - around),
                };
                let mut all = vec![Stmt::Do(expr![format!("const {value_type} count = "), self.get(part, bytes)])];
                all.extend((!wrong.is_empty()).then(|| refuse(wrong.join(" || "))));
                all.push(Stmt::call(format!("const size_t size = {size}")));
                all
            }
            Size::Always(size) => vec![Stmt::call(format!("const size_t size = {size}u"))],
            Size::OfKey { part, sizes } => {
                let part = &parts[*part];
                let set = |size: usize| vec![Stmt::call(format!("size = {size}u"))];
                let mut cases: Vec<Case> = sizes
                    .iter()
                    .map(|(key, size)| Case {
                        number: Some(constant(i128::from(*key), part.bits, false)),
                        then: set(*size),
                    })
                    .collect();
                cases.push(Case { number: None, then: Vec::new() });
                vec![
                    Stmt::call("size_t size = 0"),
                    Stmt::Switch(self.get(part, bytes), cases),
                    refuse("size == 0u".to_owned()),
                ]
            }
            Size::Unknown => vec![Stmt::call("const size_t size = 0"), give_up.clone()],
        }
    }

    fn next_by_length(&self, source: &mut Code) {
        let Self { stem, .. } = self;
        let Beginning { needs, first, size, then: (whole, then) } = beginning(self.plan);
        let needs = needs.max(1);
        let next = || Stmt::call("continue");
        let one = |(n, byte): (usize, &u8)| match n {
            0 => format!("bytes[0] != {byte:#04X}u"),
            n => format!("(held > {n}u && bytes[{n}] != {byte:#04X}u)"),
        };
        let wrong: Vec<String> = self.plan.sync.iter().enumerate().map(one).collect();
        let late = self.wrong_values("bytes", &then, &next());
        // With how many bytes something new can be said: each of the sync bytes, the size, the rest of the head, the whole frame.
        let before = match self.plan.sync.len() {
            0 | 1 => format!("{needs}u"),
            count => format!("held < {count}u ? held + 1u : {needs}u"),
        };
        let behind = match late.is_empty() {
            true => "size".to_owned(),
            false => format!("held < {whole}u ? {whole}u : size"),
        };
        let mut sized = self.wrong_values("bytes", &first, &next());
        sized.extend(self.size_of_frame("bytes", &size, &next()));
        if !late.is_empty() {
            sized.push(Stmt::If(Test::Other(expr![format!("held >= {whole}u")]), late, Vec::new()));
        }
        let is_whole = vec![self.judge("bytes", "size", "size"), next()];
        sized.push(Stmt::If(Test::Other(expr!["held >= size"]), is_whole, Vec::new()));
        sized.push(Stmt::call(format!("needed = {behind}")));
        let mut looked = vec![
            Stmt::call("const uint8_t *bytes = receiver->buffer + receiver->start"),
            Stmt::call("const size_t held = receiver->end - receiver->start"),
            Stmt::call(format!("size_t needed = {before}")),
        ];
        if !wrong.is_empty() {
            looked.push(Stmt::If(Test::Other(expr![wrong.join(" || ")]), vec![next()], Vec::new()));
        }
        looked.push(Stmt::If(Test::Other(expr![format!("held >= {needs}u")]), sized, Vec::new()));
        looked.push(Stmt::If(
            Test::Other(expr!["!receiver->ended"]),
            vec![Stmt::call("receiver->needed = needed"), Stmt::Return(expr!["false"])],
            Vec::new(),
        ));
        let waits = "receiver->end - receiver->start < receiver->needed && !receiver->ended";
        let all = [
            Stmt::If(Test::Other(expr![waits]), vec![Stmt::Return(expr!["false"])], Vec::new()),
            Stmt::call("receiver->needed = 0"),
            Stmt::Comment("Where none begins, one byte further.".to_owned()),
            Stmt::For(expr![format!("; receiver->start < receiver->end; {stem}_receiver_skip(receiver, 1)")], looked),
            Stmt::Return(expr!["false"]),
        ];
        self.next(all.into_iter().collect(), source);
    }

    /// A function that reads on in an escaped frame.
    fn read_escaped(&self, replaced: &Replaced, source: &mut Code) {
        let Self { stem, upper, plan, .. } = self;
        let terminator = plan.terminator();
        let none = || Stmt::Return(expr!["-1"]);
        let test = |condition: String| Test::Other(expr![condition]);
        let give_up = |counter: &str| vec![Stmt::call(format!("receiver->{counter}++")), none()];
        let mut read = vec![
            Stmt::call("const uint8_t *wire = receiver->buffer + receiver->start + receiver->read"),
            Stmt::call("size_t left = receiver->end - receiver->start - receiver->read"),
        ];
        if !terminator.is_empty() {
            let bytes: Vec<String> = terminator.iter().map(|byte| format!("0x{byte:02X}u")).collect();
            read.push(Stmt::call(format!(
                "static const uint8_t terminator[{}] = {{{}}}",
                terminator.len(),
                bytes.join(", ")
            )));
        }
        let too_long = test(format!("receiver->read + {}u > {upper}_LIMIT", terminator.len()));
        read.push(Stmt::If(too_long, give_up("bad_lengths"), Vec::new()));
        let head = self.wrong_values("receiver->plain", &fixed_parts(plan, 0, plan.head_bytes), &none());
        if !head.is_empty() {
            read.push(Stmt::If(test(format!("receiver->size == {}u", plan.head_bytes)), head, Vec::new()));
        }
        match terminator.len() {
            0 => {
                let Beginning { needs, size, .. } = beginning(plan);
                let mut sized = self.size_of_frame("receiver->plain", &size, &none());
                let ends = Stmt::If(test("receiver->size >= size".into()), vec![Stmt::Return(expr!["1"])], Vec::new());
                sized.push(ends);
                let needs = needs.max(plan.sync.len());
                read.push(Stmt::If(test(format!("receiver->size >= {needs}u")), sized, Vec::new()));
            }
            count => {
                let ends = vec![
                    Stmt::call(format!("memcpy(receiver->plain + receiver->size, wire, {count}u)")),
                    Stmt::call(format!("receiver->size += {count}u")),
                    Stmt::call(format!("receiver->read += {count}u")),
                    Stmt::Return(expr!["1"]),
                ];
                let is_whole = test(format!("left >= {count}u && memcmp(wire, terminator, {count}u) == 0"));
                read.push(Stmt::If(is_whole, ends, Vec::new()));
                let begins = test(format!("left < {count}u && memcmp(wire, terminator, left) == 0"));
                read.push(Stmt::If(begins, vec![Stmt::Return(expr!["0"])], Vec::new()));
            }
        }
        let Replaced { escape, wrong, plain, .. } = replaced;
        let more = || vec![Stmt::Return(expr!["0"])];
        read.push(Stmt::If(test("left == 0u".into()), more(), Vec::new()));
        let bare = vec![
            Stmt::call("receiver->plain[receiver->size++] = wire[0]"),
            Stmt::call("receiver->read++"),
            Stmt::call("continue"),
        ];
        read.push(Stmt::If(test(format!("!{stem}_is_escaped(wire[0])")), bare, Vec::new()));
        read.push(Stmt::If(test(format!("wire[0] != 0x{escape:02X}u")), give_up("bad_values"), Vec::new()));
        read.push(Stmt::If(test("left == 1u".into()), more(), Vec::new()));
        read.push(Stmt::Block(vec![
            Stmt::call("uint8_t code = wire[1]"),
            Stmt::If(test(wrong.clone()), give_up("bad_values"), Vec::new()),
            Stmt::call(format!("receiver->plain[receiver->size++] = (uint8_t)({plain})")),
            Stmt::call("receiver->read += 2u"),
        ]));
        source.line("/* Reads on in the frame that begins at `start`: 1 at its end, 0 if more bytes are needed, -1 if it is none. */");
        source.line(format!("static int {stem}_receiver_read({stem}_receiver_t *receiver)"));
        source.open("{");
        print(&[Stmt::For(expr![";;"], read)], source);
        source.close("}");
        source.line("");
    }

    fn next_escaped(&self, source: &mut Code) {
        let Self { stem, plan, .. } = self;
        let Some(replaced) = self.replaced() else { return };
        source.uses(format!("{stem}_is_escaped"));
        self.read_escaped(&replaced, source);
        let sync = plan.sync.len();
        let test = |condition: String| Test::Other(expr![condition]);
        let mut looked = vec![Stmt::call("const uint8_t *bytes = receiver->buffer + receiver->start")];
        // One sync byte is there, or nothing is.
        match sync {
            1 => looked.push(Stmt::call("const size_t seen = 1u")),
            sync => {
                looked.push(Stmt::call("const size_t held = receiver->end - receiver->start"));
                looked.push(Stmt::call(format!("const size_t seen = held < {sync}u ? held : {sync}u")));
            }
        }
        looked.push(Stmt::If(test("memcmp(bytes, sync, seen) != 0".into()), vec![Stmt::call("continue")], Vec::new()));
        let begin = vec![
            Stmt::call(format!("memcpy(receiver->plain, sync, {sync}u)")),
            Stmt::call(format!("receiver->read = {sync}u")),
            Stmt::call(format!("receiver->size = {sync}u")),
        ];
        let is_whole = vec![
            Stmt::call("size_t size = receiver->read"),
            Stmt::call("receiver->read = 0"),
            self.judge("receiver->plain", "receiver->size", "size"),
        ];
        let read = vec![
            Stmt::call("int read"),
            Stmt::If(test("receiver->read == 0u".into()), begin, Vec::new()),
            Stmt::call(format!("read = {stem}_receiver_read(receiver)")),
            Stmt::If(test("read > 0".into()), is_whole, Vec::new()),
            Stmt::If(test("read != 0".into()), vec![Stmt::call("continue")], Vec::new()),
        ];
        looked.push(match sync {
            1 => Stmt::Block(read),
            sync => Stmt::If(test(format!("held >= {sync}u")), read, Vec::new()),
        });
        looked.push(Stmt::If(test("!receiver->ended".into()), vec![Stmt::Return(expr!["false"])], Vec::new()));
        let all = [
            Stmt::Comment("Where none begins, one byte further.".to_owned()),
            Stmt::For(expr![format!("; receiver->start < receiver->end; {stem}_receiver_skip(receiver, 1)")], looked),
            Stmt::Return(expr!["false"]),
        ];
        self.next(self.sync_bytes().into_iter().chain(all).collect(), source);
    }

    /// Each line of text is a frame.
    fn next_line(&self, crlf: bool, source: &mut Code) {
        let stem = &self.stem;
        let mut frame = self.skipped();
        frame.push(Stmt::call("receiver->looked = 0"));
        if crlf {
            let is_return = Test::Other(expr!["size > 0u && bytes[size - 1u] == 0x0Du"]);
            frame.push(Stmt::If(is_return, vec![Stmt::call("size--")], Vec::new()));
        }
        frame.push(self.judge("bytes", "size", "wire"));
        // Another line may begin in one that is cut off.
        match self.plan.sync.first() {
            None => frame.push(Stmt::call(format!("{stem}_receiver_skip(receiver, wire)"))),
            Some(first) => {
                let next = expr![format!("size = 1; size < wire && bytes[size] != 0x{first:02X}u; size++")];
                frame.push(Stmt::For(next, Vec::new()));
                frame.push(Stmt::call(format!("{stem}_receiver_skip(receiver, size)")));
            }
        }
        let locals = vec![Stmt::call("size_t size = wire - 1u")];
        self.next_delimited("0x0Au", "const uint8_t *bytes", locals, frame, source);
    }

    /// Frames that a delimiter ends, in whose bytes it does not occur; it may stand in front of them, too.
    fn next_stuffed(&self, stuffing: Stuffing, source: &mut Code) {
        let delimiter = format!("0x{:02X}u", stuffing.delimiter());
        let leads = stuffing.leads();
        let test = |condition: &str| Test::Other(expr![condition]);
        let skip = |size: &str| Stmt::call(format!("{}_receiver_skip(receiver, {size})", self.stem));
        let mut locals =
            vec![Stmt::call("size_t from = 0"), Stmt::call("size_t to = 0"), Stmt::call("bool right = true")];
        if leads {
            locals.push(Stmt::call(format!("const size_t lead = bytes[0] == {delimiter} ? 1u : 0u")));
        }
        locals.push(Stmt::call(format!("const size_t stuffed = wire - 1u{}", if leads { " - lead" } else { "" })));
        let mut frame = if leads { vec![Stmt::call("receiver->skipping = false")] } else { self.skipped() };
        if leads {
            let in_front = vec![
                Stmt::Comment("The delimiter in front of a frame; of several the last.".to_owned()),
                skip("wire - 1u"),
                Stmt::call("receiver->looked = 1"),
                Stmt::call("continue"),
            ];
            frame.push(Stmt::If(test("wire <= lead + 1u"), in_front, Vec::new()));
            frame.push(Stmt::call("bytes += lead"));
        }
        frame.push(self.unstuff(&delimiter));
        frame.push(Stmt::call("receiver->looked = 0"));
        let bad_value = vec![Stmt::call("receiver->bad_values++")];
        let judged = vec![self.judge("bytes", "to", "wire")];
        match leads {
            true => frame.push(Stmt::If(test("right"), judged, bad_value)),
            false => {
                frame.push(Stmt::If(test("right && stuffed > 0u"), judged, Vec::new()));
                frame.push(Stmt::If(test("!right"), bad_value, Vec::new()));
            }
        }
        match leads {
            // The delimiter that ends what is no frame may begin one.
            true => frame.extend([skip("wire - 1u"), Stmt::call("receiver->looked = 1")]),
            false => frame.push(skip("wire")),
        }
        self.next_delimited(&delimiter, "uint8_t *bytes", locals, frame, source);
    }

    /// A loop that takes the stuffing off `stuffed` bytes of `bytes`, which then are `to`.
    fn unstuff(&self, delimiter: &str) -> Stmt {
        let test = |condition: String| Test::Other(expr![condition]);
        let condition = expr!["right && from < stuffed"];
        let Some(Replaced { escape, wrong, plain, .. }) = self.replaced() else {
            let too_long = vec![Stmt::call("right = false"), Stmt::call("break")];
            let copy = vec![Stmt::call("bytes[to++] = bytes[from + n]")];
            let block = vec![
                Stmt::call("size_t code = bytes[from]"),
                Stmt::call("size_t n"),
                Stmt::If(test("from + code > stuffed".into()), too_long, Vec::new()),
                Stmt::For(expr!["n = 1; n < code; n++"], copy),
                Stmt::call("from += code"),
                Stmt::If(
                    test("code < 0xFFu && from < stuffed".into()),
                    vec![Stmt::call("bytes[to++] = 0")],
                    Vec::new(),
                ),
            ];
            return Stmt::While(condition, block);
        };
        let escaped = vec![
            Stmt::call(format!("code = from < stuffed ? bytes[from++] : {delimiter}")),
            Stmt::call(format!("right = !({wrong})")),
            Stmt::call(format!("code = (uint8_t)({plain})")),
        ];
        let byte = vec![
            Stmt::call("uint8_t code = bytes[from++]"),
            Stmt::If(test(format!("code == 0x{escape:02X}u")), escaped, Vec::new()),
            Stmt::call("bytes[to++] = code"),
        ];
        Stmt::While(condition, byte)
    }

    /// Ends at a delimiter what is skipped.
    fn skipped(&self) -> Vec<Stmt> {
        let end = vec![
            Stmt::call("receiver->skipping = false"),
            Stmt::call(format!("{}_receiver_skip(receiver, wire)", self.stem)),
            Stmt::call("continue"),
        ];
        vec![Stmt::If(Test::Other(expr!["receiver->skipping"]), end, Vec::new())]
    }

    /// Looking for the next delimiter. `frame` is for the `wire` bytes of `bytes` that end with one, `locals` are its variables.
    fn next_delimited(&self, delimiter: &str, bytes: &str, locals: Vec<Stmt>, frame: Vec<Stmt>, source: &mut Code) {
        let Self { stem, .. } = self;
        let test = |condition: String| Test::Other(expr![condition]);
        let skip = |size: &str| Stmt::call(format!("{stem}_receiver_skip(receiver, {size})"));
        let mut looked = vec![
            Stmt::call(format!("{bytes} = receiver->buffer + receiver->start")),
            Stmt::call("const size_t wire = receiver->looked + 1u"),
        ];
        looked.extend(locals);
        if let count @ 1.. = self.plan.sync.len() {
            let wrong = format!("!receiver->skipping && wire <= {count}u && bytes[wire - 1u] != sync[wire - 1u]");
            let next = vec![
                Stmt::Comment("What stands in front of sync bytes is none of the frame.".to_owned()),
                skip("1"),
                Stmt::call("continue"),
            ];
            looked.push(Stmt::If(test(wrong), next, Vec::new()));
        }
        let on = vec![
            Stmt::call("receiver->looked = wire"),
            Stmt::If(test("receiver->skipping".into()), vec![skip("wire")], Vec::new()),
            Stmt::call("continue"),
        ];
        looked.push(Stmt::If(test(format!("bytes[wire - 1u] != {delimiter}")), on, Vec::new()));
        looked.extend(frame);
        let ended = vec![skip("receiver->end - receiver->start"), Stmt::call("receiver->skipping = false")];
        let all = [
            Stmt::While(expr!["receiver->looked < receiver->end - receiver->start"], looked),
            Stmt::If(test("receiver->ended".into()), ended, Vec::new()),
            Stmt::Return(expr!["false"]),
        ];
        self.next(self.sync_bytes().into_iter().chain(all).collect(), source);
    }

    fn next_by_silence(&self, source: &mut Code) {
        let Self { stem, link_upper, .. } = self;
        source.lines(&format!(
            "{link_upper}_FUNCTION void {stem}_receiver_silence({stem}_receiver_t *receiver)\n{{\n    \
                 receiver->skipping = false;\n    \
                 if (receiver->whole != 0u && receiver->whole < receiver->end - receiver->start) {{\n        \
                     /* Nobody asked for the frame before. */\n        \
                     {stem}_receiver_skip(receiver, receiver->whole);\n    }}\n    \
                 receiver->whole = receiver->end - receiver->start;\n}}\n\n\
             {link_upper}_FUNCTION bool {stem}_receiver_next({stem}_receiver_t *receiver, {stem}_frame_t *frame)\n{{\n    \
                 for (;;) {{\n        \
                     const uint8_t *bytes = receiver->buffer + receiver->start;\n        \
                     size_t wire = receiver->whole;\n        \
                     if (wire == 0u && receiver->ended) {{\n            \
                         /* What came last, and there is no more. */\n            \
                         wire = receiver->end - receiver->start;\n            receiver->skipping = false;\n        }}\n        \
                     receiver->whole = 0;\n        \
                     if (wire == 0u) {{\n            return false;\n        }}\n        \
                     if ({stem}_receiver_accepts(receiver, frame, bytes, wire, wire)) {{\n            return true;\n        }}\n        \
                     {stem}_receiver_skip(receiver, wire);\n    }}\n}}\n"
        ));
        source.line("");
    }
}
