#include "cli/image_tree.h"

#include <stdio.h>
#include <string.h>

#include "cli/doc.h"
#include "cli/draw.h"
#include "cli/output.h"
#include "cli/shown.h"

#define BAR_WIDTH 20
#define FILES_SHOWN 3

/* What is hidden of one layer; bytes are by how much it could be smaller. */
static uint64_t hidden_of(const json_t *hidden, size_t layer)
{
	const json_t *one;
	uint64_t bytes = 0;
	size_t i;

	json_array_foreach(doc_part(hidden, "hidden"), i, one)
	{
		if ((size_t)doc_number(one, "layer") == layer)
			bytes += (uint64_t)doc_number(one, "bytes");
	}
	return bytes;
}

/* Its part of the image: what others have as well, what is its own, and at the
 * end what nobody sees. */
static void bar_text(uint64_t bytes, uint64_t hidden, uint64_t all, bool shared,
	char text[BAR_TEXT])
{
	const char *own = draws_blocks() ? "\u2588" : "#";
	const char *other = draws_blocks() ? "\u2592" : "=";
	const char *waste = draws_blocks() ? "\u2591" : ".";
	int width =
		all ? (int)((double)bytes / (double)all * BAR_WIDTH + 0.5) : 0;
	int wasted =
		all ? (int)((double)hidden / (double)all * BAR_WIDTH + 0.5) : 0;
	size_t used = 0;

	width = bytes && !width ? 1 : width;
	wasted = hidden && !wasted ? 1 : wasted;
	text[0] = '\0';
	for (int i = 0; i < width; i++) {
		snprintf(text + used, BAR_TEXT - used, "%s",
			i >= width - wasted ? waste
				: shared    ? other
					    : own);
		used = strlen(text);
	}
}

void image_add_sharers(struct table *table, const json_t *layer)
{
	const json_t *sharers = doc_part(layer, "shared-with");

	for (size_t i = 0; i < json_array_size(sharers); i++) {
		const char *name = doc_item(sharers, i);
		bool nameless = strncmp(name, "sha256:", 7) == 0;

		table_branch(table, 1);
		table_cell(table, "darkgray", "shared with %s%.*s",
			nameless ? "an untagged image, " : "",
			nameless ? 12 : 200,
			nameless ? short_digest(name) : name);
	}
}

static void add_hidden(struct table *table, const json_t *hidden, size_t layer)
{
	size_t shown_files = 0, more = 0, i;
	const json_t *one;

	json_array_foreach(doc_part(hidden, "hidden"), i, one)
	{
		char size[SIZE_TEXT];

		if ((size_t)doc_number(one, "layer") != layer)
			continue;
		if (shown_files == FILES_SHOWN) {
			more++;
			continue;
		}
		shown_files++;
		size_text((uint64_t)doc_number(one, "bytes"), size);
		table_branch(table, 1);
		table_cell(table, "yellow", "hidden: %s (%s)",
			doc_text(one, "path"), size);
	}
	if (!more)
		return;
	table_branch(table, 1);
	table_cell(table, "yellow", "hidden: %zu more files", more);
}

static void add_layer(struct table *table, const json_t *layer,
	const json_t *hidden, size_t number, uint64_t all)
{
	uint64_t bytes = (uint64_t)doc_number(layer, "unpacked");
	uint64_t waste = hidden_of(hidden, number);
	bool shared = doc_count(layer, "shared-with") > 0;
	char size[SIZE_TEXT], lost[SIZE_TEXT], bar[BAR_TEXT];

	size_text(bytes, size);
	size_text(waste, lost);
	bar_text(bytes, waste, all, shared, bar);
	table_branch(table, 0);
	table_cell(table, "bold", "%.12s",
		short_digest(doc_text(layer, "digest")));
	table_cell(table, NULL, "%s", size);
	table_cell(table, waste ? "yellow" : NULL, "%s", waste ? lost : "-");
	table_cell(table, shared ? "darkgray" : "cyan", "%s", bar);
	table_cell(table, "darkgray", "%s", doc_text(layer, "made-by"));
}

static void print_head(const json_t *image, uint64_t all, uint64_t others,
	const json_t *hidden)
{
	char size[SIZE_TEXT], shared[SIZE_TEXT], waste[SIZE_TEXT];
	struct th_buf names;
	size_t count = doc_count(image, "layers");

	doc_join(image, "names", ", ", &names);
	size_text(all, size);
	size_text(others, shared);
	size_text((uint64_t)doc_number(hidden, "bytes"), waste);
	printf("%s\n%s in %zu layer%s: %s shared with other images, %s hidden "
	       "by later layers\n\n",
		*names.data ? shown(names.data) : "(no name)", size, count,
		count == 1 ? "" : "s", shared, waste);
	th_buf_release(&names);
}

static void print_legend(void)
{
	bool blocks = draws_blocks();

	printf("\n%s its own   %s shared with other images   %s hidden: no "
	       "container can see it\n",
		blocks ? "\u2588" : "#", blocks ? "\u2592" : "=",
		blocks ? "\u2591" : ".");
}

int image_tree(
	struct invocation *call, const json_t *image, struct th_error *err)
{
	const json_t *layers = doc_part(image, "layers"), *layer;
	json_t *hidden = NULL;
	struct table *table;
	uint64_t all = 0, others = 0;
	size_t i;

	if (th_image_hidden(
		    call->hull, doc_text(image, "digest"), &hidden, err))
		return -1;
	json_array_foreach(layers, i, layer)
	{
		uint64_t bytes = (uint64_t)doc_number(layer, "unpacked");

		all += bytes;
		others += doc_count(layer, "shared-with") ? bytes : 0;
	}
	print_head(image, all, others, hidden);
	table = table_new();
	table_column(table, "layer", 0);
	table_column(table, "unpacked", TABLE_RIGHT);
	table_column(table, "hidden", TABLE_RIGHT);
	table_column(table, "part", 0);
	table_column(table, "created by", TABLE_BREAK | TABLE_LATER);
	json_array_foreach(layers, i, layer)
	{
		add_layer(table, layer, hidden, i + 1, all);
		image_add_sharers(table, layer);
		add_hidden(table, hidden, i + 1);
	}
	table_print(table);
	print_legend();
	json_decref(hidden);
	return 0;
}
