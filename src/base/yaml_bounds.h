/* What a YAML file that a person writes may hold. Both readers of such files
 * take time that grows with the square of its entries. */
#ifndef TH_BASE_YAML_BOUNDS_H
#define TH_BASE_YAML_BOUNDS_H

#include "base/buffer.h"
#include "base/error.h"

#define TH_YAML_BYTES (1u << 20)

/* Where something stands in one. */
struct th_yaml_place {
	size_t line, column; /* counted from 1 */
};

/* Checks the text of the file called name: at most 10,000 values, in 16 levels,
 * and 100 aliases. TH_USAGE with the line where it is more. What is no YAML
 * passes: whoever reads it says better what is wrong. */
int th_yaml_check(
	const char *name, const struct th_buf *text, struct th_error *err);

#endif
