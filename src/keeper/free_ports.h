/* Ports outside that were chosen because any would do: the same ones again, as
 * long as nobody else has them. People have noted them down. */
#ifndef TH_KEEPER_FREE_PORTS_H
#define TH_KEEPER_FREE_PORTS_H

#include <stddef.h>
#include <stdint.h>

#include "model/port.h"

/* Reads those of the last run, one for each port of the container, 0 where
 * there is none. */
void free_ports_read(int folder, uint16_t *last, size_t count);
/* Notes those of this one. A courtesy: what cannot be written is not known the
 * next time. */
void free_ports_write(int folder, const struct th_port *ports, size_t count);

#endif
