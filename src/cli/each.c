#include "cli/each.h"

#include <stdio.h>
#include <stdlib.h>

#include "cli/output.h"

static int all_containers(struct invocation *call,
	bool (*wanted)(const struct th_container_row *row),
	int (*act)(struct invocation *call, struct th_container_row *row))
{
	struct th_container_row *rows = NULL;
	struct th_error err = {0};
	size_t count = 0;
	int code = EXIT_DONE, done = 0;

	if (th_container_settle(&call->context, &err) ||
		th_state_list(
			call->context.store->db, NULL, &rows, &count, &err))
		return say_error(&err);
	for (size_t i = 0; i < count; i++) {
		int one;

		if (!wanted(&rows[i]))
			continue;
		one = act(call, &rows[i]);
		code = code ? code : one;
		done++;
	}
	free(rows);
	if (!done && !call->quiet)
		printf("there is no container to %s\n", call->verb->name);
	return code;
}

int each_container(struct invocation *call,
	bool (*wanted)(const struct th_container_row *row),
	int (*act)(struct invocation *call, struct th_container_row *row))
{
	int code = EXIT_DONE;

	if (option_given(call, "all"))
		return all_containers(call, wanted, act);
	if (call->object_count == 0) {
		struct th_error err = {0};

		th_fail(&err, TH_USAGE, "%s which container?",
			call->verb->name);
		th_hint(&err, "name it, or say --all");
		return say_error(&err);
	}
	for (int i = 0; i < call->object_count; i++) {
		struct th_object object;
		struct th_error err = {0};
		int one;

		if (th_object_find(&call->context, call->objects[i],
			    TH_KIND_CONTAINER, &object, &err)) {
			one = say_error(&err);
		} else {
			one = act(call, &object.container);
			th_object_release(&object);
		}
		code = code ? code : one;
	}
	return code;
}
