/* libtidyhull, as a front end of its own uses it: in a process of its own,
 * which is the unprivileged user where the tests are his. */
#include <fcntl.h>
#include <grp.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#include "e2e/harness.h"
#include "tidyhull/tidyhull.h"

static th_hull *hull_;
static th_error *error;
static int failures;

/* Assertions of the child: CUnit's would be lost with it. */
#define WANT(condition) want(condition, #condition, __LINE__)

static void want(bool holds, const char *what, int line)
{
	if (holds)
		return;
	failures++;
	fprintf(stderr, "line %d: %s (%s; %s)\n", line, what,
		th_error_message(error), th_error_hint(error));
	th_error_clear(error);
}

static bool fails(int rc, enum th_code code, const char *part)
{
	bool as_wanted = rc == -1 && th_error_code(error) == code &&
		strstr(th_error_message(error), part);

	if (as_wanted)
		th_error_clear(error);
	return as_wanted;
}

static json_t *parse(char *text)
{
	json_t *doc = text ? json_loads(text, 0, NULL) : NULL;

	th_hull_free(text);
	return doc;
}

static bool text_is(json_t *doc, const char *key, const char *value)
{
	const char *text = json_string_value(json_object_get(doc, key));

	return text && strcmp(text, value) == 0;
}

static size_t count_of(json_t *doc, const char *key)
{
	size_t count = json_array_size(json_object_get(doc, key));

	json_decref(doc);
	return count;
}

static const char *read_environment(const char *name)
{
	return getenv(name);
}

static bool open_hull(int purposes)
{
	const struct th_opening opening = {.root = world_store,
		.programs = world_build,
		.actor = "the berth planner",
		.purposes = purposes,
		.env = read_environment};

	hull_ = th_hull_open(&opening, error);
	return hull_ != NULL;
}

/* ---- what the child does ---- */

static void make_and_start(void)
{
	char *text = NULL;
	json_t *doc;

	WANT(th_container_make(hull_,
		     "{\"image\": \"selwick/base\", \"name\": \"ship\", "
		     "\"network\": \"none\", \"env\": [\"BERTH=4\"], "
		     "\"mount\": \"/data=volume:hold\", \"stop\": "
		     "\"grace=1s\", \"command\": "
		     "[\"sh\", \"-c\", \"echo tide; echo low >&2; sleep "
		     "1000\"]}",
		     &text, error) == 0);
	doc = parse(text);
	WANT(text_is(doc, "name", "ship"));
	WANT(text_is(doc, "state", "created"));
	json_decref(doc);
	WANT(th_container_begin(hull_, "ship", error) == 0);
	WANT(fails(th_container_begin(hull_, "ship", error), TH_FAILED,
		     "running") ||
		fails(-1, TH_IN_USE, "running") ||
		fails(-1, TH_USAGE, "running"));
	WANT(th_containers(hull_, false, &text, error) == 0);
	WANT(count_of(parse(text), "containers") == 1);
	WANT(th_container(hull_, "ship", false, &text, error) == 0);
	doc = parse(text);
	WANT(text_is(doc, "state", "running"));
	json_decref(doc);
}

static void run_inside(void)
{
	int streams[3] = {open("/dev/null", O_RDONLY),
		open("inside.txt", O_WRONLY | O_CREAT | O_TRUNC, 0644), 2};
	char text[32] = "";
	int code = -1, fd;

	WANT(th_container_run(hull_, "ship",
		     "{\"command\": [\"sh\", \"-c\", \"echo $BERTH $SIDE; exit "
		     "7\"], \"env\": [\"SIDE=port\"]}",
		     streams, &code, error) == 0);
	WANT(code == 7);
	fd = open("inside.txt", O_RDONLY);
	WANT(read(fd, text, sizeof(text) - 1) == 7);
	close(fd);
	WANT(strcmp(text, "4 port\n") == 0);
	WANT(fails(th_container_run(hull_, "ship", "{}", streams, &code, error),
		TH_USAGE, "command"));
	WANT(fails(th_container_run(hull_, "ship",
			   "{\"command\": [\"/no/program\"]}", streams, &code,
			   error),
		TH_NO_PROGRAM, "/no/program"));
	close(streams[0]);
	close(streams[1]);
}

static bool take_line(void *owner, int64_t time_us, bool is_error,
	const char *text, size_t bytes)
{
	int *seen = owner;

	if (time_us > 0 && !is_error && bytes == 4 &&
		memcmp(text, "tide", 4) == 0)
		*seen |= 1;
	if (is_error && bytes == 3 && memcmp(text, "low", 3) == 0)
		*seen |= 2;
	return true;
}

