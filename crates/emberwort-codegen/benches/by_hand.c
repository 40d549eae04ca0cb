/* What a careful engineer would write for three messages of the Marlock, with the checks of the generated code: for the comparison that
 * scripts/generated-c makes. */
#include "by_hand.h"

#include <string.h>

static bool gate_status_is_valid(const hand_gate_status_t *m)
{
    return m->state <= 4u && m->opening <= 200u && (m->upstream <= 2200u || m->upstream == 4095u) && m->oil <= 4095u
        && (m->faults & (uint8_t)~0x8Fu) == 0u;
}

int hand_gate_status_encode(const hand_gate_status_t *m, uint8_t *b, size_t room, size_t *used)
{
    size_t at = 8;
    if (m->sections < 1u || m->sections > 3u || !gate_status_is_valid(m)) {
        return 3;
    }
    if (room < 8u) {
        return 4;
    }
    b[0] = m->has_operator ? 1u : 0u;
    b[1] = (uint8_t)(m->state | m->opening << 3);
    b[2] = (uint8_t)(m->opening >> 5 | m->upstream << 3);
    b[3] = (uint8_t)(m->upstream >> 5 | m->oil << 7);
    b[4] = (uint8_t)(m->oil >> 1);
    b[5] = (uint8_t)(m->oil >> 9 | (uint8_t)m->pump_temp << 3);
    b[6] = (uint8_t)((uint8_t)m->pump_temp >> 5 | m->faults << 3);
    b[7] = (uint8_t)(m->faults >> 5);
    if (m->has_operator) {
        if (m->operator_length > 12u) {
            return 2;
        }
        if (room - at < 1u + (size_t)m->operator_length) {
            return 4;
        }
        b[at] = m->operator_length;
        memcpy(b + at + 1, m->operator_text, m->operator_length);
        at += 1u + (size_t)m->operator_length;
    }
    if (m->sections > 1u) {
        if (room - at < 1u) {
            return 4;
        }
        b[at++] = m->battery;
    }
    if (m->sections > 2u) {
        if ((m->latch_force & 0x7F800000u) == 0x7F800000u) {
            return 3;
        }
        if (room - at < 5u) {
            return 4;
        }
        b[at] = (uint8_t)m->latch_force;
        b[at + 1] = (uint8_t)(m->latch_force >> 8);
        b[at + 2] = (uint8_t)(m->latch_force >> 16);
        b[at + 3] = (uint8_t)(m->latch_force >> 24);
        b[at + 4] = m->moving ? 1u : 0u;
        at += 5;
    }
    *used = at;
    return 0;
}

int hand_gate_status_decode(hand_gate_status_t *m, const uint8_t *b, size_t size)
{
    size_t at = 8;
    if (size < 8u) {
        return 1;
    }
    m->state = b[1] & 7u;
    m->opening = (uint8_t)(b[1] >> 3 | (b[2] & 7u) << 5);
    m->upstream = (uint16_t)(b[2] >> 3 | (b[3] & 0x7Fu) << 5);
    m->oil = (uint16_t)(b[3] >> 7 | (unsigned)b[4] << 1 | (b[5] & 7u) << 9);
    m->pump_temp = (int8_t)(uint8_t)(b[5] >> 3 | (b[6] & 7u) << 5);
    m->faults = (uint8_t)(b[6] >> 3 | (b[7] & 7u) << 5);
    m->has_operator = (b[0] & 1u) != 0u;
    m->operator_length = 0;
    m->battery = 120;
    m->latch_force = 0;
    m->moving = false;
    if (m->has_operator) {
        if (size - at < 1u) {
            return 1;
        }
        m->operator_length = b[at];
        if (m->operator_length > 12u) {
            return 2;
        }
        at++;
        if (size - at < m->operator_length) {
            return 1;
        }
        memcpy(m->operator_text, b + at, m->operator_length);
        at += m->operator_length;
    }
    m->sections = 1;
    if (size == at) {
        return 0;
    }
    m->battery = b[at++];
    m->sections = 2;
    if (size == at) {
        return 0;
    }
    if (size - at < 5u) {
        return 1;
    }
    m->latch_force = (uint32_t)b[at] | (uint32_t)b[at + 1] << 8 | (uint32_t)b[at + 2] << 16 | (uint32_t)b[at + 3] << 24;
    m->moving = (b[at + 4] & 1u) != 0u;
    m->sections = 3;
    return 0;
}

