/* What a container has on the disk beside its bundle: its end, and its limits
 * as text. */
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "model/limit.h"
#include "container/log.h"
#include "container/outcome.h"
#include "unit/unit.h"

static struct th_end some_end(void)
{
	struct th_end end = {.started_us = 1700000000000000,
		.change = {.to = TH_STATE_WAITING,
			.outcome = TH_OUTCOME_SIGNAL,
			.code = 9,
			.at_us = 1700000001000000,
			.cause = {.kind = TH_CAUSE_SENT_SIGNAL, .number = 9},
			.tries = 4,
			.next_us = 1700000002000000,
			.wanted = TH_WANTED}};

	snprintf(end.actor, sizeof(end.actor), "selwick: tidyhull kill");
	return end;
}

static void check_same(const struct th_end *end)
{
	CHECK_INT(end->started_us, 1700000000000000);
	CHECK_INT(end->change.to, TH_STATE_WAITING);
	CHECK_INT(end->change.outcome, TH_OUTCOME_SIGNAL);
	CHECK_INT(end->change.code, 9);
	CHECK_INT(end->change.cause.kind, TH_CAUSE_SENT_SIGNAL);
	CHECK_INT(end->change.cause.number, 9);
	CHECK_INT(end->change.tries, 4);
	CHECK_INT(end->change.next_us, 1700000002000000);
	CHECK_TEXT(end->actor, "selwick: tidyhull kill");
}

static void an_end_comes_back(void)
{
	struct th_end end = some_end(), back = {0};
	int fd = th_outcome_reserve(unit_folder_fd, NULL);
	char *text;

	end.change.actor = end.actor;
	CHECK(fd >= 0);
	CHECK_INT(th_outcome_read(unit_folder_fd, &back, NULL), 0);
	CHECK_INT(th_outcome_write(fd, &end, true, NULL), 0);
	CHECK_INT(th_outcome_read(unit_folder_fd, &back, NULL), 1);
	check_same(&back);
	memset(&back, 0, sizeof(back));
	text = th_end_format(&end);
	CHECK_INT(th_end_parse(text, strlen(text), &back), 1);
	check_same(&back);
	/* Any part of it is none. */
	for (size_t len = 0; len + 1 < strlen(text); len++)
		CHECK_INT(th_end_parse(text, len, &back), 0);
	free(text);
	th_outcome_clear(fd);
	CHECK_INT(th_outcome_read(unit_folder_fd, &back, NULL), 0);
	close(fd);
}

static void a_torn_end_is_none(void)
{
	struct th_end end = some_end(), back = {0};
	int fd = th_outcome_reserve(unit_folder_fd, NULL);

	end.change.actor = end.actor;
	CHECK_INT(th_outcome_write(fd, &end, false, NULL), 0);
	/* The second half is of an older one. */
	CHECK(pwrite(fd, "\0\0\0\0\0\0\0\0", 8, 60) == 8);
	CHECK(th_outcome_read(unit_folder_fd, &back, NULL) <= 0);
	close(fd);
}

static void limits_come_back(void)
{
	static const char *const texts[] = {"memory=256M", "memory=1G,swap=2G",
		"cpu=1.5", "processes=200", "io=300",
		"memory=64M,cpu=0.25,processes=20,io=10"};
	static const char *const wrong[] = {"memory", "memory=", "memory=-1",
		"cpu=fast", "processes=0", "io=9", "io=1001", "speed=3"};

	for (size_t i = 0; i < COUNT_OF(texts); i++) {
		struct th_limit limit = {0}, back = {0};
		char text[TH_LIMIT_TEXT];

		CHECK_INT(th_limit_parse(texts[i], &limit, NULL), 0);
		th_limit_format(&limit, text);
		CHECK_INT(th_limit_parse(text, &back, NULL), 0);
		CHECK_INT(memcmp(&limit, &back, sizeof(back)), 0);
	}
	for (size_t i = 0; i < COUNT_OF(wrong); i++) {
		struct th_limit limit = {0};
		struct th_error err = {0};

		CHECK_INT(th_limit_parse(wrong[i], &limit, &err), -1);
		CHECK_INT(err.code, TH_USAGE);
		CHECK(err.msg[0]);
	}
}

static void places_in_a_log_come_back(void)
{
	const struct th_log_place place = {7, 123456789012};
	struct th_log_place back = {0};
	char text[TH_LOG_PLACE_TEXT];

	th_log_place_format(&place, text);
	CHECK(th_log_place_parse(text, &back));
	CHECK(back.number == 7 && back.bytes == 123456789012);
	CHECK(!th_log_place_parse("", &back));
	CHECK(!th_log_place_parse("7", &back));
	CHECK(!th_log_place_parse("-1 5", &back));
}

static const CU_TestInfo tests[] = {{"an end comes back", an_end_comes_back},
	{"a torn end is none", a_torn_end_is_none},
	{"limits come back", limits_come_back},
	{"places in a log come back", places_in_a_log_come_back},
	CU_TEST_INFO_NULL};

const struct suite suite_container_files = {"container-files", tests};
