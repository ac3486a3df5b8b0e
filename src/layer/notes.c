#include "layer/notes.h"

#include <stdlib.h>
#include <string.h>

#include "base/file.h"

#define NOTES_MAX (256u << 20)
/* The file: records, each ended by a NUL, of which the first letter tells the
 * kind. "1" is the version and comes first, "." ends it. */
#define VERSION '1'
#define AGAIN 'a'
#define OPAQUE 'o'
#define ROOT 'r'
#define END '.'

static const char letters[TH_NOTE_KINDS] = {'f', 'b', 'd', 'n'};

void th_layer_notes_release(struct th_layer_notes *notes)
{
	for (int kind = 0; kind < TH_NOTE_KINDS; kind++)
		th_strings_release(&notes->paths[kind]);
	memset(notes, 0, sizeof(*notes));
}

bool th_layer_notes_are_empty(const struct th_layer_notes *notes)
{
	for (int kind = 0; kind < TH_NOTE_KINDS; kind++) {
		if (notes->paths[kind].count)
			return false;
	}
	return !notes->again && !notes->opaque && !notes->root;
}

static void add(struct th_buf *text, char kind, const char *value)
{
	th_buf_add(text, &kind, 1);
	th_buf_add(text, value, strlen(value) + 1);
}

int th_layer_notes_write(int folder, const char *name,
	const struct th_layer_notes *notes, struct th_error *err)
{
	struct th_buf text;
	int rc;

	th_buf_init(&text, NOTES_MAX);
	add(&text, VERSION, "");
	if (notes->again)
		add(&text, AGAIN, "");
	if (notes->opaque)
		add(&text, OPAQUE, "");
	if (notes->root)
		add(&text, ROOT, "");
	for (int kind = 0; kind < TH_NOTE_KINDS; kind++) {
		const struct th_strings *paths = &notes->paths[kind];

		for (size_t i = 0; i < paths->count; i++)
			add(&text, letters[kind], paths->items[i]);
	}
	add(&text, END, "");
	rc = text.failed ? th_fail_memory(err)
			 : th_file_replace(folder, name, text.data, text.len,
				   0644, false, err);
	th_buf_release(&text);
	return rc;
}

static int take(struct th_layer_notes *notes, char kind, const char *value)
{
	switch (kind) {
	case AGAIN:
		notes->again = true;
		return 0;
	case OPAQUE:
		notes->opaque = true;
		return 0;
	case ROOT:
		notes->root = true;
		return 0;
	default:
		break;
	}
	for (int i = 0; i < TH_NOTE_KINDS; i++) {
		if (kind == letters[i])
			return th_strings_add(&notes->paths[i], value);
	}
	return -1;
}

int th_layer_notes_read(int folder, const char *name,
	struct th_layer_notes *notes, struct th_error *err)
{
	struct th_buf text;
	const char *at, *end;
	int rc;

	memset(notes, 0, sizeof(*notes));
	th_buf_init(&text, NOTES_MAX);
	rc = th_file_read_regular(folder, name, &text, err);
	if (rc <= 0) {
		th_buf_release(&text);
		return rc;
	}
	at = text.data;
	end = text.data + text.len;
	rc = text.len >= 4 && memcmp(at, "1\0", 2) == 0 &&
			memcmp(end - 2, ".\0", 2) == 0
		? 0
		: -1;
	for (at += 2; rc == 0 && at < end - 2; at += strlen(at) + 1)
		rc = take(notes, *at, at + 1);
	if (rc)
		th_fail(err, TH_FAILED,
			"the notes on a layer (%.100s) are damaged", name);
	th_buf_release(&text);
	if (rc)
		th_layer_notes_release(notes);
	return rc;
}

static int compare(const void *key, const void *item)
{
	return strcmp(key, *(char *const *)item);
}

static bool has(const struct th_strings *list, const char *path)
{
	return list->count &&
		bsearch(path, list->items, list->count, sizeof(*list->items),
			compare) != NULL;
}

bool th_layer_notes_imply(const struct th_layer_notes *notes, const char *path)
{
	return has(&notes->paths[TH_NOTE_IMPLIED], path) ||
		has(&notes->paths[TH_NOTE_BARE], path);
}
