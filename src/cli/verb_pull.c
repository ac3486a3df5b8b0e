/* pull: from a registry into the store. */
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "cli/output.h"
#include "cli/progress.h"
#include "cli/verbs.h"

/* Which of several registries: a person is asked, a script gets an error. */
static int choose(struct invocation *call, const struct th_strings *hosts,
	const struct th_reference *ref, size_t *choice, struct th_error *err)
{
	char line[32];
	unsigned int number = 0;

	*choice = 0;
	if (hosts->count == 1)
		return 0;
	if (!isatty(0) || !on_terminal() || call->yes) {
		struct th_buf list;

		th_buf_init(&list, sizeof(err->hint) - 1);
		for (size_t i = 0; i < hosts->count; i++)
			th_buf_addf(&list, "%s%s/%s:%s",
				i ? ", " : "choose: ", hosts->items[i],
				ref->path, ref->tag);
		th_fail(err, TH_USAGE, "%zu registries have %s:%s",
			hosts->count, ref->path, ref->tag);
		th_hint(err, "%s", list.data);
		th_buf_release(&list);
		return -1;
	}
	fprintf(stderr, "%zu registries have %s:%s\n", hosts->count, ref->path,
		ref->tag);
	for (size_t i = 0; i < hosts->count; i++)
		fprintf(stderr, "  %zu  %s/%s:%s\n", i + 1, hosts->items[i],
			ref->path, ref->tag);
	fputs("which one? ", stderr);
	if (!fgets(line, sizeof(line), stdin) ||
		sscanf(line, "%u", &number) != 1 || number < 1 ||
		number > hosts->count)
		return th_fail(err, TH_USAGE, "none was chosen");
	*choice = number - 1;
	return 0;
}

static int pull_one(struct invocation *call, const char *name, json_t *list)
{
	struct th_pull_options options = {.config = &call->config,
		.progress = call->context.progress,
		.owner = call->context.owner,
		.cancel = call->context.cancel};
	struct th_strings hosts = {0};
	struct th_reference ref;
	struct th_pulled pulled;
	struct th_error err = {0};
	char size[SIZE_TEXT], took[TH_TIME_TEXT];
	int64_t begin = th_clock_now_us();
	size_t choice;

	if (th_reference_parse(name, &ref, &err) ||
		th_pull_locate(&call->config, &ref, &hosts, &err) ||
		choose(call, &hosts, &ref, &choice, &err)) {
		th_strings_release(&hosts);
		return say_error(&err);
	}
	snprintf(ref.host, sizeof(ref.host), "%s", hosts.items[choice]);
	th_strings_release(&hosts);
	if (th_pull(call->context.store, &ref, &options, &pulled, &err)) {
		progress_end(call->context.owner);
		return say_error(&err);
	}
	/* The next image draws its own lines below. */
	progress_end(call->context.owner);
	size_text(pulled.transfer_bytes, size);
	th_clock_span(th_clock_now_us() - begin, took);
	json_array_append_new(list,
		json_pack("{s:s s:s s:I s:I s:I}", "name", pulled.name,
			"digest", pulled.digest, "layers",
			(json_int_t)pulled.layer_count, "already-here",
			(json_int_t)pulled.here_count, "transferred",
			(json_int_t)pulled.transfer_bytes));
	if (call->quiet)
		printf("%s\n", pulled.digest);
	else if (!call->json)
		printf("pulled %s: %zu of %zu layers, %s in %s (%.19s)\n",
			pulled.name, pulled.layer_count - pulled.here_count,
			pulled.layer_count, size, took, pulled.digest);
	fflush(stdout);
	return EXIT_DONE;
}

static int run(struct invocation *call)
{
	json_t *list = json_array();
	int code = EXIT_DONE;

	for (int i = 0; i < call->object_count; i++) {
		int one = pull_one(call, call->objects[i], list);

		code = code ? code : one;
	}
	if (call->json)
		print_json(json_pack("{s:O}", "pulled", list));
	json_decref(list);
	return code;
}

static const char *const text[] = {
	"A name without a registry's host is looked for in the registries that",
	"the configuration marks with \"search: true\". Every blob is verified",
	"while it arrives, and layers that are here are not fetched again.",
	NULL};

static const char *const examples[] = {"tidyhull pull selwick/gauge",
	"tidyhull pull registry.example:5000/selwick/gauge:2", NULL};

const struct verb verb_pull = {.name = "pull",
	.group = "images",
	.summary = "download, verify and unpack images",
	.usage = "REF...",
	.text = text,
	.examples = examples,
	.flags = VERB_STORE | VERB_ROOT | VERB_JSON,
	.least = 1,
	.most = -1,
	.run = run};
