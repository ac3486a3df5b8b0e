/* One fuzz target: it is built with a fuzzer's engine, or with replay.c, which
 * feeds it the files of its corpus. */
#ifndef TESTS_FUZZ_H
#define TESTS_FUZZ_H

#include <stddef.h>
#include <stdint.h>

/* Inputs beyond this are cut: the parsers have limits of their own. */
#define FUZZ_BYTES_MAX (64 * 1024)

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

/* The input as a text of its own, to be freed. */
char *fuzz_text(const uint8_t *data, size_t size);
/* A fresh, empty folder; the same one is emptied for each input. */
int fuzz_folder(void);

#endif
