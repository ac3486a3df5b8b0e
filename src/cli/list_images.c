#include "cli/list_images.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/clock.h"
#include "view/describe.h"
#include "cli/output.h"
#include "oci/reference.h"
#include "store/machine.h"

/* The names of an image, a line for each repository: "host/path" and its tags,
 * which stand side by side in the order of names. Returns where the next
 * repository begins. */
static size_t take_repository(const struct th_strings *names, size_t from,
	char path[TH_REFERENCE_MAX], char tags[300])
{
	size_t used = 0, at = from;

	path[0] = tags[0] = '\0';
	for (; at < names->count; at++) {
		const char *name = names->items[at];
		const char *tag = strrchr(name, ':');
		size_t len = tag ? (size_t)(tag - name) : strlen(name);

		if (at > from && (strncmp(path, name, len) != 0 || path[len]))
			break;
		snprintf(path, TH_REFERENCE_MAX, "%.*s", (int)len, name);
		snprintf(tags + used, 300 - used, "%s%s", used ? ", " : "",
			tag ? tag + 1 : "");
		used = strlen(tags);
	}
	return at;
}

static void add_image(struct table *table, const struct th_image_row *row)
{
	char size[SIZE_TEXT], shared[SIZE_TEXT], ago[48];
	char path[TH_REFERENCE_MAX], tags[300];
	int64_t created = 0;
	size_t at = 0;

	size_text(row->disk_bytes, size);
	size_text(row->shared_bytes, shared);
	if (th_clock_parse(row->created, &created))
		created = 0;
	ago_text(created, ago);
	do {
		bool first = at == 0;

		at = take_repository(&row->tags, at, path, tags);
		table_row(table);
		table_cell(table, "bold", "%s", path[0] ? path : "(no name)");
		table_cell(table, NULL, "%s", tags);
		/* Further names of the same image stand below the first. */
		if (!first)
			continue;
		table_cell(table, NULL, "%s", row->platform);
		table_cell(table, NULL, "%s", ago);
		table_cell(table, NULL, "%s", size);
		table_cell(table, NULL, "%s", shared);
		table_cell(table, NULL, "%lld", (long long)row->containers);
		table_cell(
			table, "darkgray", "%.12s", th_digest_hex(row->digest));
	} while (at < row->tags.count);
}

/* Where the name of a container's image stands for another one here by now: its
 * digest. */
static bool has_newer(struct invocation *call,
	const struct th_container_row *row, char digest[TH_DIGEST_TEXT])
{
	struct th_image_row *images = NULL;
	struct th_error ignored = {0}; /* then none is known */
	size_t count = 0;
	bool newer;

	if (th_image_state_find(call->hull.context.store, row->image_name,
		    &images, &count, &ignored))
		return false;
	newer = count == 1 && strcmp(images[0].digest, row->image) != 0;
	if (newer)
		snprintf(digest, TH_DIGEST_TEXT, "%s", images[0].digest);
	th_image_rows_free(images, count);
	return newer;
}

/* Containers that run and have an older image than their name stands for. */
static json_t *find_older(struct invocation *call)
{
	struct th_container_row *rows = NULL;
	struct th_error ignored = {0}; /* then none is known */
	json_t *list = json_array();
	size_t count = 0;

	if (th_state_list(call->hull.context.store->db, NULL, &rows, &count,
		    &ignored))
		return list;
	for (size_t i = 0; i < count; i++) {
		char digest[TH_DIGEST_TEXT];

		if (th_container_is_up(&rows[i]) &&
			has_newer(call, &rows[i], digest))
			json_array_append_new(list,
				json_pack("{s:s s:s s:s s:s}", "container",
					rows[i].name, "image",
					rows[i].image_name, "uses",
					rows[i].image, "newer", digest));
	}
	free(rows);
	return list;
}

static void print_older(const json_t *list)
{
	size_t i;
	json_t *one;

	json_array_foreach((json_t *)(uintptr_t)list, i, one)
	{
		const char *name =
			json_string_value(json_object_get(one, "container"));
		const char *image =
			json_string_value(json_object_get(one, "image"));

		printf("%s uses an older %s (%.12s): tidyhull recreate %s "
		       "--image %s\n",
			name, image,
			th_digest_hex(json_string_value(
				json_object_get(one, "uses"))),
			name, image);
	}
}

int list_images(struct invocation *call)
{
	struct th_image_row *rows = NULL;
	struct th_error err = {0};
	size_t count = 0;

	if (th_image_state_find(
		    call->hull.context.store, NULL, &rows, &count, &err))
		return say_error(&err);
	if (call->json) {
		json_t *list = json_array();

		for (size_t i = 0; i < count; i++)
			json_array_append_new(list, th_view_image(&rows[i]));
		print_json(json_pack("{s:o s:o}", "images", list, "older",
			find_older(call)));
	} else if (call->quiet) {
		for (size_t i = 0; i < count; i++)
			printf("%s\n", rows[i].digest);
	} else if (count == 0) {
		puts("there are no images; tidyhull pull downloads one");
	} else {
		struct table *table = table_new();
		json_t *older;

		table_column(table, "image", false);
		table_column(table, "tags", false);
		table_column(table, "platform", false);
		table_column(table, "created", false);
		table_column(table, "on disk", true);
		table_column(table, "shared", true);
		table_column(table, "containers", true);
		table_column(table, "digest", false);
		for (size_t i = 0; i < count; i++)
			add_image(table, &rows[i]);
		table_print(table);
		older = find_older(call);
		print_older(older);
		json_decref(older);
	}
	th_image_rows_free(rows, count);
	return EXIT_DONE;
}
