/* Faults on demand: KIND[=VALUE][,path=TEXT][,times=N][,retry=SECONDS].
 *
 *   drop=BYTES     the connection breaks after so many bytes of the body
 *   stall=BYTES    nothing more comes after so many bytes
 *   corrupt        one byte in the middle is another
 *   length=N       the body has N bytes more (or fewer: -N) than it should
 *   status=CODE    the answer is an error; retry: its Retry-After
 */
#ifndef CHANDLER_FAULT_H
#define CHANDLER_FAULT_H

#include <pthread.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum fault_kind {
	FAULT_DROP,
	FAULT_STALL,
	FAULT_CORRUPT,
	FAULT_LENGTH,
	FAULT_STATUS
};

struct fault {
	enum fault_kind kind;
	int64_t value;
	char path[200]; /* only requests whose path holds this */
	char retry[64]; /* empty: no Retry-After */
	long times; /* how often it still strikes; -1: always */
};

/* False where the text is none. */
bool fault_parse(const char *text, struct fault *fault);
/* The first fault that strikes a request, or NULL. body_bytes: what its body
 * has, for faults of bodies; a body that ends before the place is not struck.
 * UINT64_MAX: there is no body yet, only faults of answers are meant. */
struct fault *fault_find(struct fault *faults, size_t count, const char *path,
	uint64_t body_bytes);

#endif
