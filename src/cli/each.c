#include "cli/each.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "cli/output.h"

static int find_all(struct invocation *call,
	bool (*wanted)(const json_t *container), json_t *list)
{
	json_t *doc = NULL, *one;
	struct th_error err = {0};
	size_t i;

	if (th_list(call->hull, TH_KIND_CONTAINER, true, &doc, &err))
		return say_error(&err);
	json_array_foreach(doc_part(doc, "containers"), i, one)
	{
		if (wanted(one))
			json_array_append(list, one);
	}
	json_decref(doc);
	if (!json_array_size(list) && !call->quiet)
		printf("there is no container to %s\n", call->verb->name);
	return EXIT_DONE;
}

/* One of them, or all of a group. */
static int add_named(struct invocation *call, const char *text, json_t *list,
	struct th_error *err)
{
	json_t *doc = NULL;

	if (th_object(call->hull, text, TH_KIND_CONTAINER | TH_KIND_GROUP,
		    TH_BRIEF, &doc, err))
		return -1;
	if (strcmp(doc_text(doc, "kind"), "group") == 0)
		json_array_extend(list, doc_part(doc, "containers"));
	else
		json_array_append(list, doc);
	json_decref(doc);
	return 0;
}

static int find_named(struct invocation *call, json_t *list)
{
	int code = EXIT_DONE;

	for (int i = 0; i < call->object_count; i++) {
		struct th_error err = {0};
		int one;

		if (add_named(call, call->objects[i], list, &err) == 0)
			continue;
		one = say_error(&err);
		code = code ? code : one;
	}
	return code;
}

static bool names_group(struct invocation *call)
{
	for (int i = 0; i < call->object_count; i++) {
		struct th_error none = {0};

		if (th_object(call->hull, call->objects[i], TH_KIND_GROUP,
			    TH_BRIEF, NULL, &none) == 0)
			return true;
	}
	return false;
}

int expand_groups(struct invocation *call, struct th_error *err)
{
	char **objects;
	json_t *list;
	size_t count;
	int rc = 0;

	if (!names_group(call))
		return 0;
	list = json_array();
	for (int i = 0; rc == 0 && i < call->object_count; i++) {
		struct th_error own = {0};

		/* What is no container is the verb's to complain of. */
		if (add_named(call, call->objects[i], list, &own))
			rc = 1;
	}
	count = json_array_size(list);
	objects = rc ? NULL : calloc(count + 1, sizeof(*objects));
	for (size_t i = 0; objects && i < count; i++) {
		/* Until the program ends. */
		objects[i] = strdup(doc_text(json_array_get(list, i), "id"));
		if (!objects[i])
			rc = th_fail_memory(err);
	}
	json_decref(list);
	if (objects && rc == 0) {
		call->objects = objects;
		call->object_count = (int)count;
	}
	return rc < 0 ? -1 : 0;
}

int find_containers(struct invocation *call,
	bool (*wanted)(const json_t *container), json_t **list)
{
	struct th_error err = {0};

	*list = json_array();
	if (option_given(call, "all"))
		return find_all(call, wanted, *list);
	if (call->object_count)
		return find_named(call, *list);
	th_fail(&err, TH_USAGE, "%s: no container given", call->verb->name);
	th_hint(&err, "give its name, or use --all");
	return say_error(&err);
}

json_t *ids_of(const json_t *list)
{
	json_t *ids = json_array();

	for (size_t i = 0; i < json_array_size(list); i++)
		json_array_append(
			ids, json_object_get(json_array_get(list, i), "id"));
	return ids;
}

int each_container(struct invocation *call,
	bool (*wanted)(const json_t *container),
	int (*act)(struct invocation *call, const json_t *container))
{
	json_t *list;
	int code = find_containers(call, wanted, &list);

	for (size_t i = 0; i < json_array_size(list); i++) {
		int one = act(call, json_array_get(list, i));

		code = code ? code : one;
	}
	json_decref(list);
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

int read_time(const char *text, int64_t *time_us, struct th_error *err)
{
	int64_t span;

	if (!text)
		return 0;
	if (th_clock_parse_span(text, &span) == 0) {
		*time_us = th_clock_now_us() - span;
		return 0;
	}
	if (th_clock_parse(text, time_us) == 0)
		return 0;
	th_fail(err, TH_USAGE, "\"%.60s\" is not a time", text);
	if (strcmp(text, "yesterday") == 0)
		th_hint(err, "24 hours ago: 1d");
	return th_hint(err,
		"for example 10m for ten minutes ago, or 2026-03-01T05:12:00Z");
}