int hand_pump_status_encode(const hand_pump_status_t *m, uint8_t *b, size_t room, size_t *used)
{
    if (m->state > 2u || m->pressure > 4095u || m->speed > 16383u || m->counter > 15u) {
        return 3;
    }
    if (room < 8u) {
        return 4;
    }
    b[0] = m->state;
    b[1] = (uint8_t)(m->pressure >> 4);
    b[2] = (uint8_t)((m->pressure & 0x0Fu) << 4 | m->speed >> 10);
    b[3] = (uint8_t)(m->speed >> 2);
    b[4] = (uint8_t)((m->speed & 3u) << 6);
    b[5] = (uint8_t)m->tank;
    b[6] = (uint8_t)m->motor;
    b[7] = m->counter;
    *used = 8;
    return 0;
}

int hand_pump_status_decode(hand_pump_status_t *m, const uint8_t *b, size_t size)
{
    if (size < 8u) {
        return 1;
    }
    m->state = b[0] & 3u;
    m->pressure = (uint16_t)((unsigned)b[1] << 4 | b[2] >> 4);
    m->speed = (uint16_t)((b[2] & 0x0Fu) << 10 | (unsigned)b[3] << 2 | b[4] >> 6);
    m->tank = (int8_t)b[5];
    m->motor = (int8_t)b[6];
    m->counter = b[7] & 0x0Fu;
    return 0;
}

int hand_strokes_encode(const hand_strokes_t *m, uint8_t *b, size_t room, size_t *used)
{
    size_t at = 0;
    uint32_t left = m->total;
    unsigned n;
    do {
        if (at >= room) {
            return 4;
        }
        b[at++] = (uint8_t)((left & 0x7Fu) | (left > 0x7Fu ? 0x80u : 0u));
        left >>= 7;
    } while (left != 0u);
    if (m->count > 4u) {
        return 2;
    }
    if (room - at < 2u + (size_t)m->count * 10u) {
        return 4;
    }
    b[at++] = m->count;
    b[at++] = 10;
    for (n = 0; n < m->count; n++) {
        const hand_stroke_t *s = &m->strokes[n];
        uint8_t *p = b + at;
        if (s->from > 200u || s->to > 200u || s->pressure > 4095u) {
            return 3;
        }
        p[0] = (uint8_t)s->started;
        p[1] = (uint8_t)(s->started >> 8);
        p[2] = (uint8_t)(s->started >> 16);
        p[3] = (uint8_t)(s->started >> 24);
        p[4] = s->from;
        p[5] = s->to;
        p[6] = (uint8_t)s->duration;
        p[7] = (uint8_t)(s->duration >> 8);
        p[8] = (uint8_t)s->pressure;
        p[9] = (uint8_t)(s->pressure >> 8);
        at += 10;
    }
    *used = at;
    return 0;
}

int hand_strokes_decode(hand_strokes_t *m, const uint8_t *b, size_t size)
{
    size_t at = 0;
    unsigned shift = 0;
    size_t each;
    unsigned n;
    m->total = 0;
    for (;;) {
        uint8_t byte;
        if (at >= size) {
            return 1;
        }
        byte = b[at++];
        if (shift == 28 && (byte & 0xF0u) != 0u) {
            return 11;
        }
        m->total |= (uint32_t)(byte & 0x7Fu) << shift;
        shift += 7;
        if ((byte & 0x80u) == 0u) {
            break;
        }
    }
    if (size - at < 2u) {
        return 1;
    }
    m->count = b[at];
    each = b[at + 1];
    at += 2;
    if (m->count > 4u) {
        return 2;
    }
    for (n = 0; n < m->count; n++) {
        hand_stroke_t *s = &m->strokes[n];
        const uint8_t *p = b + at;
        if (size - at < each || each < 8u || (each > 8u && each < 10u)) {
            return 1;
        }
        s->started = (uint32_t)p[0] | (uint32_t)p[1] << 8 | (uint32_t)p[2] << 16 | (uint32_t)p[3] << 24;
        s->from = p[4];
        s->to = p[5];
        s->duration = (uint16_t)(p[6] | (unsigned)p[7] << 8);
        s->pressure = each > 8u ? (uint16_t)(p[8] | (p[9] & 0x0Fu) << 8) : 0u;
        at += each;
    }
    return 0;
}

