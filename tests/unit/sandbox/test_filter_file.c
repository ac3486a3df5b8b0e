/* Compiled filters in files. */
#include <fcntl.h>
#include <linux/filter.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "sandbox/filter.h"
#include "sandbox/filter_file.h"
#include "unit/unit.h"

static void make(struct th_buf *program)
{
	static const struct sock_filter code[] = {
		BPF_STMT(BPF_LD | BPF_W | BPF_ABS, 0),
		BPF_STMT(BPF_RET | BPF_K, 0x7fff0000)};

	th_buf_init(program, TH_FILTER_MAX);
	th_buf_add(program, code, sizeof(code));
	mkdirat(unit_folder_fd, "filters", 0700);
	CHECK_INT(th_filter_seal(unit_folder_fd, "safe", program, NULL), 0);
}

static bool unseal(int fd, const char *name, const struct th_buf *program)
{
	struct th_buf read;
	bool same;

	th_buf_init(&read, TH_FILTER_MAX);
	same = th_filter_unseal_file(fd, name, &read) &&
		read.len == program->len &&
		memcmp(read.data, program->data, read.len) == 0;
	CHECK(same || read.len == 0);
	th_buf_release(&read);
	return same;
}

static void it_comes_back_as_often_as_it_is_asked(void)
{
	struct th_buf program;
	int fd;

	make(&program);
	fd = th_filter_open(unit_folder_fd, "safe");
	CHECK(fd >= 0);
	CHECK(unseal(fd, "safe", &program));
	/* Whatever becomes of the folder. */
	CHECK_INT(unlinkat(unit_folder_fd, "filters/safe", 0), 0);
	CHECK(unseal(fd, "safe", &program));
	CHECK_INT(th_filter_open(unit_folder_fd, "safe"), -1);
	CHECK(!th_filter_is_sealed(unit_folder_fd, "safe"));
	th_close(&fd);
	th_buf_release(&program);
}

static void what_was_changed_is_none(void)
{
	struct th_buf program;
	struct stat st;
	char byte;
	int fd;

	make(&program);
	fd = openat(unit_folder_fd, "filters/safe", O_RDWR);
	CHECK_INT(fstat(fd, &st), 0);
	/* Nor does one filter stand in for another. */
	CHECK(!unseal(fd, "safer", &program));
	for (off_t at = 0; at < st.st_size; at++) {
		CHECK(pread(fd, &byte, 1, at) == 1);
		byte ^= 1;
		CHECK(pwrite(fd, &byte, 1, at) == 1);
		CHECK(!unseal(fd, "safe", &program));
		byte ^= 1;
		CHECK(pwrite(fd, &byte, 1, at) == 1);
	}
	CHECK(unseal(fd, "safe", &program));
	for (off_t len = 0; len < st.st_size; len++) {
		CHECK_INT(ftruncate(fd, st.st_size - 1 - len), 0);
		CHECK(!unseal(fd, "safe", &program));
	}
	th_close(&fd);
	th_buf_release(&program);
}

/* Somebody has put it there; it must not be waited for. */
static void a_fifo_is_none(void)
{
	struct th_buf program;
	int fd;

	make(&program);
	CHECK_INT(mkfifoat(unit_folder_fd, "filters/fifo", 0600), 0);
	fd = th_filter_open(unit_folder_fd, "fifo");
	CHECK(fd >= 0 && !unseal(fd, "fifo", &program));
	th_close(&fd);
	th_buf_release(&program);
}

static const CU_TestInfo tests[] = {
	{"it comes back as often as it is asked",
		it_comes_back_as_often_as_it_is_asked},
	{"what was changed is none", what_was_changed_is_none},
	{"a FIFO is none", a_fifo_is_none}, CU_TEST_INFO_NULL};

const struct suite suite_filter_file = {"filter-file", tests};
