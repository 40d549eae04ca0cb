/* What a gate controller has around its link: a serial port, a valve, and sensors, as registers. */
#ifndef BOARD_H
#define BOARD_H

#include <stdbool.h>
#include <stdint.h>

#define NODE 3u

/* A byte that came, or -1. */
int port_get(void);
void port_put(uint8_t byte);
/* Whether the next state is due. */
bool tick(void);
/* Whether nothing came for as long as a frame takes. */
bool is_silent(void);
void gate_go(uint8_t target, uint8_t speed);
uint8_t gate_opening(void);
uint16_t sensor(uint8_t which);

#endif
