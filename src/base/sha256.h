/* SHA-256 of small pieces (FIPS 180-4). The library's is much faster for large
 * ones, but takes milliseconds to load, which is longer than most commands. */
#ifndef TH_BASE_SHA256_H
#define TH_BASE_SHA256_H

#include <stddef.h>

void th_sha256(const void *data, size_t len, unsigned char digest[32]);

#endif
