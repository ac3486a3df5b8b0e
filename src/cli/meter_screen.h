/* The meter on the whole screen, steered by keys. */
#ifndef CLI_METER_SCREEN_H
#define CLI_METER_SCREEN_H

#include "cli/metering.h"

/* Until somebody has seen enough; the exit code. */
int meter_screen(struct invocation *call, struct metering *metering);

#endif
