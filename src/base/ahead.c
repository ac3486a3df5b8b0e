#include "base/ahead.h"

#include <pthread.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdlib.h>
#include <string.h>

#include "base/threads.h"

/* Enough that neither waits for the other at each piece, and little enough that
 * what is passed on is still in a cache. */
#define SLOT_BYTES (128 * 1024)
#define SLOTS 4
/* A transfer that breaks looks for its host anew, and TLS begins once more. */
#define STACK_BYTES (1024 * 1024)

struct slot {
	size_t len;
	char data[SLOT_BYTES];
};

struct th_ahead {
	struct th_source source; /* first: the two are one */
	struct th_source *from;
	pthread_t thread;
	pthread_mutex_t mutex;
	pthread_cond_t changed;
	size_t filled, taken; /* slots so far; what is between is full */
	bool in_use; /* the reader is at the one before taken */
	bool ended, unwanted;
	struct th_error err; /* that it ended with */
	struct slot slots[SLOTS];
};

/* A slot to fill; NULL where nobody wants more. */
static struct slot *wait_for_room(struct th_ahead *ahead)
{
	struct slot *slot = NULL;

	pthread_mutex_lock(&ahead->mutex);
	while (!ahead->unwanted &&
		ahead->filled - ahead->taken + ahead->in_use == SLOTS)
		pthread_cond_wait(&ahead->changed, &ahead->mutex);
	if (!ahead->unwanted)
		slot = &ahead->slots[ahead->filled % SLOTS];
	pthread_mutex_unlock(&ahead->mutex);
	return slot;
}

static void pass_on(struct th_ahead *ahead)
{
	pthread_mutex_lock(&ahead->mutex);
	ahead->filled++;
	pthread_cond_signal(&ahead->changed);
	pthread_mutex_unlock(&ahead->mutex);
}

/* One piece in as many slots as it takes; false where nobody wants more. */
static bool fill(struct th_ahead *ahead, const char *data, size_t len)
{
	while (len) {
		struct slot *slot = wait_for_room(ahead);

		if (!slot)
			return false;
		slot->len = len < SLOT_BYTES ? len : SLOT_BYTES;
		memcpy(slot->data, data, slot->len);
		data += slot->len;
		len -= slot->len;
		pass_on(ahead);
	}
	return true;
}

static void *read_ahead(void *owner)
{
	struct th_ahead *ahead = owner;
	struct th_error err = {0};
	const void *data;
	ssize_t got;

	do
		got = ahead->from->next(ahead->from, &data, &err);
	while (got > 0 && fill(ahead, data, (size_t)got));
	pthread_mutex_lock(&ahead->mutex);
	ahead->err = err;
	ahead->ended = true;
	pthread_cond_signal(&ahead->changed);
	pthread_mutex_unlock(&ahead->mutex);
	return NULL;
}

static ssize_t next(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct th_ahead *ahead = (struct th_ahead *)(void *)source;
	const struct slot *slot = NULL;

	pthread_mutex_lock(&ahead->mutex);
	if (ahead->in_use) {
		ahead->in_use = false;
		pthread_cond_signal(&ahead->changed);
	}
	while (ahead->filled == ahead->taken && !ahead->ended)
		pthread_cond_wait(&ahead->changed, &ahead->mutex);
	if (ahead->filled != ahead->taken) {
		slot = &ahead->slots[ahead->taken++ % SLOTS];
		ahead->in_use = true;
	}
	pthread_mutex_unlock(&ahead->mutex);
	if (slot) {
		*data = slot->data;
		return (ssize_t)slot->len;
	}
	if (!ahead->err.code)
		return 0;
	*err = ahead->err;
	return -1;
}

struct th_ahead *th_ahead_new(struct th_source *from)
{
	struct th_ahead *ahead = malloc(sizeof(*ahead));

	if (!ahead)
		return NULL;
	/* The slots are not touched before they are filled. */
	memset(ahead, 0, offsetof(struct th_ahead, slots));
	ahead->source.next = next;
	ahead->from = from;
	pthread_mutex_init(&ahead->mutex, NULL);
	pthread_cond_init(&ahead->changed, NULL);
	if (th_thread_start(&ahead->thread, STACK_BYTES, read_ahead, ahead) ==
		0)
		return ahead;
	free(ahead);
	return NULL;
}

struct th_source *th_ahead_source(struct th_ahead *ahead)
{
	return &ahead->source;
}

void th_ahead_free(struct th_ahead *ahead)
{
	if (!ahead)
		return;
	pthread_mutex_lock(&ahead->mutex);
	ahead->unwanted = true;
	pthread_cond_signal(&ahead->changed);
	pthread_mutex_unlock(&ahead->mutex);
	pthread_join(ahead->thread, NULL);
	pthread_cond_destroy(&ahead->changed);
	pthread_mutex_destroy(&ahead->mutex);
	free(ahead);
}