/* The CRC of bus485: polynomial 0x1021, highest bit first, all bits set at first. */
static const uint16_t crc_table[256] = {
    0x0000, 0x1021, 0x2042, 0x3063, 0x4084, 0x50A5, 0x60C6, 0x70E7, 0x8108, 0x9129,
    0xA14A, 0xB16B, 0xC18C, 0xD1AD, 0xE1CE, 0xF1EF, 0x1231, 0x0210, 0x3273, 0x2252,
    0x52B5, 0x4294, 0x72F7, 0x62D6, 0x9339, 0x8318, 0xB37B, 0xA35A, 0xD3BD, 0xC39C,
    0xF3FF, 0xE3DE, 0x2462, 0x3443, 0x0420, 0x1401, 0x64E6, 0x74C7, 0x44A4, 0x5485,
    0xA56A, 0xB54B, 0x8528, 0x9509, 0xE5EE, 0xF5CF, 0xC5AC, 0xD58D, 0x3653, 0x2672,
    0x1611, 0x0630, 0x76D7, 0x66F6, 0x5695, 0x46B4, 0xB75B, 0xA77A, 0x9719, 0x8738,
    0xF7DF, 0xE7FE, 0xD79D, 0xC7BC, 0x48C4, 0x58E5, 0x6886, 0x78A7, 0x0840, 0x1861,
    0x2802, 0x3823, 0xC9CC, 0xD9ED, 0xE98E, 0xF9AF, 0x8948, 0x9969, 0xA90A, 0xB92B,
    0x5AF5, 0x4AD4, 0x7AB7, 0x6A96, 0x1A71, 0x0A50, 0x3A33, 0x2A12, 0xDBFD, 0xCBDC,
    0xFBBF, 0xEB9E, 0x9B79, 0x8B58, 0xBB3B, 0xAB1A, 0x6CA6, 0x7C87, 0x4CE4, 0x5CC5,
    0x2C22, 0x3C03, 0x0C60, 0x1C41, 0xEDAE, 0xFD8F, 0xCDEC, 0xDDCD, 0xAD2A, 0xBD0B,
    0x8D68, 0x9D49, 0x7E97, 0x6EB6, 0x5ED5, 0x4EF4, 0x3E13, 0x2E32, 0x1E51, 0x0E70,
    0xFF9F, 0xEFBE, 0xDFDD, 0xCFFC, 0xBF1B, 0xAF3A, 0x9F59, 0x8F78, 0x9188, 0x81A9,
    0xB1CA, 0xA1EB, 0xD10C, 0xC12D, 0xF14E, 0xE16F, 0x1080, 0x00A1, 0x30C2, 0x20E3,
    0x5004, 0x4025, 0x7046, 0x6067, 0x83B9, 0x9398, 0xA3FB, 0xB3DA, 0xC33D, 0xD31C,
    0xE37F, 0xF35E, 0x02B1, 0x1290, 0x22F3, 0x32D2, 0x4235, 0x5214, 0x6277, 0x7256,
    0xB5EA, 0xA5CB, 0x95A8, 0x8589, 0xF56E, 0xE54F, 0xD52C, 0xC50D, 0x34E2, 0x24C3,
    0x14A0, 0x0481, 0x7466, 0x6447, 0x5424, 0x4405, 0xA7DB, 0xB7FA, 0x8799, 0x97B8,
    0xE75F, 0xF77E, 0xC71D, 0xD73C, 0x26D3, 0x36F2, 0x0691, 0x16B0, 0x6657, 0x7676,
    0x4615, 0x5634, 0xD94C, 0xC96D, 0xF90E, 0xE92F, 0x99C8, 0x89E9, 0xB98A, 0xA9AB,
    0x5844, 0x4865, 0x7806, 0x6827, 0x18C0, 0x08E1, 0x3882, 0x28A3, 0xCB7D, 0xDB5C,
    0xEB3F, 0xFB1E, 0x8BF9, 0x9BD8, 0xABBB, 0xBB9A, 0x4A75, 0x5A54, 0x6A37, 0x7A16,
    0x0AF1, 0x1AD0, 0x2AB3, 0x3A92, 0xFD2E, 0xED0F, 0xDD6C, 0xCD4D, 0xBDAA, 0xAD8B,
    0x9DE8, 0x8DC9, 0x7C26, 0x6C07, 0x5C64, 0x4C45, 0x3CA2, 0x2C83, 0x1CE0, 0x0CC1,
    0xEF1F, 0xFF3E, 0xCF5D, 0xDF7C, 0xAF9B, 0xBFBA, 0x8FD9, 0x9FF8, 0x6E17, 0x7E36,
    0x4E55, 0x5E74, 0x2E93, 0x3EB2, 0x0ED1, 0x1EF0,
};

