#include "base/random.h"

#include <string.h>
#include <sys/random.h>

#include "base/clock.h"

/* No vowels and no look-alikes; only the part beyond f may stand first. */
static const char letters[] = "ghjkmnpqrstvwxyz";
static const char all[] = "ghjkmnpqrstvwxyz23456789bcdf";

uint32_t th_random_below(uint32_t below)
{
	uint64_t value;

	if (getrandom(&value, sizeof(value), 0) != sizeof(value))
		value = (uint64_t)th_clock_now_us() * 2654435761u;
	return (uint32_t)(value % below);
}

void th_id_new(char id[TH_ID_LENGTH + 1])
{
	id[0] = letters[th_random_below(sizeof(letters) - 1)];
	for (int i = 1; i < TH_ID_LENGTH; i++)
		id[i] = all[th_random_below(sizeof(all) - 1)];
	id[TH_ID_LENGTH] = '\0';
}
