/* See board.h. The registers stand for those of any small machine. */
#include "board.h"

static volatile uint8_t registers[16];

int port_get(void)
{
    return registers[0] != 0u ? registers[1] : -1;
}

void port_put(uint8_t byte)
{
    registers[2] = byte;
}

bool tick(void)
{
    return registers[3] != 0u;
}

bool is_silent(void)
{
    return registers[4] != 0u;
}

void gate_go(uint8_t target, uint8_t speed)
{
    registers[5] = target;
    registers[6] = speed;
}

uint8_t gate_opening(void)
{
    return registers[7];
}

uint16_t sensor(uint8_t which)
{
    registers[8] = which;
    return (uint16_t)(registers[9] | registers[10] << 8);
}
