/* A gate controller (node 3) on a pseudo-terminal: cc -std=c99 -Igen/c programs/gate.c gen/c/marlock.c -o gate && ./gate */
#define _GNU_SOURCE
#include "marlock.h"
#include <fcntl.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <termios.h>
#include <unistd.h>

int main(void)
{
    static marlock_bus485_receiver_t receiver;
    marlock_bus485_sender_t sender = {0};
    marlock_bus485_frame_t frame;
    marlock_gate_status_t status;
    marlock_move_gate_t order = {.target = 0};
    marlock_move_accepted_t accepted;
    struct termios raw;
    uint8_t bytes[MARLOCK_BUS485_LIMIT];
    size_t used;
    int port = posix_openpt(O_RDWR | O_NOCTTY);
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
                    uint8_t wire[MARLOCK_BUS485_LIMIT];
                    accepted.target = order.target;
                    if (marlock_bus485_send_move_accepted(&accepted, 3, &sender, wire, sizeof wire, &used) == MARLOCK_OK) {
                        kept = write(port, wire, used) == (ssize_t)used ? kept : -1;
                    }
                }
            }
        }
        if (count == 0) { /* a tick: the gate goes on by up to 5 %, and says where it is */
            int left = order.target - status.opening;
            status.opening = (uint8_t)(status.opening + (left > 10 ? 10 : left < -10 ? -10 : left));
            if (marlock_bus485_send_gate_status(&status, 3, &sender, bytes, sizeof bytes, &used) == MARLOCK_OK) {
                kept = write(port, bytes, used) == (ssize_t)used ? kept : -1;
            }
        }
    }
    return EXIT_FAILURE;
}