static void look(void)
{
	char *text = NULL;
	json_t *doc;
	int seen = 0;

	for (int tries = 0; tries < 100 && seen != 3; tries++) {
		WANT(th_container_log(
			     hull_, "ship", -1, take_line, &seen, error) == 0);
		usleep(20000);
	}
	WANT(seen == 3);
	WANT(th_container_reason(hull_, "ship", &text, error) == 0);
	WANT(count_of(parse(text), "sentences") > 0);
	WANT(th_container_inside(hull_, "ship", &text, error) == 0);
	WANT(count_of(parse(text), "processes") > 0);
	WANT(th_container_usage(hull_, "ship", &text, error) == 0);
	doc = parse(text);
	WANT(text_is(doc, "name", "ship"));
	json_decref(doc);
	WANT(th_container_events(hull_, "ship", 0, &text, error) == 0);
	doc = parse(text);
	WANT(json_array_size(json_object_get(doc, "events")) >= 2);
	WANT(th_container_events(hull_, "ship",
		     json_integer_value(json_object_get(doc, "last")), &text,
		     error) == 0);
	/* Who acts stands there. */
	WANT(strstr(json_string_value(json_object_get(
			    json_array_get(json_object_get(doc, "events"), 0),
			    "actor")),
		     "the berth planner") != NULL);
	json_decref(doc);
	WANT(count_of(parse(text), "events") == 0);
	WANT(th_container_sessions(hull_, "ship", &text, error) == 0);
	WANT(count_of(parse(text), "sessions") >= 1);
}

static void change(void)
{
	char *text = NULL;
	json_t *doc;
	int fd;

	WANT(th_container_change(hull_, "ship", "{\"restart\": \"on-failure\"}",
		     error) == 0);
	WANT(fails(th_container_change(
			   hull_, "ship", "{\"restart\": \"at noon\"}", error),
		TH_USAGE, "at noon"));
	WANT(th_container_name(hull_, "ship", "barge", error) == 0);
	WANT(fails(th_container(hull_, "ship", false, &text, error),
		TH_NOT_FOUND, "ship"));
	fd = open("hold.tar", O_RDWR | O_CREAT | O_TRUNC, 0644);
	WANT(th_container_save(hull_, "barge", "/etc", fd, error) == 0);
	WANT(lseek(fd, 0, SEEK_SET) == 0);
	WANT(th_container_load(hull_, "barge", "/data", fd, error) == 0);
	close(fd);
	WANT(fails(th_container_save(hull_, "barge", "etc", 1, error), TH_USAGE,
		"absolute"));
	WANT(th_container_await(hull_, "barge", false, 50, error) == 1);
	WANT(th_container_end(hull_, "barge", -1, &text, error) == 0);
	doc = parse(text);
	WANT(text_is(doc, "kind", "signal"));
	json_decref(doc);
	WANT(th_container_await(hull_, "barge", false, -1, error) == 0);
	WANT(fails(th_volume_delete(hull_, "hold", error), TH_IN_USE, "hold"));
	WANT(th_container_delete(hull_, "barge", false, error) == 0);
	WANT(th_volume_delete(hull_, "hold", error) == 0);
}

static void share(void)
{
	char *text = NULL;

	WANT(th_volume_new(hull_, "charts", error) == 0);
	WANT(fails(th_volume_new(hull_, "charts", error), TH_IN_USE, "charts"));
	WANT(fails(th_volume_new(hull_, "../x", error), TH_USAGE, "../x"));
	WANT(th_volumes(hull_, &text, error) == 0);
	WANT(count_of(parse(text), "volumes") == 1);
	WANT(th_volume(hull_, "charts", &text, error) == 0);
	json_decref(parse(text));
	WANT(th_volume_delete(hull_, "charts", error) == 0);
	WANT(th_network_create(hull_, "pier", "10.91.0.0/24", true, error) ==
		0);
	WANT(fails(th_network_create(hull_, "pier", NULL, false, error),
		TH_IN_USE, "pier"));
	WANT(th_network(hull_, "pier", &text, error) == 0);
	json_decref(parse(text));
	WANT(th_networks(hull_, &text, error) == 0);
	WANT(count_of(parse(text), "networks") >= 1);
	WANT(th_network_delete(hull_, "pier", error) == 0);
	WANT(th_groups(hull_, &text, error) == 0);
	WANT(count_of(parse(text), "groups") == 0);
	WANT(fails(
		th_group(hull_, "fleet", &text, error), TH_NOT_FOUND, "fleet"));
}

static void images(void)
{
	const char *const names[] = {"selwick/base"};
	char *text = NULL;

	WANT(th_images(hull_, &text, error) == 0);
	WANT(count_of(parse(text), "images") == 1);
	WANT(th_image(hull_, "selwick/base", &text, error) == 0);
	WANT(count_of(parse(text), "layers") > 0);
	WANT(th_image_name(hull_, "selwick/base", "selwick/hulk", error) == 0);
	WANT(th_image_delete(hull_, "selwick/hulk", error) == 0);
	WANT(th_image_pack(hull_, names, 1, "base.tar", false, error) == 0);
	WANT(fails(th_image_pack(hull_, names, 1, "base.tar", false, error),
		TH_IN_USE, "base.tar"));
	WANT(th_image_unpack(hull_, "base.tar", error) == 0);
	WANT(fails(th_image_fetch(hull_, "not a name", NULL, &text, error),
		TH_USAGE, "not a name"));
	WANT(th_store_settle(hull_, error) == 0);
	WANT(th_store_check(hull_, false, &text, error) == 0);
	WANT(count_of(parse(text), "findings") == 0);
}

