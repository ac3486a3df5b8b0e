/* Files with lines of environment settings: --env @file:PATH. */
#ifndef TH_BASE_ENV_FILE_H
#define TH_BASE_ENV_FILE_H

#include "base/buffer.h"
#include "base/error.h"

/* Reads lines "KEY=VALUE", with or without "export " before them. Empty lines
 * and those that begin with # are passed over. A value may stand in single
 * quotes (as it is) or double ones (with \n, \t, \", \\ and \$); without quotes
 * it ends with the line, or before " #". KEY alone is taken from the caller's
 * environment by value_of. Appends "KEY=VALUE" to env. All mistakes are told at
 * once, each with name and line (TH_USAGE). */
int th_env_parse(const char *text, const char *name,
	const char *(*value_of)(const char *key), struct th_strings *env,
	struct th_error *err);

#endif
