/* Does one thing so many times, with generated or hand-written code, and sees that both make the same bytes:
 *     measure generated|hand encode|decode|view gate|pump|strokes TIMES
 *     measure generated|hand build|receive|worst frame TIMES
 *     measure generated|hand nothing gate TIMES
 * `nothing` is what the measuring takes by itself. `view` looks at a body in place, checks it and reads three of its fields; `receive` puts in the bytes of one frame,
 * `worst` those that look like frames at as many places as can be, all of which are judged when the last one comes. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "by_hand.h"
#include "marlock.h"

static marlock_gate_status_t gate;
static hand_gate_status_t hand_gate;
static marlock_pump_status_t pump;
static hand_pump_status_t hand_pump;
static marlock_strokes_t strokes;
static hand_strokes_t hand_strokes;

static void fill(void)
{
    unsigned n;
    marlock_gate_status_init(&gate);
    gate.state = 1;
    gate.opening = 85;
    gate.upstream = 940;
    gate.oil = 999;
    gate.pump_temp = -4;
    gate.faults = 1;
    gate.battery = 121;
    gate.latch_force = 0x41200000u;
    gate.moving = true;
    hand_gate.sections = 3;
    hand_gate.state = gate.state;
    hand_gate.opening = gate.opening;
    hand_gate.upstream = gate.upstream;
    hand_gate.oil = gate.oil;
    hand_gate.pump_temp = gate.pump_temp;
    hand_gate.faults = gate.faults;
    hand_gate.battery = gate.battery;
    hand_gate.latch_force = gate.latch_force;
    hand_gate.moving = gate.moving;
    marlock_pump_status_init(&pump);
    pump.state = 2;
    pump.pressure = 1234;
    pump.speed = 9000;
    pump.tank = 41;
    pump.motor = -7;
    pump.counter = 11;
    hand_pump.state = pump.state;
    hand_pump.pressure = pump.pressure;
    hand_pump.speed = pump.speed;
    hand_pump.tank = pump.tank;
    hand_pump.motor = pump.motor;
    hand_pump.counter = pump.counter;
    marlock_strokes_init(&strokes);
    strokes.total = hand_strokes.total = 70000;
    strokes.strokes_count = hand_strokes.count = 3;
    for (n = 0; n < 3; n++) {
        strokes.strokes[n].started = hand_strokes.strokes[n].started = 1931234567u + n;
        strokes.strokes[n].from = hand_strokes.strokes[n].from = (uint8_t)(20 + n);
        strokes.strokes[n].to = hand_strokes.strokes[n].to = (uint8_t)(90 + n);
        strokes.strokes[n].duration = hand_strokes.strokes[n].duration = (uint16_t)(300 + n);
        strokes.strokes[n].pressure = hand_strokes.strokes[n].pressure = (uint16_t)(2000 + n);
    }
}

/* What is read comes from here, and what is written goes there, so that no compiler leaves it out. */
static uint8_t body[64];
static size_t size;

static marlock_bus485_receiver_t receiver;
static hand_receiver_t hand_receiver;
static uint8_t wire[64];
static size_t wire_size;
static unsigned seen;

static int build(int is_hand)
{
    if (is_hand) {
        hand_frame_t frame = {3, 0x21, 7, body, size};
        return hand_build(&frame, wire, sizeof wire, &wire_size);
    } else {
        marlock_bus485_frame_t frame = {3, 0x21, 7, body, size};
        return (int)marlock_bus485_build(&frame, wire, sizeof wire, &wire_size);
    }
}

static int put(int is_hand, const uint8_t *bytes, size_t count)
{
    size_t n;
    int found = 0;
    for (n = 0; n < count; n++) {
        if (is_hand) {
            hand_frame_t frame;
            found += hand_receive(&hand_receiver, bytes[n], &frame) && frame.size == size;
        } else {
            marlock_bus485_frame_t frame;
            marlock_bus485_receiver_put(&receiver, bytes[n]);
            while (marlock_bus485_receiver_next(&receiver, &frame)) {
                found += frame.size == size;
            }
        }
    }
    return found;
}

static int receive(int is_hand)
{
    return put(is_hand, wire, wire_size) != 1;
}

/* A frame of 128 bytes whose checksum is wrong, and in it the beginning of one at each second byte, as long as a sync byte says. Each pass
 * begins with what the one before left, which is no frame either. */
static int worst(int is_hand)
{
    uint8_t bytes[128] = {0xC6, 0x39, 3, 0x21, 7, 120};
    size_t n;
    for (n = 6; n < sizeof bytes; n++) {
        bytes[n] = n % 2u == 0u ? 0xC6 : 0x39;
    }
    return put(is_hand, bytes, sizeof bytes) != 0;
}