static void refuse(void)
{
	static const struct {
		const char *settings, *part;
	} wrong[] = {{"{", "settings"}, {"{}", "image"},
		{"{\"image\": 3}", "\"image\" is a text"},
		{"{\"image\": \"selwick/base\", \"berth\": 3}", "berth"},
		{"{\"image\": \"selwick/base\", \"port\": [1]}", "port"},
		{"{\"image\": \"selwick/base\", \"tty\": \"yes\"}",
			"true or false"},
		{"{\"image\": \"selwick/base\", \"fetch\": \"soon\"}",
			"missing"},
		{"{\"image\": \"selwick/base\", \"env\": [\"A\"]}",
			"KEY=VALUE"},
		{"{\"image\": \"selwick/base\", \"name\": \"a/b\", \"port\": "
		 "\"x\"}",
			"a/b"}};
	char *text = NULL;

	for (size_t i = 0; i < sizeof(wrong) / sizeof(*wrong); i++) {
		int rc = th_container_make(
			hull_, wrong[i].settings, &text, error);

		WANT(rc == -1 && !text);
		WANT(strstr(th_error_message(error), wrong[i].part) != NULL);
		th_error_clear(error);
	}
	/* Two mistakes are told at once. */
	WANT(th_container_make(hull_, wrong[8].settings, NULL, error) == -1);
	WANT(strchr(th_error_message(error), '\n') != NULL);
	th_error_clear(error);
	/* Nobody has to want the error. */
	WANT(th_container_begin(hull_, "nosuch", NULL) == -1);
	WANT(th_container_await(hull_, "nosuch", false, 0, NULL) == -1);
	WANT(strcmp(th_hull_root(hull_), world_store) == 0);
	WANT(strlen(th_hull_version()) >= 5);
}

static void use_library(void)
{
	error = th_error_new();
	WANT(open_hull(TH_TO_ACT | TH_TO_START | TH_TO_FETCH));
	if (!hull_)
		return;
	make_and_start();
	run_inside();
	look();
	change();
	share();
	images();
	refuse();
	th_hull_close(hull_);
	/* Once more, only to look. */
	WANT(open_hull(TH_TO_LOOK));
	WANT(th_containers(hull_, true, &(char *){NULL}, error) == 0);
	th_hull_close(hull_);
	th_error_free(error);
}

static int in_child(void (*work)(void))
{
	pid_t pid;
	int status = -1, err;

	fflush(NULL);
	pid = fork();
	if (pid == 0) {
		if (chdir(world_folder))
			_exit(98);
		setenv("HOME", world_folder, 1);
		setenv("TIDYHULL_CONFIG", "config.yaml", 1);
		err = open("library.err", O_WRONLY | O_CREAT | O_TRUNC, 0644);
		if (world_user &&
			(fchown(err, world_user, world_user) ||
				setgroups(0, NULL) ||
				setresgid(world_user, world_user, world_user) ||
				setresuid(world_user, world_user, world_user)))
			_exit(99);
		dup2(err, 2);
		setvbuf(stderr, NULL, _IONBF, 0);
		work();
		_exit(failures > 90 ? 90 : failures);
	}
	waitpid(pid, &status, 0);
	return status;
}

static void a_front_end_of_its_own(void)
{
	CODE(hull("pull selwick/base -q"), 0);
	CHECK_INT(in_child(use_library), 0);
	if (CU_get_number_of_failures())
		printf("%s\n", other("cat library.err")->out);
	CODE(hull("remove selwick/base -q"), 0);
}

/* The demo's: names and reasons of others become no markup. */
static void the_ledger_of_berths(void)
{
	struct result *result;

	CODE(hull("run --keep selwick/base --name tender --network none -- sh "
		  "-c 'echo \"<b>no rope</b> & no anchor\" >&2; exit 3'"),
		3);
	result = other("%s/berths %s", world_build, world_store);
	CODE(result, 0);
	SAYS(result->out, "<th>tender</th><td>stopped</td>");
	SAYS(result->out, "with exit code 3");
	CHECK(!strstr(result->out, "<b>"));
	result = other("%s/berths %s/config.yaml", world_build, world_folder);
	CODE(result, 1);
	SAYS(result->err, "berths: ");
	CODE(hull("remove tender -q"), 0);
}

static const CU_TestInfo tests[] = {
	{"the ledger of berths", the_ledger_of_berths},
	{"a front end of its own", a_front_end_of_its_own}, CU_TEST_INFO_NULL};

const struct suite suite_library = {"library", tests};
