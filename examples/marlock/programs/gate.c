/* A gate controller (node 3) on a pseudo-terminal: cc -std=c99 -Igen/c programs/gate.c gen/c/marlock.c -o gate && ./gate */
#define _GNU_SOURCE
#include "marlock.h"
#include <fcntl.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <termios.h>
#include <unistd.h>

static int port;

static void send(uint8_t kind, const uint8_t *body, size_t size)
{
    static uint8_t counter;
    marlock_bus485_frame_t frame = {.node = 3, .kind = kind, .counter = counter++, .body = body, .size = size};
    uint8_t wire[MARLOCK_BUS485_LIMIT];
    if (marlock_bus485_build(&frame, wire, sizeof wire, &size) != MARLOCK_OK || write(port, wire, size) < 0) {
        exit(EXIT_FAILURE);
    }
}

int main(void)
{
    static marlock_bus485_receiver_t receiver;
    marlock_bus485_frame_t frame;
    marlock_gate_status_t status;
    marlock_move_gate_t order = {.target = 0};
    marlock_move_accepted_t accepted;
    struct termios raw;
    uint8_t bytes[64];
    size_t used;
    port = posix_openpt(O_RDWR | O_NOCTTY);
    if (port < 0 || grantpt(port) != 0 || unlockpt(port) != 0 || tcgetattr(port, &raw) != 0) {
        return EXIT_FAILURE;
    }
    cfmakeraw(&raw);
    tcsetattr(port, TCSANOW, &raw);
    int kept = open(ptsname(port), O_RDWR | O_NOCTTY); /* so that the port stays while nobody else has it open */
    printf("the port is %s\n", ptsname(port));
    fflush(stdout);
    marlock_gate_status_init(&status);
    marlock_move_accepted_init(&accepted);
    marlock_bus485_receiver_init(&receiver);
    while (kept >= 0) {
        struct pollfd wait = {.fd = port, .events = POLLIN};
        ssize_t count = poll(&wait, 1, 50) > 0 ? read(port, bytes, sizeof bytes) : 0;
        for (ssize_t n = 0; n < count; n++) {
            marlock_bus485_receiver_put(&receiver, bytes[n]);
            while (marlock_bus485_receiver_next(&receiver, &frame)) {
                if (frame.node == 3u && frame.kind == MARLOCK_MOVE_GATE_ID
                    && marlock_move_gate_decode(&order, frame.body, frame.size) == MARLOCK_OK) {
                    uint8_t body[MARLOCK_MOVE_ACCEPTED_GREATEST_SIZE];
                    accepted.target = order.target;
                    marlock_move_accepted_encode(&accepted, body, sizeof body, &used);
                    send(MARLOCK_MOVE_ACCEPTED_ID, body, used);
                }
            }
        }
        if (count == 0) { /* a tick: the gate goes on by up to 5 %, and says where it is */
            int left = order.target - status.opening;
            status.opening = (uint8_t)(status.opening + (left > 10 ? 10 : left < -10 ? -10 : left));
            status.moving = left != 0;
            if (marlock_gate_status_encode(&status, bytes, sizeof bytes, &used) == MARLOCK_OK) {
                send(MARLOCK_GATE_STATUS_ID, bytes, used);
            }
        }
    }
    return EXIT_SUCCESS;
}
