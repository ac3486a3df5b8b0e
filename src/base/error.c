#include "base/error.h"

#include <errno.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

int th_fail(struct th_error *err, enum th_code code, const char *fmt, ...)
{
	va_list args;

	if (!err || err->code != TH_OK)
		return -1;
	err->code = code;
	va_start(args, fmt);
	vsnprintf(err->msg, sizeof(err->msg), fmt, args);
	va_end(args);
	return -1;
}

int th_fail_sys(
	struct th_error *err, enum th_code code, int sys, const char *fmt, ...)
{
	va_list args;
	size_t used;

	if (!err || err->code != TH_OK)
		return -1;
	err->code = code;
	err->sys = sys;
	va_start(args, fmt);
	vsnprintf(err->msg, sizeof(err->msg), fmt, args);
	va_end(args);
	used = strlen(err->msg);
	if (used < sizeof(err->msg) - 4)
		snprintf(err->msg + used, sizeof(err->msg) - used, ": %s",
			strerror(sys));
	return -1;
}

int th_fail_write(struct th_error *err, int sys, const char *fmt, ...)
{
	va_list args;
	char what[300];

	va_start(args, fmt);
	vsnprintf(what, sizeof(what), fmt, args);
	va_end(args);
	if (sys != ENOSPC && sys != EDQUOT)
		return th_fail_sys(err, TH_FAILED, sys, "%s", what);
	if (err && err->code == TH_OK)
		err->sys = ENOSPC;
	th_fail(err, TH_FAILED, "%s: %s", what,
		sys == EDQUOT ? "your disk quota is used up"
			      : "the disk is full");
	return th_hint(err, "to free space: tidyhull sweep");
}

int th_hint(struct th_error *err, const char *fmt, ...)
{
	va_list args;

	if (!err || err->hint[0])
		return -1;
	va_start(args, fmt);
	/* Rather none than a part of a line that somebody would type. */
	if (vsnprintf(err->hint, sizeof(err->hint), fmt, args) >=
		(int)sizeof(err->hint))
		err->hint[0] = '\0';
	va_end(args);
	return -1;
}

int th_trouble(struct th_error *err, enum th_trouble trouble)
{
	if (err && err->code != TH_OK && err->trouble == TH_TROUBLE_NONE)
		err->trouble = trouble;
	return -1;
}

int th_fail_memory(struct th_error *err)
{
	return th_fail(err, TH_FAILED, "not enough memory");
}

bool th_error_busy(const struct th_error *err)
{
	return err->code == TH_FAILED && err->sys == EBUSY;
}

void th_error_clear(struct th_error *err)
{
	memset(err, 0, sizeof(*err));
}

void th_problems_add(struct th_problems *problems, struct th_error *err)
{
	struct th_error *list;

	list = realloc(problems->list,
		(problems->count + 1) * sizeof(*problems->list));
	if (list) {
		problems->list = list;
		problems->list[problems->count++] = *err;
	}
	th_error_clear(err);
}

void th_problems_release(struct th_problems *problems)
{
	free(problems->list);
	problems->list = NULL;
	problems->count = 0;
}
