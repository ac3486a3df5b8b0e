/* Archives of layers, compressed or not: the first byte says how. */
#include <unistd.h>

#include "fuzz/fuzz.h"
#include "layer/apply.h"
#include "layer/inflate.h"
#include "lib/tar.h"

#define UNPACKED_MAX (4 << 20)

/* Gives no more than a bound, so that a bomb costs time only once. */
struct bounded {
	struct th_source source;
	struct th_source *from;
	size_t left;
};

static ssize_t next(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct bounded *bounded = (struct bounded *)(void *)source;
	ssize_t got = bounded->from->next(bounded->from, data, err);

	if (got > 0 && (size_t)got > bounded->left)
		return 0;
	if (got > 0)
		bounded->left -= (size_t)got;
	return got;
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	struct bounded bounded = {.source = {next}, .left = UNPACKED_MAX};
	struct th_inflate *inflate;
	struct tar_source from;
	struct th_error err = {0};
	struct th_layer_notes notes = {0};
	uint64_t disk_bytes;
	int tree;

	if (size < 1)
		return 0;
	tree = fuzz_folder();
	tar_source_init(&from, (const char *)data + 1, size - 1, 4096);
	inflate = th_inflate_new(
		(enum th_compression)(data[0] % 3), &from.source);
	bounded.from = th_inflate_source(inflate);
	th_layer_apply(&bounded.source, tree, &notes, &disk_bytes, &err);
	th_layer_notes_release(&notes);
	th_inflate_free(inflate);
	close(tree);
	return 0;
}
