//! Receivers: fed byte by byte, they give out the good frames, and those that nobody can read.

use std::ops::Range;

use std::cmp::Ordering;

use emberwort_model::budget::wire_time;
use emberwort_model::model::MediumKind;
use emberwort_model::plan::{FrameFinder, Part, Role, Zone};
use emberwort_model::stuffing::Stuffing;

use super::Channel;
use crate::c::words::constant;
use crate::code::{Code, filled};

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

    fn sync_bytes(&self) -> String {
        if self.plan.sync.is_empty() {
            return String::new();
        }
        let sync: Vec<String> = self.plan.sync.iter().map(|byte| format!("0x{byte:02X}u")).collect();
        format!("    static const uint8_t sync[{}] = {{{}}};\n", sync.len(), sync.join(", "))
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
        let has_value =
            |part: &Part| self.digits(part).is_some() || (self.is_wrong(part, "").is_some() && !looked_at(part));
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
    fn judge(&self, bytes: &str, size: &str, taken: &str, indent: &str) -> String {
        let Self { stem, .. } = self;
        format!(
            "{indent}if ({stem}_receiver_accepts(receiver, frame, {bytes}, {size}, {taken})) {{\n\
             {indent}    return true;\n\
             {indent}}}\n"
        )
    }

    /// Statements that give up a frame of whose head so many bytes are in `bytes`, and more than `from`, if a part of it that
    /// has one right value has another.
    fn wrong_head(&self, bytes: &str, ends: Range<usize>, give_up: &str) -> String {
        let mut out = String::new();
        for part in &self.plan.parts {
            let end = (part.at_bit as usize + part.wire_bits()).div_ceil(8);
            if part.zone == Zone::Head
                && ends.contains(&end)
                && let Some(wrong) = self.is_wrong(part, bytes)
            {
                out += &format!("if ({wrong}) {{\n    receiver->bad_values++;\n    {give_up}\n}}\n");
            }
        }
        out
    }

    /// Where the part that says a frame's size ends, and those that repeat it.
    fn length_end(&self) -> usize {
        let plan = self.plan;
        let end = |part: &Part| (part.at_bit as usize + part.wire_bits()).div_ceil(8);
        let is_length = |part: &Part| matches!(part.role, Role::Length { .. });
        let says = plan.parts.iter().filter(|part| match part.role {
            Role::Same { part: of, .. } => is_length(&plan.parts[of]) && part.zone == Zone::Head,
            _ => is_length(part),
        });
        says.map(end).max().unwrap_or(0)
    }

    /// The statements that declare `size`, the size of the frame whose first bytes are in `bytes`, or give it up; and how many bytes
    /// they need.
    fn size_of_frame(&self, bytes: &str, give_up: &str) -> (usize, String) {
        let plan = self.plan;
        let around = plan.head_bytes + plan.tail_bytes;
        if let Some((part, other, unit)) = self.length_part() {
            // What the length part can say of frames from the shortest to the limit.
            let greatest = (plan.limit - around + other) / unit;
            let value_type = match part.bits {
                ..=16 if !part.hex => "unsigned",
                ..=32 => "uint32_t",
                _ => "uint64_t",
            };
            // A length below what surrounds the body has no comparison if it cannot be.
            let too_small = if other > 0 { format!("(size_t)count * {unit}u < {other}u") } else { String::new() };
            let fits_type = part.hex || part.bits >= 32 || ((1u64 << part.bits) - 1) > greatest as u64;
            let too_large = if fits_type { format!("count > {greatest}u") } else { String::new() };
            let wrong = [too_large, too_small].into_iter().filter(|c| !c.is_empty()).collect::<Vec<_>>().join(" || ");
            let guard = match wrong.is_empty() {
                true => wrong,
                false => format!("if ({wrong}) {{\n    receiver->bad_lengths++;\n    {give_up}\n}}\n"),
            };
            let end = self.length_end();
            let value = self.get(part, bytes);
            let times = if unit > 1 { format!("(size_t)count * {unit}u") } else { "(size_t)count".to_owned() };
            let size = match other.cmp(&around) {
                Ordering::Less => format!("{times} + {}u", around - other),
                Ordering::Equal => times,
                Ordering::Greater => format!("{times} - {}u", other - around),
            };
            return (end, format!("const {value_type} count = {value};\n{guard}const size_t size = {size};\n"));
        }
        let sizes = &plan.body_sizes;
        if let Some(Some(first)) = sizes.first().filter(|first| sizes.iter().all(|size| size == *first)) {
            return (plan.sync.len(), format!("const size_t size = {}u;\n", around + first));
        }
        let Some(key) = plan.key_part().filter(|_| !sizes.is_empty()) else {
            return (plan.sync.len(), format!("const size_t size = 0;\n{give_up}\n"));
        };
        let mut cases = String::new();
        for ((value, _), size) in plan.keys.iter().zip(sizes) {
            let Some(size) = size else { continue };
            let value = constant(i128::from(*value), key.bits, false);
            cases += &format!("case {value}:\n    size = {}u;\n    break;\n", around + size);
        }
        let end = (key.at_bit as usize + key.wire_bits()).div_ceil(8);
        let value = self.get(key, bytes);
        (
            end,
            format!(
                "size_t size = 0;\nswitch ({value}) {{\n{cases}default:\n    break;\n}}\nif (size == 0u) {{\n    receiver->bad_lengths++;\n    {give_up}\n}}\n"
            ),
        )
    }

    fn next_by_length(&self, source: &mut Code) {
        let Self { stem, link_upper, .. } = self;
        let count = self.plan.sync.len();
        let one = |(n, byte): (usize, &u8)| match n {
            0 => format!("bytes[0] != {byte:#04X}u"),
            n => format!("(held > {n}u && bytes[{n}] != {byte:#04X}u)"),
        };
        let wrong: Vec<String> = self.plan.sync.iter().enumerate().map(one).collect();
        let find = match count {
            0 => String::new(),
            _ => format!("        if ({}) {{\n            continue;\n        }}\n", wrong.join(" || ")),
        };
        let (length_end, size_of) = self.size_of_frame("bytes", "continue;");
        let length_end = length_end.max(1);
        let early = self.wrong_head("bytes", 0..length_end + 1, "continue;");
        let size_of = indented(&(early + &size_of), "            ");
        let head = self.plan.head_bytes;
        let late = self.wrong_head("bytes", length_end + 1..head + 1, "continue;");
        let late = match late.is_empty() {
            true => late,
            false => {
                format!("            if (held >= {head}u) {{\n{}            }}\n", indented(&late, "                "))
            }
        };
        // With how many bytes something new can be said: each of the sync bytes, the size, the rest of the head, the whole frame.
        let of_size = match late.is_empty() {
            true => "size".to_owned(),
            false => format!("held < {head}u ? {head}u : size"),
        };
        let before = match count {
            0 | 1 => format!("{length_end}u"),
            _ => format!("held < {count}u ? held + 1u : {length_end}u"),
        };
        source.lines(&format!(
            "{link_upper}_FUNCTION bool {stem}_receiver_next({stem}_receiver_t *receiver, {stem}_frame_t *frame)\n{{\n    \
                 if (receiver->end - receiver->start < receiver->needed && !receiver->ended) {{\n        return false;\n    }}\n    \
                 receiver->needed = 0;\n    \
                 /* Where none begins, one byte further. */\n    \
                 for (; receiver->start < receiver->end; {stem}_receiver_skip(receiver, 1)) {{\n        \
                     const uint8_t *bytes = receiver->buffer + receiver->start;\n        \
                     const size_t held = receiver->end - receiver->start;\n        \
                     size_t needed = {before};\n{find}        \
                     if (held >= {length_end}u) {{\n\
                         {size_of}{late}            \
                         if (held >= size) {{\n\
                             {}                \
                             continue;\n            }}\n            \
                         needed = {of_size};\n        }}\n        \
                     if (!receiver->ended) {{\n            receiver->needed = needed;\n            return false;\n        }}\n    }}\n    \
                 return false;\n}}\n",
            self.judge("bytes", "size", "size", "                "),
        ));
        source.line("");
    }

    fn next_escaped(&self, source: &mut Code) {
        let Self { stem, upper, plan, link_upper, .. } = self;
        let Some(replaced) = self.replaced() else { return };
        let sync = plan.sync.len();
        let terminator = plan.terminator();
        let head = self.wrong_head("receiver->plain", 0..plan.head_bytes + 1, "return -1;");
        let head = match head.is_empty() {
            true => head,
            false => format!(
                "        if (receiver->size == {}u) {{\n{}        }}\n",
                plan.head_bytes,
                indented(&head, "            ")
            ),
        };
        let ends = if terminator.is_empty() {
            let (length_end, size_of) = self.size_of_frame("receiver->plain", "return -1;");
            let length_end = length_end.max(sync);
            let size_of = indented(&size_of, "            ");
            format!(
                "        if (receiver->size >= {length_end}u) {{\n{size_of}            \
                 if (receiver->size >= size) {{\n                return 1;\n            }}\n        }}\n"
            )
        } else {
            let count = terminator.len();
            let bytes: Vec<String> = terminator.iter().map(|byte| format!("0x{byte:02X}u")).collect();
            format!(
                "        if (left >= {count}u && memcmp(wire, terminator, {count}u) == 0) {{\n            \
                     memcpy(receiver->plain + receiver->size, wire, {count}u);\n            \
                     receiver->size += {count}u;\n            receiver->read += {count}u;\n            return 1;\n        }}\n        \
                 if (left < {count}u && memcmp(wire, terminator, left) == 0) {{\n            return 0;\n        }}\n"
            )
            .replacen("        if", &format!("        static const uint8_t terminator[{count}] = {{{}}};\n        if", bytes.join(", ")), 1)
        };
        source.lines(&format!(
            "/* Reads on in the frame that begins at `start`: 1 at its end, 0 if more bytes are needed, -1 if it is none. */\n\
             static int {stem}_receiver_read({stem}_receiver_t *receiver)\n{{\n    \
                 for (;;) {{\n        \
                     const uint8_t *wire = receiver->buffer + receiver->start + receiver->read;\n        \
                     size_t left = receiver->end - receiver->start - receiver->read;\n        \
                     if (receiver->read + {}u > {upper}_LIMIT) {{\n            \
                         receiver->bad_lengths++;\n            return -1;\n        }}\n\
                     {head}{ends}        \
                     if (left == 0u) {{\n            return 0;\n        }}\n        \
                     if (!{stem}_is_escaped(wire[0])) {{\n            \
                         receiver->plain[receiver->size++] = wire[0];\n            receiver->read++;\n            continue;\n        }}\n        \
                     if (wire[0] != 0x{:02X}u) {{\n            receiver->bad_values++;\n            return -1;\n        }}\n        \
                     if (left == 1u) {{\n            return 0;\n        }}\n        \
                     {{\n            uint8_t code = wire[1];\n            \
                         if ({}) {{\n                receiver->bad_values++;\n                return -1;\n            }}\n            \
                         receiver->plain[receiver->size++] = (uint8_t)({});\n            \
                         receiver->read += 2u;\n        }}\n    }}\n}}\n\n\
             {link_upper}_FUNCTION bool {stem}_receiver_next({stem}_receiver_t *receiver, {stem}_frame_t *frame)\n{{\n{}    \
                 /* Where none begins, one byte further. */\n    \
                 for (; receiver->start < receiver->end; {stem}_receiver_skip(receiver, 1)) {{\n        \
                     const uint8_t *bytes = receiver->buffer + receiver->start;\n        \
{seen}        \
                     if (memcmp(bytes, sync, seen) != 0) {{\n            continue;\n        }}\n        \
                     {whole}{{\n            \
                         int read;\n            \
                         if (receiver->read == 0u) {{\n                \
                             memcpy(receiver->plain, sync, {sync}u);\n                \
                             receiver->read = {sync}u;\n                receiver->size = {sync}u;\n            }}\n            \
                         read = {stem}_receiver_read(receiver);\n            \
                         if (read > 0) {{\n                \
                             size_t size = receiver->read;\n                \
                             receiver->read = 0;\n\
                             {}            }}\n            \
                         if (read != 0) {{\n                continue;\n            }}\n        }}\n        \
                     if (!receiver->ended) {{\n            return false;\n        }}\n    }}\n    \
                 return false;\n}}\n",
            terminator.len(),
            replaced.escape,
            replaced.wrong,
            replaced.plain,
            self.sync_bytes(),
            self.judge("receiver->plain", "receiver->size", "size", "                "),
            // One sync byte is there, or nothing is.
            seen = match sync {
                1 => "        const size_t seen = 1u;\n".to_owned(),
                sync => format!(
                    "        const size_t held = receiver->end - receiver->start;\n        \
                         const size_t seen = held < {sync}u ? held : {sync}u;\n"
                ),
            },
            whole = if sync == 1 { String::new() } else { format!("if (held >= {sync}u) ") },
        ));
        source.line("");
    }

    /// Each line of text is a frame.
    fn next_line(&self, crlf: bool, source: &mut Code) {
        let strip = if crlf {
            "        if (size > 0u && bytes[size - 1u] == 0x0Du) {\n            size--;\n        }\n"
        } else {
            ""
        };
        let stem = &self.stem;
        // Another line may begin in one that is cut off.
        let rest = match self.plan.sync.first() {
            None => format!("        {stem}_receiver_skip(receiver, wire);\n"),
            Some(first) => format!(
                "        for (size = 1; size < wire && bytes[size] != 0x{first:02X}u; size++) {{\n        }}\n        \
                     {stem}_receiver_skip(receiver, size);\n"
            ),
        };
        let frame =
            format!("        receiver->looked = 0;\n{strip}{}{rest}", self.judge("bytes", "size", "wire", "        "),);
        let skipped = self.skipped();
        self.next_delimited(
            "0x0Au",
            "const uint8_t *bytes",
            "        size_t size = wire - 1u;\n",
            &(skipped + &frame),
            source,
        );
    }

    /// Frames that a delimiter ends, in whose bytes it does not occur; it may stand in front of them, too.
    fn next_stuffed(&self, stuffing: Stuffing, source: &mut Code) {
        let Self { stem, .. } = self;
        let delimiter = format!("0x{:02X}u", stuffing.delimiter());
        let leads = stuffing.leads();
        let decode = match self.replaced() {
            None => "        while (right && from < stuffed) {\n            \
                     size_t code = bytes[from];\n            size_t n;\n            \
                     if (from + code > stuffed) {\n                right = false;\n                break;\n            }\n            \
                     for (n = 1; n < code; n++) {\n                bytes[to++] = bytes[from + n];\n            }\n            \
                     from += code;\n            \
                     if (code < 0xFFu && from < stuffed) {\n                bytes[to++] = 0;\n            }\n        }\n"
                .to_owned(),
            Some(replaced) => format!(
                "        while (right && from < stuffed) {{\n            \
                     uint8_t code = bytes[from++];\n            \
                     if (code == 0x{:02X}u) {{\n                \
                         code = from < stuffed ? bytes[from++] : {delimiter};\n                \
                         right = !({});\n                \
                         code = (uint8_t)({});\n            }}\n            \
                     bytes[to++] = code;\n        }}\n",
                replaced.escape, replaced.wrong, replaced.plain
            ),
        };
        let (lead, front, broken) = match leads {
            // The delimiter that ends what is no frame may begin one.
            true => (
                "        const size_t lead = bytes[0] == DELIMITER ? 1u : 0u;\n",
                "        if (wire <= lead + 1u) {\n            \
                 /* The delimiter in front of a frame; of several the last. */\n            \
                 STEM_receiver_skip(receiver, wire - 1u);\n            receiver->looked = 1;\n            continue;\n        }\n        \
                 bytes += lead;\n",
                "        STEM_receiver_skip(receiver, wire - 1u);\n        receiver->looked = 1;\n",
            ),
            false => ("", "", "        STEM_receiver_skip(receiver, wire);\n"),
        };
        let fill = |text: &str| filled(text, &[("STEM", stem), ("DELIMITER", &delimiter)]);
        let locals = format!(
            "        size_t from = 0;\n        size_t to = 0;\n        bool right = true;\n{}        \
             const size_t stuffed = wire - 1u{};\n",
            fill(lead),
            if leads { " - lead" } else { "" }
        );
        let any = if leads { "right" } else { "right && stuffed > 0u" };
        let otherwise = if leads { "} else {" } else { "} else if (!right) {" };
        let frame = format!(
            "{}{}{decode}        receiver->looked = 0;\n        \
             if ({any}) {{\n{}        {otherwise}\n            receiver->bad_values++;\n        }}\n{}",
            if leads { "        receiver->skipping = false;\n".to_owned() } else { self.skipped() },
            fill(front),
            self.judge("bytes", "to", "wire", "            "),
            fill(broken),
        );
        self.next_delimited(&delimiter, "uint8_t *bytes", &locals, &frame, source);
    }

    /// Statements that end at a delimiter what is skipped.
    fn skipped(&self) -> String {
        format!(
            "        if (receiver->skipping) {{\n            receiver->skipping = false;\n            \
                 {}_receiver_skip(receiver, wire);\n            continue;\n        }}\n",
            self.stem
        )
    }

    /// Looking for the next delimiter. `frame` are statements for the `wire` bytes of `bytes` that end with one, `locals` their variables.
    fn next_delimited(&self, delimiter: &str, bytes: &str, locals: &str, frame: &str, source: &mut Code) {
        let Self { stem, link_upper, .. } = self;
        let begins = match self.plan.sync.len() {
            0 => String::new(),
            count => format!(
                "        if (!receiver->skipping && wire <= {count}u && bytes[wire - 1u] != sync[wire - 1u]) {{\n            \
                     /* What stands in front of sync bytes is none of the frame. */\n            \
                     {stem}_receiver_skip(receiver, 1);\n            continue;\n        }}\n"
            ),
        };
        let sync = self.sync_bytes();
        source.lines(&format!(
            "{link_upper}_FUNCTION bool {stem}_receiver_next({stem}_receiver_t *receiver, {stem}_frame_t *frame)\n{{\n\
             {sync}    \
                 while (receiver->looked < receiver->end - receiver->start) {{\n        \
                     {bytes} = receiver->buffer + receiver->start;\n        \
                     const size_t wire = receiver->looked + 1u;\n\
                 {locals}{begins}        \
                     if (bytes[wire - 1u] != {delimiter}) {{\n            \
                         receiver->looked = wire;\n            \
                         if (receiver->skipping) {{\n                \
                             {stem}_receiver_skip(receiver, wire);\n            }}\n            \
                         continue;\n        }}\n\
                 {frame}    }}\n    \
                 if (receiver->ended) {{\n        \
                     {stem}_receiver_skip(receiver, receiver->end - receiver->start);\n        receiver->skipping = false;\n    }}\n    \
                 return false;\n}}\n",
        ));
        source.line("");
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
                     if (wire == 0u) {{\n            return false;\n        }}\n\
             {}        \
                     {stem}_receiver_skip(receiver, wire);\n    }}\n}}\n",
            self.judge("bytes", "wire", "wire", "        "),
        ));
        source.line("");
    }
}

/// Statements, each line further to the right.
fn indented(text: &str, indent: &str) -> String {
    text.lines().map(|line| format!("{indent}{line}\n")).collect()
}
