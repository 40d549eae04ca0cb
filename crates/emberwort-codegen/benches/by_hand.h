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

/* A receiver of frames on bus485, which gives out those whose body can be read, and looks on one byte behind where a broken one began. */
typedef struct {
    uint8_t buffer[128];
    size_t held, needed;
    uint16_t sum;
    uint32_t good_frames, unread_frames, bad_checksums, bad_lengths, skipped_bytes;
} hand_receiver_t;

typedef struct {
    uint8_t node, kind, counter;
    const uint8_t *body;
    size_t size;
} hand_frame_t;

void hand_receiver_init(hand_receiver_t *r);
/* Whether a frame is whole with this byte; it is valid until the next call. */
bool hand_receive(hand_receiver_t *r, uint8_t byte, hand_frame_t *frame);
int hand_build(const hand_frame_t *frame, uint8_t *out, size_t room, size_t *used);
