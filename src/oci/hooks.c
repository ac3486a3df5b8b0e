#include "oci/hooks.h"

#include <stdlib.h>
#include <string.h>

#include "oci/read.h"

static const char *const names[TH_HOOK_KINDS + 1] = {"prestart",
	"createRuntime", "createContainer", "startContainer", "poststart",
	"poststop", NULL};

const char *th_hook_name(enum th_hook_kind kind)
{
	return names[kind];
}

static int read_hook(const json_t *item, void *out, struct th_error *err)
{
	struct th_hook *hook = out;
	int64_t timeout = 0;

	if (read_copy(item, "path", "a hook", &hook->path, err) < 0 ||
		th_json_strings(item, "args", "a hook", &hook->args, err) < 0 ||
		th_json_strings(item, "env", "a hook", &hook->env, err) < 0 ||
		read_number(
			item, "timeout", "a hook", 1, 86400, &timeout, err) < 0)
		return -1;
	if (!hook->path || hook->path[0] != '/')
		return th_fail(err, TH_FAILED, "a hook's path is not absolute");
	hook->timeout_s = (int)timeout;
	return 0;
}

int th_hooks_parse(
	const json_t *doc, struct th_hooks *hooks, struct th_error *err)
{
	static const struct shape top = {"hooks", names, NULL};
	static const char *const done[] = {
		"path", "args", "env", "timeout", NULL};
	json_t *object;
	int rc = th_json_object(doc, "hooks", "config.json", &object, err);

	if (rc != 1)
		return rc;
	if (shape_check(object, &top, err))
		return -1;
	for (int kind = 0; kind < TH_HOOK_KINDS; kind++) {
		struct shape shape = {"a hook", done, NULL};
		void *items = NULL;

		rc = read_items(object, names[kind], &shape,
			sizeof(struct th_hook), &items, &hooks[kind].count,
			read_hook, err);
		hooks[kind].items = items;
		if (rc < 0)
			return -1;
	}
	return 1;
}

void th_hooks_release(struct th_hooks *hooks)
{
	for (int kind = 0; kind < TH_HOOK_KINDS; kind++) {
		for (size_t i = 0; i < hooks[kind].count; i++) {
			free(hooks[kind].items[i].path);
			th_strings_release(&hooks[kind].items[i].args);
			th_strings_release(&hooks[kind].items[i].env);
		}
		free(hooks[kind].items);
		hooks[kind].items = NULL;
		hooks[kind].count = 0;
	}
}
