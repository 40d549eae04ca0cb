/* A gate controller on generated code: it sends GateStatus, takes MoveGate, and answers with MoveAccepted or Refused. */
#include "board.h"
#include "marlock.h"
#ifdef MARLOCK_LOCAL
#include "marlock.c"
#endif

static marlock_bus485_receiver_t receiver;
static marlock_bus485_sender_t sender;
static uint8_t wire[MARLOCK_BUS485_LIMIT];

static void send(const uint8_t *bytes, size_t size)
{
    size_t n;
    for (n = 0; n < size; n++) {
        port_put(bytes[n]);
    }
}

static void status(void)
{
    marlock_gate_status_t m;
    size_t used;
    marlock_gate_status_init(&m);
    m.state = MARLOCK_GATE_STATE_OPEN;
    m.opening = gate_opening();
    m.upstream = sensor(0);
    m.oil = sensor(1);
    m.pump_temp = (int8_t)sensor(2);
    m.faults = (uint8_t)sensor(3);
    m.battery = (uint8_t)sensor(4);
    if (marlock_bus485_send_gate_status(&m, NODE, &sender, wire, MARLOCK_BUS485_LIMIT, &used) == MARLOCK_OK) {
        send(wire, used);
    }
}

static void move(const marlock_bus485_frame_t *frame)
{
    marlock_move_gate_t order;
    marlock_move_accepted_t accepted;
    marlock_refused_t refused;
    marlock_codec_result_t result;
    size_t used;
    if (marlock_move_gate_decode(&order, frame->body, frame->size) != MARLOCK_OK) {
        return;
    }
    if (marlock_move_gate_target_valid(order.target) && marlock_move_gate_speed_valid(order.speed) && sensor(5) < 80u) {
        gate_go(order.target, order.speed);
        marlock_move_accepted_init(&accepted);
        accepted.target = order.target;
        accepted.ready_in = 100;
        result = marlock_bus485_send_move_accepted(&accepted, NODE, &sender, wire, MARLOCK_BUS485_LIMIT, &used);
    } else {
        marlock_refused_init(&refused);
        refused.command = frame->kind;
        refused.reason = MARLOCK_REASON_OIL_HOT;
        result = marlock_bus485_send_refused(&refused, NODE, &sender, wire, MARLOCK_BUS485_LIMIT, &used);
    }
    if (result == MARLOCK_OK) {
        send(wire, used);
    }
}

int main(void)
{
    marlock_bus485_frame_t frame;
    marlock_bus485_receiver_init(&receiver);
    for (;;) {
        const int byte = port_get();
        if (byte >= 0) {
            marlock_bus485_receiver_put(&receiver, (uint8_t)byte);
        } else if (is_silent()) {
            marlock_bus485_receiver_gap(&receiver);
        }
        while (marlock_bus485_receiver_next(&receiver, &frame)) {
            if (frame.node == NODE && frame.kind == MARLOCK_MOVE_GATE_ID) {
                move(&frame);
            }
        }
        if (tick()) {
            status();
        }
    }
}
