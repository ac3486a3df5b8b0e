#include "check/check.h"

#include <errno.h>
#include <fcntl.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "check/parts.h"

const char *th_part_word(enum th_part part)
{
	static const char *const words[] = {
		"database", "image", "container", "volume", "run", "host"};

	return words[part];
}

void check_found(struct checking *checking, enum th_part part, const char *what,
	const char *mended, const char *fmt, ...)
{
	struct th_findings *findings = checking->findings;
	void *list = findings->list;
	struct th_finding *one =
		th_grow(&list, findings->count, sizeof(*findings->list));
	va_list args;

	findings->list = list;
	if (!one) {
		if (!findings->count)
			return;
		one = &findings->list[findings->count - 1];
	} else {
		findings->count++;
	}
	memset(one, 0, sizeof(*one));
	one->part = part;
	snprintf(one->what, sizeof(one->what), "%s", what);
	snprintf(one->mended, sizeof(one->mended), "%s", mended);
	va_start(args, fmt);
	vsnprintf(one->text, sizeof(one->text), fmt, args);
	va_end(args);
}

void th_findings_release(struct th_findings *findings)
{
	free(findings->list);
	memset(findings, 0, sizeof(*findings));
}

/* ---- the database ---- */

static int put_aside(int root, char name[48], struct th_error *err)
{
	static const char *const ends[] = {"", "-wal", "-shm"};
	char time[TH_TIME_TEXT], from[48], to[64];

	th_clock_format(th_clock_now_us(), time);
	snprintf(name, 48, "state.db.damaged-%.19s", time);
	for (size_t i = 0; i < sizeof(ends) / sizeof(*ends); i++) {
		snprintf(from, sizeof(from), "state.db%s", ends[i]);
		snprintf(to, sizeof(to), "%s%s", name, ends[i]);
		if (renameat(root, from, root, to) && errno != ENOENT)
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot put the damaged database aside");
	}
	return 0;
}

void th_check_files(const char *root, bool mend, struct th_findings *findings)
{
	struct checking checking = {.mend = mend, .findings = findings};
	int fd = open(root, O_RDONLY | O_DIRECTORY | O_CLOEXEC);

	if (fd >= 0)
		check_own_files(&checking, fd);
	th_close(&fd);
}

/* A new one in its place, with nothing in it yet. */
static int make_anew(struct checking *checking, int root, struct th_error *err)
{
	char name[48];

	if (put_aside(root, name, err))
		return -1;
	check_found(checking, TH_PART_DATABASE, "state.db", "made anew",
		"it is damaged; it is kept as %s", name);
	return 0;
}

int th_check_open(const char *root, const char *run, bool mend,
	struct th_store **store, struct th_findings *findings,
	struct th_error *err)
{
	struct checking checking = {.mend = mend, .findings = findings};
	int fd = open(root, O_RDONLY | O_DIRECTORY | O_CLOEXEC), rc;
	struct th_error own = {0};

	rc = th_store_open(root, run, false, store, &own);
	if (rc && mend && fd >= 0 && th_db_damaged(&own)) {
		th_error_clear(&own);
		rc = make_anew(&checking, fd, &own) ||
				th_store_open(root, run, false, store, &own)
			? -1
			: 0;
	}
	th_close(&fd);
	if (rc == 0)
		return 0;
	*err = own;
	if (!mend && (th_db_damaged(&own) || findings->count)) {
		err->hint[0] = '\0';
		th_hint(err,
			"tidyhull doctor --repair puts what is damaged aside, "
			"and makes it anew of what is on the disk");
	}
	return -1;
}

static int check_database(struct checking *checking, struct th_error *err)
{
	struct th_db *db = checking->context->store->db;
	struct th_query *query = NULL;
	int rc;

	if (th_db_query(db, &query, err, "PRAGMA integrity_check(10)", ""))
		return -1;
	while ((rc = th_query_next(query, err)) == 1) {
		if (strcmp(th_query_text(query, 0), "ok") != 0)
			check_found(checking, TH_PART_DATABASE, "state.db", "",
				"%.200s", th_query_text(query, 0));
	}
	th_query_end(query);
	if (rc < 0 ||
		th_db_query(db, &query, err, "PRAGMA foreign_key_check", ""))
		return -1;
	while ((rc = th_query_next(query, err)) == 1)
		check_found(checking, TH_PART_DATABASE, th_query_text(query, 0),
			"", "a row refers to one in %.60s that is not there",
			th_query_text(query, 2));
	th_query_end(query);
	return rc < 0 ? -1 : 0;
}

bool check_cancelled(const struct checking *checking)
{
	const atomic_bool *cancel = checking->context->cancel;

	return cancel && atomic_load(cancel);
}

static int say_cancelled(const struct checking *checking, struct th_error *err)
{
	th_fail(err, TH_FAILED, "checking was interrupted");
	return checking->mend ? th_hint(err, "what was mended stays so")
			      : th_hint(err, "nothing was changed");
}

int th_check(const struct th_context *context, bool mend,
	struct th_findings *findings, struct th_error *err)
{
	struct checking checking = {
		.context = context, .mend = mend, .findings = findings};
	/* Images first: containers are made of them. */
	int rc;

	th_work_begin(context->work, 0);
	rc = check_database(&checking, err) || check_images(&checking, err) ||
			check_containers(&checking, err) ||
			check_host(&checking, err)
		? -1
		: 0;
	th_work_end(context->work);
	if (rc == 0 && check_cancelled(&checking))
		rc = say_cancelled(&checking, err);

	th_strings_release(&checking.seen);
	return rc;
}
