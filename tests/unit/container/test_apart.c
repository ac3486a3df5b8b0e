/* The child that works on a container's files reaches nothing else. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/file.h"
#include "container/apart.h"
#include "unit/unit.h"

#define REPLY_BYTES (3u << 20)

static bool has_landlock(void)
{
	/* LANDLOCK_CREATE_RULESET_VERSION */
	return syscall(SYS_landlock_create_ruleset, NULL, 0, 1) >= 1;
}

/* A letter for each thing that can be done. */
static int try_all(void *arg, struct th_buf *reply, struct th_error *err)
{
	const int *fds = arg;
	char *const none[] = {NULL};
	void *page = mmap(NULL, 4096, PROT_READ | PROT_WRITE,
		MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);

	(void)err;
	/* Meant to be possible. */
	if (openat(fds[0], "given", O_RDONLY) >= 0)
		th_buf_adds(reply, "r");
	if (openat(fds[1], "made", O_WRONLY | O_CREAT, 0600) >= 0)
		th_buf_adds(reply, "w");
	/* And not. */
	if (openat(fds[0], "made", O_WRONLY | O_CREAT, 0600) >= 0)
		th_buf_adds(reply, "W");
	if (open("/etc/passwd", O_RDONLY) >= 0)
		th_buf_adds(reply, "P");
	if (openat(fds[0], "../apart-outside", O_RDONLY) >= 0)
		th_buf_adds(reply, "U");
	if (socket(AF_UNIX, SOCK_STREAM, 0) >= 0 ||
		socket(AF_INET, SOCK_STREAM, 0) >= 0)
		th_buf_adds(reply, "S");
	if (syscall(SYS_clone, 17, 0, 0, 0, 0) >= 0)
		th_buf_adds(reply, "F");
	if (mprotect(page, 4096, PROT_READ | PROT_EXEC) == 0 ||
		mmap(NULL, 4096, PROT_READ | PROT_EXEC,
			MAP_PRIVATE | MAP_ANONYMOUS, -1, 0) != MAP_FAILED)
		th_buf_adds(reply, "C");
	if (syscall(SYS_setns, fds[0], 0) == 0 || errno != EPERM ||
		syscall(SYS_unshare, 0) == 0 || errno != EPERM)
		th_buf_adds(reply, "N");
	if (execve("/bin/true", none, none) == 0 || errno != EPERM)
		th_buf_adds(reply, "X");
	return 7;
}

static void nothing_else_is_reached(void)
{
	struct th_error err = {0};
	int fds[2], outside;
	struct th_buf reply;

	mkdirat(unit_folder_fd, "apart-from", 0755);
	mkdirat(unit_folder_fd, "apart-to", 0755);
	fds[0] = openat(unit_folder_fd, "apart-from", O_PATH | O_DIRECTORY);
	fds[1] = openat(unit_folder_fd, "apart-to", O_PATH | O_DIRECTORY);
	CHECK_INT(
		th_file_replace(fds[0], "given", "x", 1, 0600, false, &err), 0);
	outside = openat(
		unit_folder_fd, "apart-outside", O_WRONLY | O_CREAT, 0600);
	close(outside);
	const struct th_wall_folder folders[] = {
		{.fd = fds[0]}, {.fd = fds[1], .access = TH_WALL_ALL}};
	const struct th_apart how = {
		.folders = folders, .count = 2, .root = -1};

	th_buf_init(&reply, 1 << 20);
	CHECK_INT(th_apart(&how, try_all, fds, &reply, &err), 7);
	CHECK_TEXT(reply.data, has_landlock() ? "rw" : "rwWPU");
	th_buf_release(&reply);
	close(fds[0]);
	close(fds[1]);
}

static int find_root(void *arg, struct th_buf *reply, struct th_error *err)
{
	(void)arg;
	(void)err;
	if (access("/given", F_OK) == 0 || open("/given", O_RDONLY) >= 0)
		th_buf_adds(reply, "in");
	return open("/etc/passwd", O_RDONLY) >= 0;
}

static void the_root_is_the_containers(void)
{
	struct th_apart how = {.root = unit_folder_fd};
	struct th_error err = {0};
	struct th_buf reply;

	CHECK_INT(th_file_replace(
			  unit_folder_fd, "given", "x", 1, 0600, false, &err),
		0);
	th_buf_init(&reply, 1 << 20);
	CHECK_INT(th_apart(&how, find_root, NULL, &reply, &err), 0);
	CHECK_TEXT(reply.data, "in");
	th_buf_release(&reply);
}

static int reply_much(void *arg, struct th_buf *reply, struct th_error *err)
{
	(void)arg;
	memset(th_buf_room(reply, REPLY_BYTES), 's', REPLY_BYTES);
	reply->len += REPLY_BYTES;
	return th_fail(err, TH_NOT_FOUND, "the tide is out");
}

static void errors_and_long_replies_come_back(void)
{
	const struct th_apart how = {.root = -1};
	struct th_error err = {0};
	struct th_buf reply;
	size_t right = 0;

	th_buf_init(&reply, 4 << 20);
	CHECK_INT(th_apart(&how, reply_much, NULL, &reply, &err), -1);
	CHECK_INT(err.code, TH_NOT_FOUND);
	CHECK_TEXT(err.msg, "the tide is out");
	CHECK_INT(reply.len, REPLY_BYTES);
	while (right < reply.len && reply.data[right] == 's')
		right++;
	CHECK_INT(right, REPLY_BYTES);
	th_buf_release(&reply);
}

static int hang(void *arg, struct th_buf *reply, struct th_error *err)
{
	char byte;

	(void)reply;
	(void)err;
	return read(*(int *)arg, &byte, 1) > 0;
}

static int die(void *arg, struct th_buf *reply, struct th_error *err)
{
	(void)arg;
	(void)reply;
	(void)err;
	_exit(3);
}

static void who_hangs_is_ended(void)
{
	const struct th_apart how = {.root = -1, .patience_ms = 100};
	struct th_error err = {0};
	struct th_buf reply;
	int pair[2];

	CHECK_INT(pipe(pair), 0);
	th_buf_init(&reply, 1 << 20);
	CHECK_INT(th_apart(&how, hang, pair, &reply, &err), -1);
	CHECK(strstr(err.msg, "took too long") != NULL);
	memset(&err, 0, sizeof(err));
	CHECK_INT(th_apart(&how, die, NULL, &reply, &err), -1);
	CHECK(strstr(err.msg, "failed") != NULL);
	th_buf_release(&reply);
	close(pair[0]);
	close(pair[1]);
}

static const CU_TestInfo tests[] = {
	{"nothing else is reached", nothing_else_is_reached},
	{"the root is the container's", the_root_is_the_containers},
	{"errors and long replies come back",
		errors_and_long_replies_come_back},
	{"who hangs is ended", who_hangs_is_ended}, CU_TEST_INFO_NULL};

const struct suite suite_apart = {"apart", tests};
