//! Receivers of frames that begin with a status byte, and senders that leave it out where they can.

use emberwort_model::plan::FrameFinder;

use super::Channel;
use crate::code::Code;

impl Channel<'_> {
    /// Fields of the receiver besides those that all have.
    pub(super) fn status_fields() -> &'static str {
        "    uint8_t running; /* the status byte that may be left out; 0 for none */\n    \
         uint8_t pending; /* the byte put last, while it has not been looked at */\n    \
         uint8_t alone; /* a frame of one byte that may stand inside of another */\n    \
         bool has_pending;\n    \
         size_t wire; /* bytes of the frame at hand as they came */\n    \
         int expected; /* bytes of its body */\n"
    }

    pub(super) fn status_bytes(&self, running: bool, header: &mut Code, source: &mut Code) {
        let mut sizes = String::new();
        for ((key, _), size) in self.plan.keys.iter().zip(&self.plan.body_sizes) {
            let size = size.map_or("VARIES".to_owned(), |size| size.to_string());
            sizes += &format!("    case 0x{key:02X}u:\n        return {size};\n");
        }
        let fill = |text: &str| {
            let named =
                text.replace("STEM", &self.stem).replace("UPPER", &self.upper).replace("LINK", &self.link_upper);
            named.replace("SIZES", &sizes).replace("VARIES", "-2")
        };
        source.lines(&fill(RECEIVER));
        source.line("");
        if running {
            header.lines(&fill(LEAVE_OUT_HEADER));
            header.line("");
            source.lines(&fill(LEAVE_OUT));
            source.line("");
        }
    }

    /// Whether a body may stand behind a status byte.
    pub(super) fn high_bits(&self) -> Option<String> {
        let FrameFinder::StatusBytes { .. } = self.plan.finder else { return None };
        Some(format!(
            "    for (size = 0; size < frame->size; size++) {{\n        \
                 if (frame->body[size] >= 0x80u) {{\n            return {}_OUT_OF_RANGE;\n        }}\n    }}",
            self.link_upper
        ))
    }
}

const LEAVE_OUT_HEADER: &str = "/* How many bytes of a built frame to leave out at its front when it is sent: 1 if its status byte is the one that runs\n   already. `running` is the sender's, 0 at first. */\nsize_t STEM_leave_out(uint8_t *running, const uint8_t *frame, size_t size);\n";

const LEAVE_OUT: &str = "size_t STEM_leave_out(uint8_t *running, const uint8_t *frame, size_t size)
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

void STEM_receiver_put(STEM_receiver_t *receiver, uint8_t byte)
{
    if (receiver->ended) {
        /* What was half before the silence. */
        receiver->skipped_bytes += (uint32_t)receiver->wire;
        receiver->held = 0;
        receiver->wire = 0;
        receiver->ended = false;
    }
    if (receiver->has_pending) {
        /* Nobody called ..._next(). */
        receiver->skipped_bytes++;
    }
    receiver->pending = byte;
    receiver->has_pending = true;
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

bool STEM_receiver_next(STEM_receiver_t *receiver, STEM_frame_t *frame)
{
    while (receiver->has_pending) {
        uint8_t byte = receiver->pending;
        if (byte >= 0xF8u) {
            receiver->has_pending = false;
            receiver->alone = byte;
            if (STEM_receiver_accepts(receiver, frame, &receiver->alone, 1u, 1u)) {
                return true;
            }
            receiver->skipped_bytes++;
            return false;
        }
        if (byte >= 0x80u && receiver->held > 0u) {
            if (STEM_receiver_ends(receiver, frame, receiver->expected == VARIES)) {
                return true;
            }
            continue;
        }
        receiver->has_pending = false;
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
            return STEM_receiver_ends(receiver, frame, true);
        }
    }
    if (receiver->ended && receiver->held > 0u) {
        return STEM_receiver_ends(receiver, frame, receiver->expected == VARIES);
    }
    return false;
}
";