/* The hand-written view is the body itself. */
static int view(int is_hand)
{
    if (is_hand) {
        size_t at = 8;
        if (size < at) {
            return 1;
        }
        if ((body[0] & 1u) != 0u) {
            if (size < 9u || body[8] > 12u || size - 9u < body[8]) {
                return 1;
            }
            at += 1u + (size_t)body[8];
        }
        /* One byte more, or that and five more. */
        if (size > at + 1u && size - at < 6u) {
            return 1;
        }
        seen += (unsigned)(body[1] & 7u) + (uint8_t)(body[1] >> 3 | (body[2] & 7u) << 5)
            + (uint16_t)(body[3] >> 7 | (unsigned)body[4] << 1 | (body[5] & 7u) << 9);
    } else {
        marlock_gate_status_view_t gate_view;
        if (marlock_gate_status_view(&gate_view, body, size) != MARLOCK_OK) {
            return 1;
        }
        seen += (unsigned)marlock_gate_status_get_state(&gate_view) + marlock_gate_status_get_opening(&gate_view)
            + marlock_gate_status_get_oil(&gate_view);
    }
    return 0;
}

/* One function for each thing, so that choosing it costs nothing. */
#define PAIR(name, hand, generated) \
    static int name##_by_hand(void) { return hand; } \
    static int name##_generated(void) { return (int)(generated); }
PAIR(nothing, 0, 0)
PAIR(encode_gate, hand_gate_status_encode(&hand_gate, body, sizeof body, &size),
    marlock_gate_status_encode(&gate, body, sizeof body, &size))
PAIR(decode_gate, hand_gate_status_decode(&hand_gate, body, size), marlock_gate_status_decode(&gate, body, size))
PAIR(encode_pump, hand_pump_status_encode(&hand_pump, body, sizeof body, &size),
    marlock_pump_status_encode(&pump, body, sizeof body, &size))
PAIR(decode_pump, hand_pump_status_decode(&hand_pump, body, size), marlock_pump_status_decode(&pump, body, size))
PAIR(encode_strokes, hand_strokes_encode(&hand_strokes, body, sizeof body, &size),
    marlock_strokes_encode(&strokes, body, sizeof body, &size))
PAIR(decode_strokes, hand_strokes_decode(&hand_strokes, body, size), marlock_strokes_decode(&strokes, body, size))
PAIR(view_gate, view(1), view(0))
PAIR(build_frame, build(1), build(0))
PAIR(receive_frame, receive(1), receive(0))
PAIR(worst_frame, worst(1), worst(0))

static const struct {
    const char *call, *what;
    int (*functions[2])(void);
} things[] = {
#define THING(call, what) {#call, #what, {call##_##what##_generated, call##_##what##_by_hand}}
    THING(encode, gate), THING(decode, gate), THING(encode, pump), THING(decode, pump), THING(encode, strokes),
    THING(decode, strokes), THING(view, gate), THING(build, frame), THING(receive, frame), THING(worst, frame),
    {"nothing", "gate", {nothing_generated, nothing_by_hand}},
};

static int (*chosen(int is_hand, const char *call, const char *what))(void)
{
    size_t n;
    for (n = 0; n < sizeof things / sizeof *things; n++) {
        if (strcmp(things[n].call, call) == 0 && strcmp(things[n].what, what) == 0) {
            return things[n].functions[is_hand];
        }
    }
    exit(2);
}

int main(int count, char **words)
{
    uint8_t other[64];
    long n, times;
    int is_hand, failed;
    const char *what;
    int (*one)(void);
    if (count != 5) {
        return 2;
    }
    is_hand = words[1][0] == 'h';
    what = strcmp(words[3], "frame") == 0 ? "gate" : words[3];
    one = chosen(is_hand, words[2], words[3]);
    times = atol(words[4]);
    fill();
    marlock_bus485_receiver_init(&receiver);
    hand_receiver_init(&hand_receiver);
    memset(other, 0, sizeof other);
    failed = chosen(!is_hand, "encode", what)();
    memcpy(other, body, size);
    memset(body, 0, sizeof body);
    failed |= chosen(is_hand, "encode", what)();
    if (failed || memcmp(other, body, sizeof body) != 0) {
        printf("the bytes differ\n");
        return 1;
    }
    failed = build(!is_hand);
    memcpy(other, wire, sizeof wire);
    failed |= build(is_hand);
    if (failed || memcmp(other, wire, sizeof wire) != 0) {
        printf("the frames differ\n");
        return 1;
    }
    for (n = 0; n < times; n++) {
        failed |= one();
    }
    return failed;
}
