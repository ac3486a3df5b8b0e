#include "base/threads.h"

#include <string.h>

#include "base/file.h"
#include "unit/unit.h"

#define ROUNDS 200

static int failures[4];

static void *replace(void *owner)
{
	int number = *(int *)owner;

	for (int i = 0; i < ROUNDS; i++) {
		struct th_error err = {0};

		if (th_file_replace(unit_folder_fd, "same", "0123456789", 10,
			    0644, false, &err))
			failures[number]++;
	}
	return NULL;
}

/* Each has a file of its own beside it. */
static void threads_replace_the_same_file(void)
{
	int numbers[] = {0, 1, 2, 3};
	struct th_error err = {0};
	pthread_t threads[4];
	struct th_buf body;

	memset(failures, 0, sizeof(failures));
	for (int i = 0; i < 4; i++)
		CHECK_INT(th_thread_start(&threads[i], 256 * 1024, replace,
				  &numbers[i]),
			0);
	for (int i = 0; i < 4; i++) {
		pthread_join(threads[i], NULL);
		CHECK_INT(failures[i], 0);
	}
	th_buf_init(&body, 1000);
	CHECK_INT(th_file_read(unit_folder_fd, "same", &body, &err), 1);
	CHECK_TEXT(body.data, "0123456789");
	th_buf_release(&body);
}

static const CU_TestInfo tests[] = {
	{"threads replace the same file", threads_replace_the_same_file},
	CU_TEST_INFO_NULL};

const struct suite suite_threads = {"threads", tests};
