#include "base/file.h"

#include <fcntl.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "unit/unit.h"

static void replaced_files_are_whole(void)
{
	struct th_error err = {0};
	struct th_buf buf;

	CHECK_INT(th_file_replace(
			  unit_folder_fd, "f", "one", 3, 0600, true, &err),
		0);
	CHECK_INT(th_file_replace(
			  unit_folder_fd, "f", "second", 6, 0600, false, &err),
		0);
	th_buf_init(&buf, 100);
	CHECK_INT(th_file_read(unit_folder_fd, "f", &buf, &err), 1);
	CHECK_TEXT(buf.data, "second");
	th_buf_release(&buf);
	/* A failure leaves nothing beside it. */
	CHECK_INT(th_file_replace(
			  unit_folder_fd, "none/f", "x", 1, 0600, false, &err),
		-1);
	CHECK(strstr(err.msg, "none/f") != NULL);
}

static void reading_has_a_limit(void)
{
	struct th_error err = {0};
	struct th_buf buf;

	th_file_replace(unit_folder_fd, "f", "12345678", 8, 0600, false, &err);
	th_buf_init(&buf, 8);
	CHECK_INT(th_file_read(unit_folder_fd, "f", &buf, &err), 1);
	th_buf_release(&buf);
	th_buf_init(&buf, 7);
	CHECK_INT(th_file_read(unit_folder_fd, "f", &buf, &err), -1);
	CHECK(strstr(err.msg, "larger than") != NULL);
	th_buf_release(&buf);
	CHECK_INT(th_file_read(unit_folder_fd, "missing", &buf, &err), 0);
}

static void removal_follows_no_link(void)
{
	struct th_error err = {0};
	struct stat st;

	mkdirat(unit_folder_fd, "keep", 0755);
	th_file_replace(unit_folder_fd, "keep/f", "x", 1, 0600, false, &err);
	mkdirat(unit_folder_fd, "gone", 0755);
	mkdirat(unit_folder_fd, "gone/deep", 0755);
	CHECK_INT(symlinkat("../../keep", unit_folder_fd, "gone/deep/l"), 0);
	CHECK_INT(th_tree_remove(unit_folder_fd, "gone", &err), 0);
	CHECK(fstatat(unit_folder_fd, "gone", &st, 0) != 0);
	CHECK(fstatat(unit_folder_fd, "keep/f", &st, 0) == 0);
	CHECK_INT(th_tree_remove(unit_folder_fd, "never", &err), 0);
}

/* Deeper than any path can name, and than descriptors could be open. */
static void removal_knows_no_depth(void)
{
	struct th_error err = {0};
	int fd = openat(unit_folder_fd, ".", O_RDONLY | O_DIRECTORY), next;
	struct stat st;

	for (int i = 0; i < 20000; i++) {
		if (mkdirat(fd, "d", 0700) || mkdirat(fd, "side", 0700))
			break;
		next = openat(fd, "d", O_RDONLY | O_DIRECTORY);
		close(fd);
		fd = next;
	}
	close(openat(fd, ".moved-up-0", O_WRONLY | O_CREAT, 0600));
	close(openat(fd, "f", O_WRONLY | O_CREAT, 0600));
	close(fd);
	CHECK(th_tree_size(unit_folder_fd, "d") > 0);
	CHECK_INT(th_tree_remove(unit_folder_fd, "d", &err), 0);
	CHECK(fstatat(unit_folder_fd, "d", &st, 0) != 0);
	/* A deep one whose top has the names that it would use. */
	mkdirat(unit_folder_fd, "side/.moved-up-0", 0700);
	CHECK_INT(th_tree_remove(unit_folder_fd, "side", &err), 0);
}

static void modes_are_set_by_descriptor(void)
{
	struct stat st;
	int fd;

	close(openat(unit_folder_fd, "f", O_WRONLY | O_CREAT, 0600));
	fd = openat(unit_folder_fd, "f", O_PATH);
	CHECK_INT(th_fd_chmod(fd, 04711), 0);
	CHECK_INT(fstat(fd, &st), 0);
	CHECK_INT(st.st_mode & 07777, 04711);
	close(fd);
	fd = openat(unit_folder_fd, "f", O_RDONLY);
	CHECK_INT(th_fd_chmod(fd, 0640), 0);
	CHECK_INT(fstat(fd, &st), 0);
	CHECK_INT(st.st_mode & 07777, 0640);
	close(fd);
	CHECK_INT(th_fd_chmod(-1, 0640), -1);
}

static void same_files_have_one_inode(void)
{
	struct stat one, other;

	close(openat(unit_folder_fd, "one", O_WRONLY | O_CREAT, 0600));
	close(openat(unit_folder_fd, "two", O_WRONLY | O_CREAT, 0600));
	CHECK_INT(linkat(unit_folder_fd, "one", unit_folder_fd, "link", 0), 0);
	CHECK_INT(fstatat(unit_folder_fd, "one", &one, 0), 0);
	CHECK_INT(fstatat(unit_folder_fd, "two", &other, 0), 0);
	CHECK(!th_is_same_file(&one, &other));
	CHECK_INT(fstatat(unit_folder_fd, "link", &other, 0), 0);
	CHECK(th_is_same_file(&one, &other));
	/* The same number in another file system. */
	other.st_dev++;
	CHECK(!th_is_same_file(&one, &other));
}

/* Whoever holds a lock may have been stopped for good. */
static void a_held_lock_is_given_up(void)
{
	struct th_error err = {0};
	int first = th_lock_file(unit_folder_fd, "lock", 0, &err), other;

	CHECK(first >= 0);
	CHECK_INT(th_lock_file(unit_folder_fd, "lock", 5, &err), -1);
	CHECK(th_error_busy(&err));
	CHECK(strstr(err.msg, "keeps lock locked") != NULL);
	CHECK(err.hint[0]);
	close(first);
	other = th_lock_file(unit_folder_fd, "lock", 0, NULL);
	CHECK(other >= 0);
	close(other);
	th_error_clear(&err);
	CHECK_INT(th_lock_file(unit_folder_fd, "none/lock", 5, &err), -1);
	CHECK(!th_error_busy(&err));
}

static const CU_TestInfo tests[] = {
	{"a held lock is given up", a_held_lock_is_given_up},
	{"replaced files are whole", replaced_files_are_whole},
	{"reading has a limit", reading_has_a_limit},
	{"removal follows no link", removal_follows_no_link},
	{"removal knows no depth", removal_knows_no_depth},
	{"modes are set by descriptor", modes_are_set_by_descriptor},
	{"same files have one inode", same_files_have_one_inode},
	CU_TEST_INFO_NULL};

const struct suite suite_file = {"file", tests};
