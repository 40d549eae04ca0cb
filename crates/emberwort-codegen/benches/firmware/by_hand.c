/* The same gate controller as a careful engineer would write it for this link alone, with the checks and the rules of the generated code: values are
 * checked before they are sent; a broken frame is looked through again from one byte after its start; what nobody can read is counted. */
#include <stddef.h>
#include <string.h>

#include "board.h"

#define LIMIT 128u
#define MOVE_GATE 0x40u
#define MOVE_ACCEPTED 0x41u
#define REFUSED 0x4Fu
#define GATE_STATUS 0x21u

#ifdef __AVR__
#include <avr/pgmspace.h>
#define FLASH PROGMEM
#define READ(entry) pgm_read_word(&(entry))
#else
#define FLASH
#define READ(entry) (entry)
#endif

static const uint16_t nibbles[16] FLASH = {
    0x0000, 0x1021, 0x2042, 0x3063, 0x4084, 0x50A5, 0x60C6, 0x70E7, 0x8108, 0x9129, 0xA14A, 0xB16B, 0xC18C, 0xD1AD, 0xE1CE, 0xF1EF,
};

static struct {
    uint8_t buffer[LIMIT];
    uint8_t held;
    bool is_broken;
    uint32_t good_frames, unread_frames, bad_checksums, bad_lengths, skipped_bytes;
} line;

static uint8_t counter;
static uint8_t wire[LIMIT];

static uint16_t crc(const uint8_t *bytes, uint8_t size)
{
    uint16_t sum = 0xFFFF;
    uint8_t n;
    for (n = 0; n < size; n++) {
        sum = (uint16_t)(sum << 4 ^ READ(nibbles[(sum >> 12) ^ (bytes[n] >> 4)]));
        sum = (uint16_t)(sum << 4 ^ READ(nibbles[(sum >> 12) ^ (bytes[n] & 15)]));
    }
    return sum;
}

/* The body stands in `wire` from byte 6 on. */
static void send(uint8_t kind, uint8_t size)
{
    uint16_t sum;
    uint8_t n;
    wire[0] = 0xC6;
    wire[1] = 0x39;
    wire[2] = NODE;
    wire[3] = kind;
    wire[4] = counter++;
    wire[5] = size;
    sum = crc(wire + 2, (uint8_t)(size + 4u));
    wire[size + 6u] = (uint8_t)sum;
    wire[size + 7u] = (uint8_t)(sum >> 8);
    for (n = 0; n < size + 8u; n++) {
        port_put(wire[n]);
    }
}

static void status(void)
{
    uint8_t *b = wire + 6;
    const uint8_t opening = gate_opening(), faults = (uint8_t)sensor(3);
    const uint16_t upstream = sensor(0), oil = sensor(1);
    const uint8_t temp = (uint8_t)sensor(2);
    if (opening > 200u || (upstream > 2200u && upstream != 4095u) || oil > 4095u || (faults & (uint8_t)~0x87u) != 0u) {
        return;
    }
    b[0] = 0;
    b[1] = (uint8_t)(2u | opening << 3);
    b[2] = (uint8_t)(opening >> 5 | upstream << 3);
    b[3] = (uint8_t)(upstream >> 5 | oil << 7);
    b[4] = (uint8_t)(oil >> 1);
    b[5] = (uint8_t)(oil >> 9 | temp << 3);
    b[6] = (uint8_t)(temp >> 5 | faults << 3);
    b[7] = (uint8_t)(faults >> 5);
    b[8] = (uint8_t)sensor(4);
    memset(b + 9, 0, 5);
    send(GATE_STATUS, 14);
}

static void move(const uint8_t *body)
{
    const uint8_t target = body[0], speed = body[1] & 0x1Fu;
    uint8_t *b = wire + 6;
    if (target <= 200u && speed >= 1u && speed <= 20u && sensor(5) < 80u) {
        gate_go(target, speed);
        b[0] = target;
        b[1] = 100;
        b[2] = 0;
        send(MOVE_ACCEPTED, 3);
    } else {
        b[0] = MOVE_GATE;
        b[1] = 1;
        send(REFUSED, 2);
    }
}

/* The first bytes, so many as there are, are a frame, the beginning of one, or none: its size, 0, or -1. */
static int16_t judge(void)
{
    const uint8_t *b = line.buffer;
    uint8_t size;
    uint16_t sum;
    if (line.held > 0u && b[0] != 0xC6u) {
        return -1;
    }
    if (line.held > 1u && b[1] != 0x39u) {
        return -1;
    }
    if (line.held < 6u) {
        return 0;
    }
    if (b[5] > LIMIT - 8u) {
        line.bad_lengths++;
        return -1;
    }
    size = (uint8_t)(b[5] + 8u);
    if (line.held < size) {
        return line.is_broken ? -1 : 0;
    }
    sum = crc(b + 2, (uint8_t)(size - 4u));
    if (b[size - 2u] != (uint8_t)sum || b[size - 1u] != (uint8_t)(sum >> 8)) {
        line.bad_checksums++;
        return -1;
    }
    return size;
}

static void look(void)
{
    while (line.held > 0u) {
        int16_t size = judge();
        if (size == 0) {
            return;
        }
        if (size < 0) {
            line.skipped_bytes++;
            size = 1;
        } else if (line.buffer[3] == MOVE_GATE && size >= 10) {
            line.good_frames++;
            if (line.buffer[2] == NODE) {
                move(line.buffer + 6);
            }
        } else {
            line.unread_frames++;
        }
        line.held = (uint8_t)(line.held - size);
        memmove(line.buffer, line.buffer + size, line.held);
    }
}

int main(void)
{
    for (;;) {
        const int byte = port_get();
        if (byte >= 0) {
            line.is_broken = false;
            line.buffer[line.held++] = (uint8_t)byte;
            look();
        } else if (is_silent()) {
            line.is_broken = true;
            look();
        }
        if (tick()) {
            status();
        }
    }
}
