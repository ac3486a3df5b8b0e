#include "cli/each.h"

#include <stdio.h>
#include <stdlib.h>

#include "base/clock.h"
#include "cli/output.h"

static int find_all(struct invocation *call,
	bool (*wanted)(const struct th_container_row *row),
	struct th_container_row **rows, size_t *count)
{
	struct th_error err = {0};
	size_t all = 0;

	if (th_container_settle(&call->context, &err) ||
		th_state_list(call->context.store->db, NULL, rows, &all, &err))
		return say_error(&err);
	for (size_t i = 0; i < all; i++) {
		if (wanted(&(*rows)[i]))
			(*rows)[(*count)++] = (*rows)[i];
	}
	if (!*count && !call->quiet)
		printf("there is no container to %s\n", call->verb->name);
	return EXIT_DONE;
}

static int find_named(
	struct invocation *call, struct th_container_row **rows, size_t *count)
{
	int code = EXIT_DONE;

	*rows = calloc((size_t)call->object_count, sizeof(**rows));
	if (!*rows)
		return EXIT_FAILED;
	for (int i = 0; i < call->object_count; i++) {
		struct th_object object;
		struct th_error err = {0};
		int one;

		if (th_object_find(&call->context, call->objects[i],
			    TH_KIND_CONTAINER, &object, &err)) {
			one = say_error(&err);
			code = code ? code : one;
			continue;
		}
		(*rows)[(*count)++] = object.container;
		th_object_release(&object);
	}
	return code;
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
