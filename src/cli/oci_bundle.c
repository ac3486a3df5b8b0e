/* oci bundle: an image with settings, as a bundle for any runtime. */
#include "cli/oci_bundle.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/path.h"
#include "cli/doc.h"
#include "cli/making.h"
#include "cli/output.h"
#include "cli/shown.h"

/* The invocation that making_read() expects: an image, and settings only. */
static int only_settings(const struct invocation *call, struct invocation *made,
	struct th_error *err)
{
	*made = *call;
	made->option_count = 0;
	made->options =
		calloc((size_t)call->option_count + 1, sizeof(*made->options));
	if (!made->options)
		return th_fail_memory(err);
	for (int i = 0; i < call->option_count; i++) {
		const char *name = call->options[i].name;

		/* Here it is another log. */
		if (strcmp(name, "log") != 0)
			made->options[made->option_count++] = call->options[i];
	}
	made->objects = call->objects + 1;
	made->object_count = 1;
	return 0;
}

static int write_it(struct invocation *call, const struct making *making)
{
	char *folder = th_path_absolute(
		doc_text(making->settings, "base"), call->objects[2]);
	struct th_error err = {0};
	json_t *doc = NULL;
	int code = EXIT_DONE;
	int rc = folder ? th_oci_bundle(call->hull, making->settings, folder,
				  &doc, &err)
			: th_fail_memory(&err);

	if (rc)
		code = say_problems(
			"make a bundle of", call->objects[1], doc, &err);
	else if (!call->quiet)
		printf("wrote the bundle %s\n", shown(folder));
	json_decref(doc);
	free(folder);
	return code;
}

int oci_bundle(struct invocation *call)
{
	struct th_error err = {0};
	struct invocation plain;
	struct making making;
	int code;

	if (call->object_count != 3) {
		th_fail(&err, TH_USAGE, "wrong usage of \"oci bundle\"");
		th_hint(&err, "tidyhull oci bundle IMAGE DIR");
		return say_error(&err);
	}
	if (only_settings(call, &plain, &err))
		return say_error(&err);
	code = making_read(&plain, &making, false, &err)
		? say_error(&err)
		: write_it(call, &making);
	making_release(&making);
	free(plain.options);
	return code;
}