#define STEP(sum, byte) ((uint16_t)((sum) << 8 ^ crc_table[(uint8_t)((sum) >> 8 ^ (byte))]))

int hand_build(const hand_frame_t *frame, uint8_t *out, size_t room, size_t *used)
{
    uint16_t sum = 0xFFFF;
    size_t n;
    if (frame->size > 120u) {
        return 6;
    }
    if (room < frame->size + 8u) {
        return 4;
    }
    out[0] = 0xC6;
    out[1] = 0x39;
    out[2] = frame->node;
    out[3] = frame->kind;
    out[4] = frame->counter;
    out[5] = (uint8_t)frame->size;
    memcpy(out + 6, frame->body, frame->size);
    for (n = 2; n < frame->size + 6u; n++) {
        sum = STEP(sum, out[n]);
    }
    out[n] = (uint8_t)sum;
    out[n + 1] = (uint8_t)(sum >> 8);
    *used = n + 2;
    return 0;
}

void hand_receiver_init(hand_receiver_t *r)
{
    memset(r, 0, sizeof *r);
}

static bool body_is_readable(uint8_t kind, const uint8_t *b, size_t size)
{
    hand_gate_status_t gate;
    /* The other kinds would stand here. */
    return kind == 0x21u && hand_gate_status_decode(&gate, b, size) == 0;
}

static bool take(hand_receiver_t *r, uint8_t byte, hand_frame_t *frame)
{
    r->buffer[r->held++] = byte;
    switch (r->held) {
    case 1:
        if (byte != 0xC6u) {
            r->held = 0;
            r->skipped_bytes++;
        }
        r->sum = 0xFFFF;
        return false;
    case 2:
        if (byte != 0x39u) {
            r->held = byte == 0xC6u;
            r->skipped_bytes += 2u - (unsigned)r->held;
        }
        return false;
    case 6:
        if (byte > 120u) {
            r->bad_lengths++;
            r->needed = 0;
            return true;
        }
        r->needed = byte + 8u;
        break;
    default:
        break;
    }
    if (r->held < 6u || r->held <= r->needed - 2u) {
        r->sum = STEP(r->sum, byte);
        return false;
    }
    if (r->held < r->needed) {
        return false;
    }
    if ((r->buffer[r->held - 2] | r->buffer[r->held - 1] << 8) != r->sum) {
        r->bad_checksums++;
        r->needed = 0;
        return true;
    }
    frame->node = r->buffer[2];
    frame->kind = r->buffer[3];
    frame->counter = r->buffer[4];
    frame->body = r->buffer + 6;
    frame->size = r->held - 8u;
    r->held = 0;
    if (body_is_readable(frame->kind, frame->body, frame->size)) {
        r->good_frames++;
    } else {
        r->unread_frames++;
    }
    return true;
}

bool hand_receive(hand_receiver_t *r, uint8_t byte, hand_frame_t *frame)
{
    uint8_t again[128];
    size_t count, n;
    if (!take(r, byte, frame)) {
        return false;
    }
    while (r->needed == 0u) {
        /* What began there was none: the bytes behind its first one come again. */
        count = r->held - 1;
        memcpy(again, r->buffer + 1, count);
        r->skipped_bytes++;
        r->held = 0;
        r->needed = 1;
        for (n = 0; n < count; n++) {
            if (take(r, again[n], frame)) {
                break;
            }
        }
        if (n == count) {
            return false;
        }
    }
    return true;
}
