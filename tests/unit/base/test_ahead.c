/* A stream that is read ahead. */
#include <stdlib.h>
#include <string.h>

#include "base/ahead.h"
#include "unit/unit.h"

/* Pieces of odd lengths, each byte by its place. */
struct counting {
	struct th_source source; /* first: the two are one */
	size_t given, total;
	size_t fails_at; /* 0: never */
	char data[300000];
};

static ssize_t next_piece(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct counting *counting = (struct counting *)(void *)source;
	size_t len = 1 + counting->given * 7 % sizeof(counting->data);

	if (counting->fails_at && counting->given >= counting->fails_at)
		return th_fail(err, TH_NETWORK, "the line is cut");
	if (len > counting->total - counting->given)
		len = counting->total - counting->given;
	for (size_t i = 0; i < len; i++)
		counting->data[i] = (char)((counting->given + i) * 31 >> 3);
	counting->given += len;
	*data = counting->data;
	return (ssize_t)len;
}

static struct counting *count_to(size_t total, size_t fails_at)
{
	struct counting *counting = calloc(1, sizeof(*counting));

	counting->source.next = next_piece;
	counting->total = total;
	counting->fails_at = fails_at;
	return counting;
}

/* Reads to the end; how much came, and whether each byte was right. */
static size_t read_all(struct th_ahead *ahead, bool *right, ssize_t *last,
	struct th_error *err)
{
	struct th_source *source = th_ahead_source(ahead);
	size_t got = 0;
	const void *data;

	*right = true;
	while ((*last = source->next(source, &data, err)) > 0) {
		for (ssize_t i = 0; i < *last; i++)
			*right = *right &&
				((const char *)data)[i] ==
					(char)((got + (size_t)i) * 31 >> 3);
		got += (size_t)*last;
	}
	return got;
}

static void all_of_it_comes(void)
{
	static const size_t totals[] = {0, 1, 131072, 131073, 5000000};

	for (size_t i = 0; i < COUNT_OF(totals); i++) {
		struct counting *counting = count_to(totals[i], 0);
		struct th_ahead *ahead = th_ahead_new(&counting->source);
		struct th_error err = {0};
		ssize_t last;
		bool right;

		CHECK(read_all(ahead, &right, &last, &err) == totals[i]);
		CHECK(right && last == 0 && err.code == TH_OK);
		th_ahead_free(ahead);
		free(counting);
	}
}

static void an_error_comes_behind_the_rest(void)
{
	struct counting *counting = count_to(5000000, 2000000);
	struct th_ahead *ahead = th_ahead_new(&counting->source);
	struct th_error err = {0};
	ssize_t last;
	bool right;

	CHECK(read_all(ahead, &right, &last, &err) == counting->given);
	CHECK(right && last == -1 && err.code == TH_NETWORK);
	CHECK_TEXT(err.msg, "the line is cut");
	th_ahead_free(ahead);
	free(counting);
}

/* Whoever has had enough need not read it to its end. */
static void it_is_left_in_between(void)
{
	for (size_t pieces = 0; pieces < 12; pieces++) {
		struct counting *counting = count_to(100000000, 0);
		struct th_ahead *ahead = th_ahead_new(&counting->source);
		struct th_source *source = th_ahead_source(ahead);
		struct th_error err = {0};
		const void *data;

		for (size_t i = 0; i < pieces; i++)
			CHECK(source->next(source, &data, &err) > 0);
		th_ahead_free(ahead);
		CHECK(counting->given < counting->total);
		free(counting);
	}
	th_ahead_free(NULL);
}

static const CU_TestInfo tests[] = {{"all of it comes", all_of_it_comes},
	{"an error comes behind the rest", an_error_comes_behind_the_rest},
	{"it is left in between", it_is_left_in_between}, CU_TEST_INFO_NULL};

const struct suite suite_ahead = {"ahead", tests};
