/* See by_hand.c. */
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

typedef struct {
    uint8_t sections, state, opening, faults, operator_length, battery;
    int8_t pump_temp;
    uint16_t upstream, oil;
    bool has_operator, moving;
    char operator_text[12];
    uint32_t latch_force;
} hand_gate_status_t;

typedef struct {
    uint8_t state, counter;
    uint16_t pressure, speed;
    int8_t tank, motor;
} hand_pump_status_t;

typedef struct {
    uint32_t started;
    uint8_t from, to;
    uint16_t duration, pressure;
} hand_stroke_t;

typedef struct {
    uint32_t total;
    uint8_t count;
    hand_stroke_t strokes[4];
} hand_strokes_t;

int hand_gate_status_encode(const hand_gate_status_t *m, uint8_t *b, size_t room, size_t *used);
int hand_gate_status_decode(hand_gate_status_t *m, const uint8_t *b, size_t size);
int hand_pump_status_encode(const hand_pump_status_t *m, uint8_t *b, size_t room, size_t *used);
int hand_pump_status_decode(hand_pump_status_t *m, const uint8_t *b, size_t size);
int hand_strokes_encode(const hand_strokes_t *m, uint8_t *b, size_t room, size_t *used);
int hand_strokes_decode(hand_strokes_t *m, const uint8_t *b, size_t size);
