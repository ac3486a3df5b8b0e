#include "cli/each.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "cli/output.h"
#include "group/group.h"

static int find_all(struct invocation *call,
	bool (*wanted)(const struct th_container_row *row),
	struct th_container_row **rows, size_t *count)
{
	struct th_error err = {0};
	size_t all = 0;

	if (th_container_rows(&call->hull.context, rows, &all, &err))
		return say_error(&err);
	for (size_t i = 0; i < all; i++) {
		if (wanted(&(*rows)[i]))
			(*rows)[(*count)++] = (*rows)[i];
	}
	if (!*count && !call->quiet)
		printf("there is no container to %s\n", call->verb->name);
	return EXIT_DONE;
}

/* One of them, or all of a group. */
static int add_named(struct invocation *call, const char *text,
	struct th_container_row **rows, size_t *count, struct th_error *err)
{
	struct th_container_row *found = NULL, *more;
	struct th_object object;
	size_t add = 1;

	if (th_object_find(&call->hull.context, text,
		    TH_KIND_CONTAINER | TH_KIND_GROUP, &object, err))
		return -1;
	if (object.kind == TH_KIND_GROUP &&
		th_group_rows(&call->hull.context, object.group.name, &found,
			&add, err))
		return -1;
	more = realloc(*rows, (*count + add) * sizeof(*more));
	if (!more) {
		free(found);
		return th_fail_memory(err);
	}
	*rows = more;
	memcpy(more + *count, found ? found : &object.container,
		add * sizeof(*more));
	*count += add;
	free(found);
	th_object_release(&object);
	return 0;
}

static int find_named(
	struct invocation *call, struct th_container_row **rows, size_t *count)
{
	int code = EXIT_DONE;

	for (int i = 0; i < call->object_count; i++) {
		struct th_error err = {0};
		int one;

		if (add_named(call, call->objects[i], rows, count, &err) == 0)
			continue;
		one = say_error(&err);
		code = code ? code : one;
	}
	return code;
}

int expand_groups(struct invocation *call, struct th_error *err)
{
	struct th_container_row *rows = NULL;
	struct th_group_row *groups = NULL;
	char **objects;
	size_t count = 0;
	int rc;

	if (th_group_list(
		    call->hull.context.store->db, NULL, &groups, &count, err))
		return -1;
	free(groups);
	if (!count || !call->object_count)
		return 0;
	count = 0;
	rc = 0;
	for (int i = 0; rc == 0 && i < call->object_count; i++) {
		struct th_error own = {0};

		/* What is no container is the verb's to complain of. */
		if (add_named(call, call->objects[i], &rows, &count, &own))
			rc = 1;
	}
	objects = rc ? NULL : calloc(count + 1, sizeof(*objects));
	for (size_t i = 0; objects && i < count; i++) {
		/* Until the program ends. */
		objects[i] = strdup(rows[i].id);
		if (!objects[i])
			rc = th_fail_memory(err);
	}
	free(rows);
	if (objects && rc == 0) {
		call->objects = objects;
		call->object_count = (int)count;
	}
	return rc < 0 ? -1 : 0;
}

int find_containers(struct invocation *call,
	bool (*wanted)(const struct th_container_row *row),
	struct th_container_row **rows, size_t *count)
{
	struct th_error err = {0};

	*rows = NULL;
	*count = 0;
	if (option_given(call, "all"))
		return find_all(call, wanted, rows, count);
	if (call->object_count)
		return find_named(call, rows, count);
	th_fail(&err, TH_USAGE, "%s: no container given", call->verb->name);
	th_hint(&err, "give its name, or use --all");
	return say_error(&err);
}

int each_container(struct invocation *call,
	bool (*wanted)(const struct th_container_row *row),
	int (*act)(struct invocation *call, struct th_container_row *row))
{
	struct th_container_row *rows;
	size_t count;
	int code = find_containers(call, wanted, &rows, &count);

	for (size_t i = 0; i < count; i++) {
		int one = act(call, &rows[i]);

		code = code ? code : one;
	}
	free(rows);
	return code;
}

int read_span(const struct invocation *call, const char *option, int *span_ms,
	struct th_error *err)
{
	const char *text = option_value(call, option);
	int64_t span_us;

	if (!text)
		return 0;
	if (th_clock_parse_span(text, &span_us) ||
		span_us > (int64_t)86400 * 1000000) {
		th_fail(err, TH_USAGE, "\"%.50s\" is not a duration", text);
		return th_hint(err, "for example 30s or 2m");
	}
	*span_ms = (int)(span_us / 1000);
	return 0;
}

int read_grace(struct invocation *call, int *grace_ms, struct th_error *err)
{
	*grace_ms = -1;
	return read_span(call, "grace", grace_ms, err);
}
