/* The firmware of a gate, with the generated code: the bytes of the bus come and go over standard input and output.
 * BUG plants a mistake: 1 the answer's target is off by one step, 2 every third answer is cut short, 3 it answers for its neighbour. */
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "marlock.h"

#ifndef BUG
#define BUG 0
#endif

#define NODE 3

static uint8_t counter;

static void answer(uint8_t kind, const uint8_t *body, size_t size)
{
    uint8_t wire[MARLOCK_BUS485_LIMIT];
    size_t used = 0;
    marlock_bus485_frame_t frame = { NODE, kind, counter, body, size };
    if (BUG == 3)
        frame.node = NODE + 1;
    if (marlock_bus485_build(&frame, wire, sizeof wire, &used) != MARLOCK_OK)
        return;
    counter++;
    if (BUG == 2 && counter % 3 == 0)
        used--;
    if (write(1, wire, used) != (ssize_t)used)
        _exit(1);
}

static void handle(const marlock_bus485_frame_t *frame)
{
    uint8_t body[MARLOCK_BUS485_LIMIT];
    size_t size = 0;
    if (frame->node != NODE)
        return;
    if (frame->kind == MARLOCK_MOVE_GATE_ID) {
        marlock_move_gate_t asked;
        marlock_move_accepted_t accepted;
        if (marlock_move_gate_decode(&asked, frame->body, frame->size) != MARLOCK_OK)
            return;
        marlock_move_accepted_init(&accepted);
        accepted.target = (uint8_t)(asked.target - (BUG == 1 ? 1 : 0));
        (void)marlock_move_accepted_ready_in_from_scaled(75, &accepted.ready_in);
        if (marlock_move_accepted_encode(&accepted, body, sizeof body, &size) == MARLOCK_OK)
            answer(MARLOCK_MOVE_ACCEPTED_ID, body, size);
    } else if (frame->kind == MARLOCK_WHO_ARE_YOU_ID) {
        marlock_identity_t identity;
        marlock_identity_init(&identity);
        memcpy(identity.serial, "MAR\0\0\7", 6);
        identity.hours = 1000;
        identity.revision = 4;
        if (marlock_identity_encode(&identity, body, sizeof body, &size) == MARLOCK_OK)
            answer(MARLOCK_IDENTITY_ID, body, size);
    }
}

int main(void)
{
    marlock_bus485_receiver_t receiver;
    marlock_bus485_frame_t frame;
    uint8_t bytes[256];
    ssize_t got;
    marlock_bus485_receiver_init(&receiver);
    while ((got = read(0, bytes, sizeof bytes)) > 0) {
        for (ssize_t n = 0; n < got; n++) {
            marlock_bus485_receiver_put(&receiver, bytes[n]);
            while (marlock_bus485_receiver_next(&receiver, &frame))
                if (receiver.result == MARLOCK_OK)
                    handle(&frame);
        }
    }
    return 0;
}
