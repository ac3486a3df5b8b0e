/* What the runtime keeps of a container, and what it says that it can do. */
#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/file.h"
#include "runtime/record.h"
#include "unit/unit.h"

static const char config[] =
	"{\"ociVersion\": \"1.0.2\", \"root\": {\"path\": \"rootfs\"}, "
	"\"process\": {\"cwd\": \"/\", \"user\": {\"uid\": 0, \"gid\": 0}, "
	"\"args\": [\"true\"]}, \"linux\": {\"namespaces\": [{\"type\": "
	"\"mount\"}]}}";

static void ids_are_names_of_folders(void)
{
	static const char *const bad[] = {"", ".", "..", "a/b", "-a", ".a",
		"a b", "a\n", "caf\xc3\xa9", "a:b"};
	char longest[202];

	CHECK_INT(record_check_id("gauge-north_1.2+3", NULL), 0);
	memset(longest, 'a', 200);
	longest[200] = '\0';
	CHECK_INT(record_check_id(longest, NULL), 0);
	longest[200] = 'a';
	longest[201] = '\0';
	CHECK_INT(record_check_id(longest, NULL), -1);
	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct th_error err = {0};

		CHECK_INT(record_check_id(bad[i], &err), -1);
		CHECK_INT(err.code, TH_USAGE);
	}
}

static void a_process_has_a_start(void)
{
	uint64_t start = process_start(getpid());
	pid_t child = fork();

	if (child == 0)
		_exit(0);
	CHECK(start > 0);
	CHECK_INT(process_start(getpid()), start);
	/* A dead one has none, though its number is still taken. */
	while (process_start(child) > 0)
		usleep(1000);
	CHECK_INT(process_start(child), 0);
	waitpid(child, NULL, 0);
	CHECK_INT(process_start(child), 0);
}

/* A folder of a container with what is written, unlocked again. */
static void put(const char *id, pid_t pid, uint64_t started, const char *boot)
{
	struct record record = {
		.bundle_path = unit_folder, .pid = pid, .started = started};
	char path[160];

	snprintf(path, sizeof(path), "%s/%s", unit_folder, id);
	CHECK(mkdir(path, 0700) == 0 || errno == EEXIST);
	record.folder = open(path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	snprintf(record.group, sizeof(record.group), "/selwick");
	snprintf(record.boot, sizeof(record.boot), "%s", boot);
	CHECK_INT(th_file_replace(record.folder, "config.json", config,
			  strlen(config), 0600, false, NULL),
		0);
	CHECK_INT(record_write(&record, NULL), 0);
	close(record.folder);
}

static enum th_runtime_status status_of(const char *id)
{
	enum th_runtime_status status;
	struct record record;
	struct th_error err = {0};

	CHECK_INT(record_open(unit_folder, id, false, &record, &err), 0);
	CHECK_TEXT(err.msg, "");
	CHECK_TEXT(record.bundle_path, unit_folder);
	CHECK_TEXT(record.group, "/selwick");
	status = record.status;
	record_release(&record);
	return status;
}

/* A number alone says nothing: the process must be the one of then. */
static void a_status_is_that_of_the_process(void)
{
	uint64_t start = process_start(getpid());
	char boot[40];

	read_boot(boot);
	CHECK_INT(strlen(boot), 36);
	put("one", getpid(), start, boot);
	CHECK_INT(status_of("one"), TH_RUNTIME_RUNNING);
	put("one", getpid(), start + 1, boot);
	CHECK_INT(status_of("one"), TH_RUNTIME_STOPPED);
	put("one", getpid(), start, "00000000-0000-0000-0000-000000000000");
	CHECK_INT(status_of("one"), TH_RUNTIME_STOPPED);
	put("one", 0, 0, boot);
	CHECK_INT(status_of("one"), TH_RUNTIME_STOPPED);
}

/* Before there is a state: whoever makes it holds the lock. */
static void one_that_is_made_is_told_from_one_that_died(void)
{
	struct record record;
	struct th_error err = {0};
	char path[160];
	int lock;

	snprintf(path, sizeof(path), "%s/two", unit_folder);
	CHECK_INT(mkdir(path, 0700), 0);
	snprintf(path, sizeof(path), "%s/two/lock", unit_folder);
	lock = open(path, O_RDWR | O_CREAT | O_CLOEXEC, 0600);
	CHECK_INT(flock(lock, LOCK_EX), 0);
	CHECK_INT(record_open(unit_folder, "two", false, &record, &err), 0);
	CHECK_INT(record.status, TH_RUNTIME_CREATING);
	record_release(&record);
	close(lock);
	CHECK_INT(record_open(unit_folder, "two", true, &record, &err), 0);
	CHECK_INT(record.status, TH_RUNTIME_STOPPED);
	record_release(&record);
	CHECK_INT(record_open(unit_folder, "three", false, &record, &err), -1);
	CHECK_INT(err.code, TH_NOT_FOUND);
	record_release(&record);
}

static void a_damaged_state_is_told(void)
{
	static const char *const bad[] = {"", "{", "{}", "{\"version\": 2}",
		"{\"version\": 1, \"bundle\": 4}",
		"{\"version\": 1, \"bundle\": \"/b\", \"cgroup\": \"/c\"}"};
	char path[160];

	snprintf(path, sizeof(path), "%s/four", unit_folder);
	CHECK_INT(mkdir(path, 0700), 0);
	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct record record;
		struct th_error err = {0};

		CHECK_INT(th_file_replace(unit_folder_fd, "four/state.json",
				  bad[i], strlen(bad[i]), 0600, false, NULL),
			0);
		CHECK_INT(record_open(unit_folder, "four", true, &record, &err),
			-1);
		CHECK(err.msg[0] != '\0');
		record_release(&record);
	}
}

static bool has(const json_t *list, const char *word)
{
	const json_t *one;
	size_t i;

	json_array_foreach(list, i, one)
	{
		if (strcmp(json_string_value(one), word) == 0)
			return true;
	}
	return false;
}

static void features_name_what_there_is(void)
{
	json_t *doc = th_runtime_features();
	const json_t *os = json_object_get(doc, "linux");

	CHECK_TEXT(json_string_value(json_object_get(doc, "ociVersionMin")),
		"1.0.0");
	CHECK(has(json_object_get(doc, "hooks"), "createRuntime"));
	CHECK(has(json_object_get(doc, "mountOptions"), "rbind"));
	CHECK(has(json_object_get(doc, "mountOptions"), "rro"));
	CHECK(has(json_object_get(os, "namespaces"), "user"));
	CHECK(has(json_object_get(os, "capabilities"), "CAP_CHOWN"));
	CHECK(json_is_true(
		json_object_get(json_object_get(os, "seccomp"), "enabled")));
	json_decref(doc);
}

static const CU_TestInfo tests[] = {
	{"IDs are names of folders", ids_are_names_of_folders},
	{"a process has a start", a_process_has_a_start},
	{"a status is that of the process", a_status_is_that_of_the_process},
	{"made or died", one_that_is_made_is_told_from_one_that_died},
	{"a damaged state is told", a_damaged_state_is_told},
	{"features", features_name_what_there_is}, CU_TEST_INFO_NULL};

const struct suite suite_runtime_record = {"runtime-record", tests};
