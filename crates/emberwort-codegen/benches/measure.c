/* Does one thing so many times, with generated or hand-written code, and sees that both make the same bytes:
 *     measure generated|hand encode|decode gate|pump|strokes TIMES */
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

static int one(int is_hand, int is_encode, char what)
{
    if (what == 'g') {
        if (is_hand) {
            return is_encode ? hand_gate_status_encode(&hand_gate, body, sizeof body, &size)
                             : hand_gate_status_decode(&hand_gate, body, size);
        }
        return is_encode ? (int)marlock_gate_status_encode(&gate, body, sizeof body, &size)
                         : (int)marlock_gate_status_decode(&gate, body, size);
    }
    if (what == 'p') {
        if (is_hand) {
            return is_encode ? hand_pump_status_encode(&hand_pump, body, sizeof body, &size)
                             : hand_pump_status_decode(&hand_pump, body, size);
        }
        return is_encode ? (int)marlock_pump_status_encode(&pump, body, sizeof body, &size)
                         : (int)marlock_pump_status_decode(&pump, body, size);
    }
    if (is_hand) {
        return is_encode ? hand_strokes_encode(&hand_strokes, body, sizeof body, &size)
                         : hand_strokes_decode(&hand_strokes, body, size);
    }
    return is_encode ? (int)marlock_strokes_encode(&strokes, body, sizeof body, &size)
                     : (int)marlock_strokes_decode(&strokes, body, size);
}

int main(int count, char **words)
{
    uint8_t other[64];
    long n, times;
    int is_hand, is_encode, failed;
    if (count != 5) {
        return 2;
    }
    is_hand = words[1][0] == 'h';
    is_encode = words[2][0] == 'e';
    times = atol(words[4]);
    fill();
    memset(other, 0, sizeof other);
    failed = one(!is_hand, 1, words[3][0]);
    memcpy(other, body, size);
    memset(body, 0, sizeof body);
    failed |= one(is_hand, 1, words[3][0]);
    if (failed || memcmp(other, body, sizeof body) != 0) {
        printf("the bytes differ\n");
        return 1;
    }
    for (n = 0; n < times; n++) {
        failed |= one(is_hand, is_encode, words[3][0]);
    }
    return failed;
}
