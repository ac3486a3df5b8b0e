/* The files of the store's own: what is to be a file may have become a folder,
 * and the mark of the image layout something else. Before the store is opened,
 * which takes them as they should be. */
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/json.h"
#include "check/parts.h"

#define LAYOUT "images/oci-layout"

/* Out of the way, and kept: a person may have written what is in it. */
static bool put_aside(int root, const char *name)
{
	char time[TH_TIME_TEXT], to[96];

	th_clock_format(th_clock_now_us(), time);
	snprintf(to, sizeof(to), "%s.damaged-%.19s", name, time);
	return renameat(root, name, root, to) == 0;
}

static void check_kind(struct checking *checking, int root, const char *name)
{
	struct stat st;

	if (fstatat(root, name, &st, AT_SYMLINK_NOFOLLOW) ||
		S_ISREG(st.st_mode))
		return;
	check_found(checking, TH_PART_DATABASE, name,
		checking->mend && put_aside(root, name)
			? "put aside, to be made anew"
			: "",
		"it is %s, where a file should be",
		S_ISDIR(st.st_mode) ? "a folder" : "something else");
}

static bool is_layout(int root)
{
	struct th_error ignored = {0}; /* then it is none */
	const char *version = NULL;
	json_t *doc = NULL;
	bool is_one =
		th_json_read_file(root, LAYOUT, 4096, &doc, &ignored) == 1 &&
		th_json_string(doc, "imageLayoutVersion", LAYOUT, &version,
			&ignored) == 1;

	json_decref(doc);
	return is_one;
}

void check_own_files(struct checking *checking, int root)
{
	static const char *const names[] = {"state.db", "state.db-wal",
		"state.db-shm", "lock", "images.lock", "tag",
		"images/index.json", LAYOUT, "run/pilot.lock",
		"run/network.lock", "run/linger.lock", "run/names.lock"};
	struct th_error ignored = {0}; /* then it is not mended */

	for (size_t i = 0; i < sizeof(names) / sizeof(*names); i++)
		check_kind(checking, root, names[i]);
	/* Of a store that was never opened there is nothing to say. */
	if (faccessat(root, "state.db", F_OK, 0) || is_layout(root))
		return;
	check_found(checking, TH_PART_IMAGE, LAYOUT,
		checking->mend && th_store_write_layout(root, &ignored) == 0
			? "written anew"
			: "",
		"it does not say that images/ is an OCI image layout");
}
