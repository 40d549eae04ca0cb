//! Receivers of frames that begin with a status byte, and senders that leave it out where they can.

use emberwort_model::plan::FrameFinder;

use super::Channel;
use crate::code::{Code, filled};

impl Channel<'_> {
    /// Fields of the receiver besides those that all have.
    pub(super) fn status_fields() -> &'static str {
        "    uint8_t running; /* the status byte that may be left out; 0 for none */\n    \
         uint8_t alone; /* a frame of one byte that may stand inside of another */\n    \
         size_t held; /* bytes of the frame at hand, at the front of the buffer */\n    \
         size_t start; /* first byte not looked at, behind them and the place of a status byte */\n    \
         size_t end; /* of the bytes that are there */\n    \
         size_t wire; /* bytes of the frame at hand as they came */\n    \
         int expected; /* bytes of its body */\n"
    }

    pub(super) fn status_bytes(&self, running: bool, header: &mut Code, source: &mut Code) {
        let mut sizes = String::new();
        for ((key, _), size) in self.plan.keys.iter().zip(&self.plan.body_sizes) {
            let size = size.map_or("-2".to_owned(), |size| size.to_string());
            sizes += &format!("    case 0x{key:02X}u:\n        return {size};\n");
        }
        let words = [
            ("STEM", &*self.stem),
            ("UPPER", &self.upper),
            ("LINK", &self.link_upper),
            ("SIZES", &sizes),
            ("VARIES", "-2"),
        ];
        let fill = |text: &str| filled(text, &words);
        source.lines(&fill(RECEIVER));
        source.line("");
        if running {
            header.lines(&fill(LEAVE_OUT_HEADER));
            header.line("");
            source.lines(&fill(LEAVE_OUT));
            source.line("");
        }
    }

    /// Refuses a body that may not stand behind a status byte.
    pub(super) fn high_bits(&self, source: &mut Code) {
        let FrameFinder::StatusBytes { .. } = self.plan.finder else { return };
        source.open("for (size = 0; size < frame->size; size++) {");
        source.open("if (frame->body[size] >= 0x80u) {");
        source.line(format!("return {}_OUT_OF_RANGE;", self.link_upper));
        source.close("}");
        source.close("}");
    }
}

const LEAVE_OUT_HEADER: &str = "/* How many bytes of a built frame to leave out at its front when it is sent: 1 if its status byte is the one that runs\n   already. `running` is the sender's, 0 at first. */\nLINK_FUNCTION size_t STEM_leave_out(uint8_t *running, const uint8_t *frame, size_t size);\n";

const LEAVE_OUT: &str = "LINK_FUNCTION size_t STEM_leave_out(uint8_t *running, const uint8_t *frame, size_t size)
{
    uint8_t before = *running;
    if (size == 0u || frame[0] >= 0xF8u) {
        return 0;
    }
    *running = frame[0] < 0xF0u ? frame[0] : 0u;
    return size > 1u && frame[0] == before ? 1u : 0u;
}
";

const RECEIVER: &str =
    "/* Bytes of the body after a status byte: VARIES if the next status byte ends it, as where no message has it. */
static int STEM_body_size(uint8_t status)
{
    switch (status) {
SIZES    default:
        return VARIES;
    }
}

/* What is there is of no frame. */
static void STEM_receiver_drop(STEM_receiver_t *receiver)
{
    receiver->skipped_bytes += (uint32_t)(receiver->wire + (receiver->end - receiver->start));
    receiver->held = 0;
    receiver->wire = 0;
    receiver->start = receiver->end;
}

LINK_FUNCTION void STEM_receiver_put(STEM_receiver_t *receiver, uint8_t byte)
{
    if (receiver->ended) {
        /* What was half before the silence. */
        STEM_receiver_drop(receiver);
        receiver->ended = false;
    }
    if (receiver->end == UPPER_LIMIT + 1u || receiver->end == 0u) {
        /* A status byte that was left out has its place in front of the others. */
        const size_t front = receiver->held > 1u ? receiver->held : 1u;
        if (receiver->end != 0u && receiver->start == front) {
            /* Nobody called ..._next(): what follows belongs to no status byte that was seen. */
            STEM_receiver_drop(receiver);
            receiver->running = 0;
        }
        receiver->end -= receiver->start;
        memmove(receiver->buffer + front, receiver->buffer + receiver->start, receiver->end);
        receiver->start = front;
        receiver->end += front;
    }
    receiver->buffer[receiver->end] = byte;
    receiver->end++;
}

/* Ends the frame at hand: whether it is a good one. */
static bool STEM_receiver_ends(STEM_receiver_t *receiver, STEM_frame_t *frame, bool whole)
{
    size_t size = receiver->held;
    size_t wire = receiver->wire;
    receiver->held = 0;
    receiver->wire = 0;
    if (whole && STEM_receiver_accepts(receiver, frame, receiver->buffer, size, wire)) {
        return true;
    }
    receiver->bad_lengths += whole ? 0u : 1u;
    receiver->skipped_bytes += (uint32_t)wire;
    return false;
}

LINK_FUNCTION bool STEM_receiver_next(STEM_receiver_t *receiver, STEM_frame_t *frame)
{
    while (receiver->start < receiver->end) {
        const uint8_t byte = receiver->buffer[receiver->start];
        if (byte >= 0xF8u) {
            receiver->start++;
            receiver->alone = byte;
            if (STEM_receiver_accepts(receiver, frame, &receiver->alone, 1u, 1u)) {
                return true;
            }
            receiver->skipped_bytes++;
            continue;
        }
        if (byte >= 0x80u && receiver->held > 0u) {
            if (STEM_receiver_ends(receiver, frame, receiver->expected == VARIES)) {
                return true;
            }
            continue;
        }
        receiver->start++;
        if (byte >= 0x80u) {
            receiver->running = byte < 0xF0u ? byte : 0u;
            receiver->buffer[0] = byte;
            receiver->held = 1;
            receiver->wire = 1;
            receiver->expected = STEM_body_size(byte);
        } else {
            if (receiver->held == 0u && receiver->running != 0u && STEM_body_size(receiver->running) != 0) {
                receiver->buffer[0] = receiver->running;
                receiver->held = 1;
                receiver->expected = STEM_body_size(receiver->running);
            }
            receiver->wire++;
            if (receiver->held == UPPER_LIMIT) {
                receiver->bad_lengths += receiver->expected == -1 ? 0u : 1u;
                receiver->expected = -1;
            }
            if (receiver->held == 0u || receiver->expected == -1) {
                receiver->skipped_bytes += (uint32_t)receiver->wire;
                receiver->wire = 0;
            } else {
                receiver->buffer[receiver->held] = byte;
                receiver->held++;
            }
        }
        if (receiver->expected >= 0 && receiver->held == 1u + (size_t)receiver->expected) {
            if (STEM_receiver_ends(receiver, frame, true)) {
                return true;
            }
        }
    }
    if (receiver->ended && receiver->held > 0u) {
        return STEM_receiver_ends(receiver, frame, receiver->expected == VARIES);
    }
    return false;
}
";
