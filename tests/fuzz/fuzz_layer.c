/* Archives of layers, compressed or not: the first byte says how. */
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
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

/* On a layer that has some of what archives may meet. */
static struct th_view *make_below(int below)
{
	struct th_view *view = th_view_new();
	struct th_error err = {0};
	int fd;

	mkdirat(below, "a", 0700);
	mkdirat(below, "etc", 0755);
	if (symlinkat("a", below, "b") || symlinkat("/b/../a", below, "l"))
		return view;
	fd = openat(below, "a/file", O_WRONLY | O_CREAT | O_CLOEXEC, 0600);
	if (fd >= 0 && linkat(below, "a/file", below, "link", 0) == 0)
		th_view_add(view, below, NULL, &err);
	th_close(&fd);
	return view;
}

static void apply_above(const uint8_t *data, size_t size)
{
	struct th_layer_notes notes = {0};
	struct tar_source from;
	struct th_error err = {0};
	uint64_t disk_bytes;
	int top = fuzz_folder(), tree, below;
	struct th_view *view;

	mkdirat(top, "tree", 0755);
	mkdirat(top, "below", 0755);
	tree = openat(top, "tree", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	below = openat(top, "below", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	view = make_below(below);
	tar_source_init(&from, (const char *)data, size, 4096);
	if (th_layer_apply_whiteouts(&from.source, tree, view, &notes, &err) ==
		0) {
		tar_source_init(&from, (const char *)data, size, 777);
		th_layer_apply_above(
			&from.source, tree, view, &notes, &disk_bytes, &err);
	}
	th_layer_notes_release(&notes);
	th_view_free(view);
	close(below);
	close(tree);
	close(top);
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
	if (data[0] % 3 == 0 && size <= UNPACKED_MAX)
		apply_above(data + 1, size - 1);
	return 0;
}
