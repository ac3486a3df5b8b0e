/* Words, files and sizes that are nearly right. */
#include <fcntl.h>
#include <stdio.h>
#include <string.h>

#include "base/distance.h"
#include "base/file.h"
#include "base/near_file.h"
#include "base/size.h"
#include "unit/unit.h"

static void words_have_a_nearest(void)
{
	static const char *const words[] = {
		"mount", "memory", "always", "on-failure", NULL};
	static const char *const meant[][2] = {{"mout", "mount"},
		{"omunt", "mount"}, {"ount", "mount"}, {"memroy", "memory"},
		{"alwasy", "always"}, {"onfailure", "on-failure"},
		/* Another word, and not a mistyped one. */
		{"count", NULL}, {"mo", NULL}, {"", NULL}, {"ship", NULL},
		{"failure", NULL}};

	for (size_t i = 0; i < COUNT_OF(meant); i++) {
		const char *found = th_nearest(meant[i][0], words);

		CHECK((found == NULL) == (meant[i][1] == NULL));
		if (found && meant[i][1])
			CHECK_TEXT(found, meant[i][1]);
	}
}

static void files_have_a_nearest(void)
{
	static const char *const files[] = {
		"almanac.yaml", "tides.tar", ".hidden.yaml"};
	static const char *const meant[][2] = {{"almanac.yml", "almanac.yaml"},
		{"almanac", "almanac.yaml"}, {"alamnac.yaml", "almanac.yaml"},
		{"tids.tar", "tides.tar"}, {"hidden.yaml", NULL},
		{"ledger.yaml", NULL}, {"", NULL}};
	char path[200], found[TH_NEAR_FILE], wanted[200];

	for (size_t i = 0; i < COUNT_OF(files); i++) {
		int fd = openat(unit_folder_fd, files[i],
			O_WRONLY | O_CREAT | O_CLOEXEC, 0644);

		CHECK(fd >= 0);
		th_close(&fd);
	}
	for (size_t i = 0; i < COUNT_OF(meant); i++) {
		bool is;

		snprintf(path, sizeof(path), "%s/%s", unit_folder, meant[i][0]);
		is = th_near_file(path, found);
		CHECK(is == (meant[i][1] != NULL));
		if (!is || !meant[i][1])
			continue;
		snprintf(wanted, sizeof(wanted), "%s/%s", unit_folder,
			meant[i][1]);
		CHECK_TEXT(found, wanted);
	}
	CHECK(!th_near_file("/no/such/folder/x.yaml", found));
}

static void sizes_lose_their_letters(void)
{
	char meant[TH_SIZE_EXACT];

	CHECK(th_size_meant("64MB", meant));
	CHECK_TEXT(meant, "64M");
	CHECK(th_size_meant("1.5GiB", meant));
	CHECK_TEXT(meant, "1.5G");
	CHECK(!th_size_meant("64M", meant));
	CHECK(!th_size_meant("lamb", meant));
	CHECK(!th_size_meant("B", meant));
}

static const CU_TestInfo tests[] = {
	{"words have a nearest", words_have_a_nearest},
	{"files have a nearest", files_have_a_nearest},
	{"sizes lose their letters", sizes_lose_their_letters},
	CU_TEST_INFO_NULL};

const struct suite suite_near = {"near", tests};
