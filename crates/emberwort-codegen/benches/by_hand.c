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
