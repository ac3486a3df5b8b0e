#include "cli/list_images.h"

#include <stdio.h>
#include <string.h>

#include "cli/doc.h"
#include "cli/output.h"

#define PATH_TEXT 512
#define TAGS_TEXT 300

/* The names of an image, a line for each repository: "host/path" and its tags,
 * which stand side by side in the order of names. Returns where the next
 * repository begins. */
static size_t take_repository(const json_t *names, size_t from,
	char path[PATH_TEXT], char tags[TAGS_TEXT])
{
	size_t used = 0, at = from;

	path[0] = tags[0] = '\0';
	for (; at < json_array_size(names); at++) {
		const char *name = doc_item(names, at);
		const char *tag = strrchr(name, ':');
		size_t len = tag ? (size_t)(tag - name) : strlen(name);

		if (at > from && (strncmp(path, name, len) != 0 || path[len]))
			break;
		snprintf(path, PATH_TEXT, "%.*s", (int)len, name);
		snprintf(tags + used, TAGS_TEXT - used, "%s%s",
			used ? ", " : "", tag ? tag + 1 : "");
		used = strlen(tags);
	}
	return at;
}

static void add_image(struct table *table, const json_t *image)
{
	const json_t *names = doc_part(image, "names");
	char size[SIZE_TEXT], shared[SIZE_TEXT], ago[48];
	char path[PATH_TEXT], tags[TAGS_TEXT];
	size_t at = 0;

	size_text((uint64_t)doc_number(image, "on-disk"), size);
	size_text((uint64_t)doc_number(image, "shared"), shared);
	ago_text(doc_time(image, "created"), ago);
	do {
		bool first = at == 0;

		at = take_repository(names, at, path, tags);
		table_row(table);
		table_cell(table, "bold", "%s", path[0] ? path : "(no name)");
		table_cell(table, NULL, "%s", tags);
		/* Further names of the same image stand below the first. */
		if (!first && !table_is_sorted())
			continue;
		table_cell(table, NULL, "%s", doc_text(image, "platform"));
		table_cell(table, NULL, "%s", ago);
		table_cell(table, NULL, "%s", size);
		table_cell(table, NULL, "%s", shared);
		table_cell(table, NULL, "%lld",
			(long long)doc_number(image, "containers"));
		table_cell(table, "darkgray", "%.12s",
			short_digest(doc_text(image, "digest")));
	} while (at < json_array_size(names));
}

static void print_older(const json_t *list)
{
	const json_t *one;
	size_t i;

	json_array_foreach(list, i, one)
	{
		const char *name = doc_text(one, "container");
		const char *image = doc_text(one, "image");

		table_note("%s uses an older %s (%.12s): tidyhull recreate %s "
			   "--image %s\n",
			name, image, short_digest(doc_text(one, "uses")), name,
			image);
	}
}

void print_images(struct invocation *call, const json_t *doc)
{
	struct table *table;
	const json_t *one;
	size_t i;

	(void)call;
	if (!doc_count(doc, "images")) {
		puts("there are no images; tidyhull pull downloads one");
		return;
	}
	table = table_new();
	table_column(table, "image", TABLE_BREAK);
	table_column(table, "tags", TABLE_BREAK);
	table_column(table, "platform", TABLE_LESS);
	table_column(table, "created", TABLE_LESS);
	table_column(table, "on disk", TABLE_RIGHT);
	table_column(table, "shared", TABLE_RIGHT | TABLE_LESS);
	table_column(table, "containers", TABLE_RIGHT);
	table_column(table, "digest", TABLE_HASH);
	json_array_foreach(doc_part(doc, "images"), i, one)
	{
		add_image(table, one);
	}
	table_print(table);
	print_older(doc_part(doc, "older"));
}
