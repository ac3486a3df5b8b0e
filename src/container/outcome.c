#include "container/outcome.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/json.h"

#define NAME "outcome.json"
/* One block, so that it is there whole or not at all. */
#define SIZE 4096

static int write_blank(int fd)
{
	char blank[SIZE];

	memset(blank, ' ', sizeof(blank));
	blank[SIZE - 1] = '\n';
	return pwrite(fd, blank, sizeof(blank), 0) == (ssize_t)sizeof(blank)
		? 0
		: -1;
}

void th_outcome_clear(int fd)
{
	/* What stays there is of a run that the state knows to be over. */
	if (fd >= 0 && write_blank(fd))
		return;
}

int th_outcome_reserve(int folder, struct th_error *err)
{
	int fd = openat(folder, NAME,
		O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK, 0600);

	if (fd < 0) {
		th_fail_sys(err, TH_FAILED, errno,
			"cannot create the container's " NAME);
		return -1;
	}
	/* Written, not only allocated: some file systems would look for other
	 * blocks at the first writing. */
	if (write_blank(fd) == 0)
		return fd;
	th_fail_write(err, errno, "cannot write the container's " NAME);
	close(fd);
	return -1;
}

static json_t *describe(const struct th_end *end)
{
	const struct th_change *change = &end->change;
	char cause[TH_CAUSE_JSON];

	th_cause_write(&change->cause, cause);
	return json_pack("{s:i s:I s:I s:s s:i s:s s:s s:i s:i s:I}", "version",
		1, "started", (json_int_t)end->started_us, "ended",
		(json_int_t)change->at_us, "outcome",
		th_outcome_word(change->outcome), "code", change->code, "cause",
		cause, "actor", end->actor, "tries", change->tries, "wanted",
		(int)change->wanted, "next", (json_int_t)change->next_us);
}

int th_outcome_write(
	int fd, const struct th_end *end, bool sync, struct th_error *err)
{
	json_t *doc = describe(end);
	char text[SIZE];
	size_t len;

	memset(text, ' ', sizeof(text));
	text[SIZE - 1] = '\n';
	len = doc ? json_dumpb(doc, text, sizeof(text) - 1, JSON_COMPACT) : 0;
	json_decref(doc);
	if (!len || len > sizeof(text) - 1)
		return th_fail_memory(err);
	if (pwrite(fd, text, sizeof(text), 0) != (ssize_t)sizeof(text) ||
		(sync && fdatasync(fd)))
		return th_fail_write(
			err, errno, "cannot write the container's " NAME);
	return 0;
}

static int read_end(const json_t *doc, struct th_end *end, struct th_error *err)
{
	struct th_change *change = &end->change;
	const char *outcome = NULL, *cause = NULL, *actor = NULL;
	int64_t version = 0, code = 0, tries = 0, wanted = 0;

	if (th_json_int(doc, "version", NAME, &version, err) < 1 ||
		version != 1 ||
		th_json_int(doc, "started", NAME, &end->started_us, err) < 1 ||
		th_json_int(doc, "ended", NAME, &change->at_us, err) < 1 ||
		th_json_string(doc, "outcome", NAME, &outcome, err) < 1 ||
		th_json_int(doc, "code", NAME, &code, err) < 1 ||
		th_json_string(doc, "cause", NAME, &cause, err) < 1 ||
		th_json_string(doc, "actor", NAME, &actor, err) < 1 ||
		th_json_int(doc, "tries", NAME, &tries, err) < 1 ||
		th_json_int(doc, "wanted", NAME, &wanted, err) < 1 ||
		th_json_int(doc, "next", NAME, &change->next_us, err) < 1)
		return 0;
	change->to = change->next_us ? TH_STATE_WAITING : TH_STATE_STOPPED;
	change->outcome = th_outcome_parse(outcome);
	change->code = (int)code;
	change->tries = (int)tries;
	change->wanted = wanted == TH_WANTED ? TH_WANTED
		: wanted == TH_NOT_WANTED    ? TH_NOT_WANTED
					     : TH_WANTED_AS_IT_WAS;
	th_cause_read(cause, &change->cause);
	snprintf(end->actor, sizeof(end->actor), "%s", actor);
	change->actor = end->actor;
	return 1;
}

int th_outcome_read(int folder, struct th_end *end, struct th_error *err)
{
	struct th_buf buf;
	int rc;

	memset(end, 0, sizeof(*end));
	th_buf_init(&buf, SIZE);
	rc = th_file_read_regular(folder, NAME, &buf, err);
	/* Blank, as of most that run: every look at them comes here. */
	if (rc == 1 && buf.data[0] != '{')
		rc = 0;
	if (rc == 1)
		rc = th_end_parse(buf.data, buf.len, end);
	th_buf_release(&buf);
	return rc;
}

char *th_end_format(const struct th_end *end)
{
	json_t *doc = describe(end);
	char *text = th_json_text(doc, JSON_COMPACT);

	json_decref(doc);
	return text;
}

int th_end_parse(const char *text, size_t len, struct th_end *end)
{
	struct th_error damage = {0}; /* torn: as if there were none */
	json_t *doc = NULL;
	int rc;

	memset(end, 0, sizeof(*end));
	if (th_json_parse(text, len, NAME, &doc, &damage))
		return 0;
	rc = read_end(doc, end, &damage);
	json_decref(doc);
	return rc;
}

void th_end_apply(const struct th_end *end, struct th_container_row *row)
{
	const struct th_change *change = &end->change;

	row->state = change->to;
	row->outcome = change->outcome;
	row->code = change->code;
	row->cause = change->cause;
	row->ended_us = change->at_us;
	row->tries = change->tries;
	row->next_us = change->next_us;
	row->pid = 0;
	row->health[0] = '\0';
	if (change->wanted)
		row->wanted = change->wanted == TH_WANTED;
}
