/* Fields of tar headers (tar(5)). */
#include "layer/tar_parts.h"

#define CHECKSUM 148

bool tar_is_zero(const char *block)
{
	for (size_t i = 0; i < TAR_BLOCK; i++) {
		if (block[i])
			return false;
	}
	return true;
}

/* Octal digits between blanks; or, GNU's and star's, a big-endian number in
 * two's complement whose first bit is set. What is left empty is 0. */
bool tar_number(const char *field, size_t len, int64_t *value)
{
	uint64_t sum = 0;
	size_t i = 0;

	if (field[0] & 0x80) {
		bool minus = field[0] & 0x40;

		sum = minus ? UINT64_MAX : 0;
		for (i = 0; i < len; i++) {
			unsigned char byte = (unsigned char)field[i];

			if (i == 0)
				byte = minus ? byte : byte & 0x7f;
			/* The sign fills all that does not fit. */
			if (sum >> 55 != (minus ? UINT64_MAX >> 55 : 0))
				return false;
			sum = sum << 8 | byte;
		}
		*value = (int64_t)sum;
		return true;
	}
	while (i < len && field[i] == ' ')
		i++;
	for (; i < len && field[i] >= '0' && field[i] <= '7'; i++) {
		if (sum >> 60)
			return false;
		sum = sum << 3 | (uint64_t)(field[i] - '0');
	}
	for (; i < len; i++) {
		if (field[i] != ' ' && field[i] != '\0')
			return false;
	}
	*value = (int64_t)sum;
	return true;
}

bool tar_has_checksum(const char *block)
{
	int64_t wanted, plain = 0, as_signed = 0;

	if (!tar_number(block + CHECKSUM, 8, &wanted))
		return false;
	for (size_t i = 0; i < TAR_BLOCK; i++) {
		bool own = i >= CHECKSUM && i < CHECKSUM + 8;

		plain += own ? ' ' : (unsigned char)block[i];
		/* Some old programs have added signed bytes. */
		as_signed += own ? ' ' : (signed char)block[i];
	}
	return wanted == plain || wanted == as_signed;
}
