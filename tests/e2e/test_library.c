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

/* As settings and the like; let go with the program. */
static json_t *doc_of(const char *text)
{
	return json_loads(text, JSON_DECODE_ANY, NULL);
}

static bool text_is(const json_t *doc, const char *key, const char *value)
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
	char keeper[4096], pilot[4096];
	const struct th_opening opening = {.root = world_store,
		.keeper = keeper,
		.pilot = pilot,
		.actor = "the berth planner",
		.purposes = purposes,
		.env = read_environment};

	snprintf(keeper, sizeof(keeper), "%s/tidyhull-keeper", world_build);
	snprintf(pilot, sizeof(pilot), "%s/tidyhull-pilot", world_build);
	hull_ = th_hull_open(&opening, error);
	return hull_ != NULL;
}

/* ---- what the child does ---- */

static void count_ships(void *owner, const json_t *container)
{
	size_t *count = owner;

	*count += text_is(container, "name", "ship") &&
		text_is(container, "state", "running");
}

static void make_and_start(void)
{
	size_t ships = 0, others = 9;
	json_t *doc = NULL;

	WANT(th_container_make(hull_,
		     doc_of("{\"image\": \"selwick/base\", \"name\": \"ship\", "
			    "\"network\": \"none\", \"env\": [\"BERTH=4\"], "
			    "\"mount\": \"/data=volume:hold\", \"stop\": "
			    "\"grace=1s\", \"command\": "
			    "[\"sh\", \"-c\", \"echo tide; echo low >&2; "
			    "sleep 1000\"]}"),
		     &doc, error) == 0);
	WANT(text_is(doc, "name", "ship"));
	WANT(text_is(doc, "state", "created"));
	json_decref(doc);
	WANT(th_container_begin(hull_, "ship", &doc, error) == 0);
	WANT(text_is(doc, "state", "running"));
	json_decref(doc);
	WANT(fails(th_container_begin(hull_, "ship", NULL, error), TH_IN_USE,
		"running"));
	WANT(th_list(hull_, TH_KIND_CONTAINER, false, &doc, error) == 0);
	WANT(count_of(doc, "containers") == 1);
	WANT(th_containers_each(
		     hull_, false, count_ships, &ships, &others, error) == 0);
	WANT(ships == 1 && others == 0);
	WANT(th_object(hull_, "ship", TH_KIND_CONTAINER, TH_FULL, &doc,
		     error) == 0);
	WANT(text_is(doc, "state", "running"));
	WANT(text_is(json_object_get(doc, "settings"), "stop",
		"signal=TERM,grace=1s"));
	json_decref(doc);
	WANT(th_hull_about(hull_, &doc, error) == 0);
	WANT(text_is(doc, "root", world_store));
	json_decref(doc);
}

static void run_inside(void)
{
	struct th_talk_command command = {
		.words = doc_of("{\"command\": [\"sh\", \"-c\", \"echo $BERTH "
				"$SIDE; exit 7\"], \"env\": [\"SIDE=port\"]}"),
		.streams = {open("/dev/null", O_RDONLY),
			open("inside.txt", O_WRONLY | O_CREAT | O_TRUNC, 0644),
			2},
		.program = -1};
	char text[32] = "";
	int code = -1, fd;

	WANT(th_talk_run(hull_, "ship", &command, &code, error) == 0);
	WANT(code == 7);
	fd = open("inside.txt", O_RDONLY);
	WANT(read(fd, text, sizeof(text) - 1) == 7);
	close(fd);
	WANT(strcmp(text, "4 port\n") == 0);
	command.words = doc_of("{}");
	WANT(fails(th_talk_run(hull_, "ship", &command, &code, error), TH_USAGE,
		"command"));
	command.words = doc_of("{\"command\": [\"/no/program\"]}");
	WANT(fails(th_talk_run(hull_, "ship", &command, &code, error),
		TH_NO_PROGRAM, "/no/program"));
	close(command.streams[0]);
	close(command.streams[1]);
}

/* 1 for what it wrote, 2 for what it wrote as an error; both in one talk. */
static int listen_to(const char *name)
{
	const struct th_terminal_size none = {0, 0};
	struct th_news news = {.told = TH_TOLD_NOTHING};
	th_talk *talk = NULL;
	int heard = 0, rc;

	WANT(th_talk_start(hull_, name, none, &talk, error) == 0);
	if (!talk)
		return 0;
	WANT(th_talk_input(talk, "ebb\n", 4) == 0);
	WANT(th_talk_input(talk, NULL, 0) == 0);
	while ((rc = th_talk_next(talk, &news, error)) == 1 &&
		news.told != TH_TOLD_ENDED) {
		if (news.told == TH_TOLD_OUT && news.bytes == 4 &&
			memcmp(news.text, "ebb\n", 4) == 0)
			heard |= 1;
		if (news.told == TH_TOLD_ERR)
			heard |= 2;
	}
	WANT(rc == 1 && news.exit_code == 5 && !news.by_signal);
	th_talk_close(talk);
	return heard;
}

static void talk(void)
{
	WANT(th_container_make(hull_,
		     doc_of("{\"image\": \"selwick/base\", \"name\": "
			    "\"skiff\", "
			    "\"network\": \"none\", \"keep\": false, "
			    "\"command\": [\"sh\", \"-c\", \"cat; echo low "
			    ">&2; exit 5\"]}"),
		     NULL, error) == 0);
	WANT(listen_to("skiff") == 3);
}

/* 1 and 2 for what the two streams say, in the log. */
static int read_log(void)
{
	const struct th_lines_wish wish = {.last = -1};
	struct th_line line;
	th_lines *lines = NULL;
	int seen = 0;

	WANT(th_lines_open(hull_, "ship", &wish, &lines, error) == 0);
	while (lines && th_lines_next(lines, &line, error) == 1) {
		if (line.time_us > 0 && !line.is_error && line.bytes == 4 &&
			memcmp(line.text, "tide", 4) == 0)
			seen |= 1;
		if (line.is_error && line.bytes == 3 &&
			memcmp(line.text, "low", 3) == 0)
			seen |= 2;
	}
	th_lines_close(lines);
	return seen;
}

static void look(void)
{
	json_t *doc = NULL, *more = NULL;
	int seen = 0;

	for (int tries = 0; tries < 100 && seen != 3; tries++) {
		seen |= read_log();
		usleep(20000);
	}
	WANT(seen == 3);
	WANT(th_container_reason(hull_, "ship", &doc, error) == 0);
	WANT(count_of(doc, "sentences") > 0);
	WANT(th_container_inside(hull_, "ship", &doc, error) == 0);
	WANT(count_of(doc, "processes") > 0);
	WANT(th_container_usage(hull_, NULL, &doc, error) == 0);
	WANT(count_of(doc, "containers") == 1);
	WANT(th_container_changes(hull_, "ship", &doc, error) == 0);
	json_decref(doc);
	WANT(th_container_shell(hull_, "ship", &doc, error) == 0);
	WANT(text_is(doc, "path", "/bin/sh"));
	json_decref(doc);
	WANT(th_container_events(hull_, "ship", 0, &doc, error) == 0);
	WANT(json_array_size(json_object_get(doc, "events")) >= 2);
	/* Who acts stands there. */
	WANT(strstr(json_string_value(json_object_get(
			    json_array_get(json_object_get(doc, "events"), 0),
			    "actor")),
		     "the berth planner") != NULL);
	WANT(th_container_events(hull_, "ship",
		     json_integer_value(json_object_get(doc, "last")), &more,
		     error) == 0);
	WANT(count_of(more, "events") == 0);
	json_decref(doc);
	/* One that is gone has a history, too. */
	WANT(th_container_events(hull_, "skiff", 0, &doc, error) == 0);
	WANT(count_of(doc, "events") >= 3);
	WANT(th_past(hull_, "skiff", NULL, error) == 0);
	WANT(fails(th_past(hull_, "galleon", NULL, error), TH_NOT_FOUND,
		"galleon"));
	WANT(th_list(hull_, TH_KIND_SESSION, true, &doc, error) == 0);
	WANT(count_of(doc, "sessions") >= 1);
}

static int ends; /* that were told */

static void count_end(void *owner, const json_t *container,
	const json_t *ending, const th_error *failed)
{
	const struct th_end_watch *unused = owner;

	(void)unused;
	ends += container && ending && !failed;
}

static void change(void)
{
	const struct th_end_watch watch = {.ended = count_end};
	json_t *doc = NULL;
	int fd;

	WANT(th_container_change(hull_, "ship",
		     doc_of("{\"restart\": \"on-failure\"}"), NULL,
		     error) == 0);
	WANT(fails(th_container_change(hull_, "ship",
			   doc_of("{\"restart\": \"at noon\"}"), NULL, error),
		TH_USAGE, "at noon"));
	WANT(th_container_name(hull_, "ship", "barge", error) == 0);
	WANT(fails(th_object(hull_, "ship", TH_KIND_CONTAINER, TH_BRIEF, &doc,
			   error),
		TH_NOT_FOUND, "ship"));
	fd = open("hold.tar", O_RDWR | O_CREAT | O_TRUNC, 0644);
	WANT(th_files_copy(
		     hull_, "barge:/etc", NULL, fd, "keep", NULL, error) == 0);
	WANT(lseek(fd, 0, SEEK_SET) == 0);
	WANT(th_files_copy(
		     hull_, NULL, "barge:/data", fd, "keep", &doc, error) == 0);
	WANT(json_integer_value(json_object_get(doc, "files")) > 0);
	json_decref(doc);
	close(fd);
	WANT(fails(
		th_files_copy(hull_, "./etc", "./data", -1, NULL, NULL, error),
		TH_USAGE, "neither"));
	WANT(th_container_await(hull_, "barge", false, 50, NULL, error) == 1);
	WANT(th_container_kill(hull_, "barge", "CONT", &doc, error) == 0);
	WANT(text_is(doc, "signal", "CONT"));
	json_decref(doc);
	WANT(th_containers_end(hull_, doc_of("[\"barge\"]"), -1, false, &watch,
		     error) == 0);
	WANT(ends == 1);
	WANT(th_container_await(hull_, "barge", false, -1, &doc, error) == 0);
	WANT(json_integer_value(json_object_get(doc, "exit-code")) == 143 ||
		json_integer_value(json_object_get(doc, "exit-code")) == 137);
	json_decref(doc);
	WANT(fails(th_remove(hull_, "hold", TH_KIND_VOLUME, false, NULL, error),
		TH_IN_USE, "hold"));
	WANT(th_remove(hull_, "barge", TH_KIND_CONTAINER, false, NULL, error) ==
		0);
	WANT(th_remove(hull_, "hold", TH_KIND_VOLUME, false, NULL, error) == 0);
}

static void share(void)
{
	json_t *doc = NULL;

	WANT(th_volume_new(hull_, "charts", error) == 0);
	WANT(fails(th_volume_new(hull_, "charts", error), TH_IN_USE, "charts"));
	WANT(fails(th_volume_new(hull_, "../x", error), TH_USAGE, "../x"));
	WANT(th_list(hull_, TH_KIND_VOLUME, true, &doc, error) == 0);
	WANT(count_of(doc, "volumes") == 1);
	WANT(th_object(hull_, "charts", TH_KIND_VOLUME, TH_FULL, NULL, error) ==
		0);
	WANT(th_remove(hull_, "charts", TH_KIND_VOLUME, false, NULL, error) ==
		0);
	WANT(th_network_create(hull_, "pier", doc_of("[\"10.91.0.0/24\"]"),
		     true, false, error) == 0);
	WANT(fails(th_network_create(hull_, "pier", NULL, false, false, error),
		TH_IN_USE, "pier"));
	WANT(th_object(hull_, "pier", TH_KIND_NETWORK, TH_FULL, NULL, error) ==
		0);
	WANT(th_list(hull_, TH_KIND_NETWORK, true, &doc, error) == 0);
	WANT(count_of(doc, "networks") >= 1);
	WANT(th_remove(hull_, "pier", TH_KIND_NETWORK, false, NULL, error) ==
		0);
	WANT(th_list(hull_, TH_KIND_GROUP, true, &doc, error) == 0);
	WANT(count_of(doc, "groups") == 0);
	WANT(fails(
		th_object(hull_, "fleet", TH_KIND_GROUP, TH_FULL, &doc, error),
		TH_NOT_FOUND, "fleet"));
}

static void images(void)
{
	const json_t *names = doc_of("[\"selwick/base\"]");
	json_t *doc = NULL;

	WANT(th_list(hull_, TH_KIND_IMAGE, true, &doc, error) == 0);
	WANT(count_of(doc, "images") == 1);
	WANT(th_object(hull_, "selwick/base", TH_KIND_IMAGE, TH_FULL, &doc,
		     error) == 0);
	WANT(count_of(doc, "layers") > 0);
	WANT(th_image_name(
		     hull_, "selwick/base", "selwick/hulk", NULL, error) == 0);
	WANT(th_remove(hull_, "selwick/hulk", TH_KIND_IMAGE, false, &doc,
		     error) == 0);
	WANT(json_is_false(json_object_get(doc, "gone")));
	json_decref(doc);
	WANT(th_image_pack(
		     hull_, names, "base.tar", false, NULL, NULL, error) == 0);
	WANT(fails(th_image_pack(
			   hull_, names, "base.tar", false, NULL, NULL, error),
		TH_IN_USE, "base.tar"));
	WANT(th_image_unpack(hull_, "base.tar", NULL, NULL, &doc, error) == 0);
	WANT(count_of(doc, "pulled") == 1);
	WANT(th_registry_peek(hull_, "./base.tar", NULL, &doc, error) == 0);
	WANT(count_of(doc, "images") == 1);
	WANT(fails(th_image_fetch(hull_, "not a name", NULL, &doc, error),
		TH_USAGE, "not a name"));
	WANT(th_store_settle(hull_, error) == 0);
	WANT(th_store_check(hull_, false, &doc, error) == 0);
	WANT(count_of(doc, "findings") == 0);
}

/* A group as a file would describe it. */
static void group(void)
{
	static const char *const text =
		"{\"name\": \"fleet\", \"containers\": [{\"member\": \"a\", "
		"\"settings\": {\"image\": \"selwick/base\", \"name\": "
		"\"fleet-a\", \"network\": \"none\", \"stop\": \"grace=1s\", "
		"\"command\": [\"sleep\", \"1000\"]}}, {\"member\": \"b\", "
		"\"after\": [{\"member\": \"a\", \"is\": \"running\"}], "
		"\"settings\": {\"image\": \"selwick/base\", \"name\": "
		"\"fleet-b\", \"network\": \"none\", \"stop\": \"grace=1s\", "
		"\"command\": [\"sleep\", \"1000\"]}}]}";
	const struct th_group_how how = {.ready_ms = 20000, .grace_ms = -1};
	const json_t *fleet = doc_of(text);
	json_t *doc = NULL;

	WANT(th_group_look(hull_, fleet, &doc, error) == 0);
	WANT(count_of(doc, "acts") == 2);
	WANT(th_group_launch(hull_, fleet, &how, &doc, error) == 0);
	WANT(count_of(doc, "containers") == 2);
	WANT(th_containers_order(
		     hull_, doc_of("[\"group:fleet\"]"), &doc, error) == 0);
	WANT(json_is_true(json_object_get(doc, "ordered")));
	json_decref(doc);
	WANT(fails(th_remove(hull_, "group:fleet", TH_KIND_GROUP, false, NULL,
			   error),
		TH_IN_USE, "fleet"));
	WANT(th_remove(hull_, "fleet-a", TH_KIND_CONTAINER, true, NULL,
		     error) == 0);
	WANT(th_remove(hull_, "fleet-b", TH_KIND_CONTAINER, true, NULL,
		     error) == 0);
	WANT(th_remove(hull_, "fleet", TH_KIND_GROUP, false, NULL, error) == 0);
}

/* Whatever stands in a document, it is an error and nothing worse. */
static void make_no_sense_of(const json_t *doc)
{
	const struct th_group_how how = {.ready_ms = 1000, .grace_ms = -1};
	const struct th_replacement anew = {.ready_ms = 1000, .grace_ms = -1};
	struct th_talk_command command = {
		.words = doc, .streams = {0, 1, 2}, .program = -1};
	th_talk *talk = NULL;
	int code;

	WANT(th_container_make(hull_, doc, NULL, error) == -1);
	th_error_clear(error);
	WANT(th_container_plan(hull_, doc, NULL, error) == -1);
	th_error_clear(error);
	WANT(th_container_remake(hull_, "idle", doc, &anew, NULL, error) == -1);
	th_error_clear(error);
	WANT(th_image_bring(hull_, doc, NULL, error) == -1);
	th_error_clear(error);
	WANT(th_oci_bundle(hull_, doc, "/nowhere/at/all", NULL, error) == -1);
	th_error_clear(error);
	WANT(th_oci_create(hull_, "/nowhere", doc, NULL, error) == -1);
	th_error_clear(error);
	WANT(th_recipe_look(doc, NULL, error) == -1);
	th_error_clear(error);
	WANT(th_recipe_build(hull_, doc, NULL, NULL, NULL, error) == -1);
	th_error_clear(error);
	WANT(th_recipe_enter(hull_, doc, doc, false, NULL, error) == -1);
	th_error_clear(error);
	WANT(th_unit_show(hull_, doc, NULL, error) == -1);
	th_error_clear(error);
	WANT(th_talk_exec(hull_, "idle", &command, &talk, NULL, error) == -1);
	th_error_clear(error);
	WANT(th_talk_run(hull_, "idle", &command, &code, error) == -1);
	th_error_clear(error);
	/* These may mean nothing, and are done then. */
	th_image_capture(hull_, "nosuch", doc, NULL, error);
	th_error_clear(error);
	th_container_change(hull_, "idle", doc, NULL, error);
	th_error_clear(error);
	th_containers_order(hull_, doc, NULL, error);
	th_error_clear(error);
	th_containers_end(hull_, doc, -1, false, NULL, error);
	th_error_clear(error);
	th_group_look(hull_, doc, NULL, error);
	th_error_clear(error);
	th_group_launch(hull_, doc, &how, NULL, error);
	th_error_clear(error);
	th_group_begin(hull_, doc, &how, NULL, error);
	th_error_clear(error);
	th_network_create(hull_, "wrong/name", doc, false, false, error);
	th_error_clear(error);
	th_image_pack(hull_, doc, "/nowhere/x.tar", false, NULL, NULL, error);
	th_error_clear(error);
	th_settings_load("/nowhere.yaml", doc, NULL, error);
	th_error_clear(error);
}

static void senseless_documents(void)
{
	static const char *const texts[] = {"null", "[]", "{}", "\"x\"", "7",
		"[1, null, {}]", "{\"image\": null}",
		"{\"image\": [\"a\"], \"command\": \"x\"}",
		"{\"image\": \"selwick/base\", \"env\": {\"A\": 1}}",
		"{\"image\": \"selwick/base\", \"port\": [[80]]}",
		"{\"image\": \"selwick/base\", \"base\": \"here\"}",
		"{\"image\": \"selwick/base\", \"keep\": \"no\"}",
		"{\"name\": 3, \"containers\": {\"a\": 1}, \"networks\": "
		"[7]}",
		"{\"name\": \"x\", \"containers\": [null, {\"settings\": []}, "
		"{\"settings\": {\"image\": \"selwick/base\"}, \"after\": "
		"[1, {\"member\": 2}]}]}",
		"{\"recipe\": \"r\", \"text\": \"- \", \"folders\": [1, [2]], "
		"\"given\": {}}",
		"{\"id\": 1, \"bundle\": []}", "{\"command\": [\"a\", 1]}",
		"{\"command\": [], \"env\": [1]}", "{\"limit\": {}}"};

	WANT(th_container_make(hull_,
		     doc_of("{\"image\": \"selwick/base\", \"name\": \"idle\", "
			    "\"network\": \"none\"}"),
		     NULL, error) == 0);
	for (size_t i = 0; i < sizeof(texts) / sizeof(*texts); i++)
		make_no_sense_of(doc_of(texts[i]));
	make_no_sense_of(NULL);
	WANT(th_remove(hull_, "idle", TH_KIND_CONTAINER, true, NULL, error) ==
		0);
}

static void refuse(void)
{
	static const struct {
		const char *settings, *part;
	} wrong[] = {{"[]", "image"}, {"{}", "image"},
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
	json_t *doc = NULL;

	for (size_t i = 0; i < sizeof(wrong) / sizeof(*wrong); i++) {
		int rc = th_container_make(
			hull_, doc_of(wrong[i].settings), NULL, error);

		WANT(rc == -1);
		WANT(strstr(th_error_message(error), wrong[i].part) != NULL);
		th_error_clear(error);
	}
	/* Two mistakes are told at once. */
	WANT(th_container_make(hull_, doc_of(wrong[8].settings), &doc, error) ==
		-1);
	WANT(strchr(th_error_message(error), '\n') != NULL);
	WANT(count_of(doc, "problems") == 2);
	th_error_clear(error);
	/* Nobody has to want the error. */
	WANT(th_container_begin(hull_, "nosuch", NULL, NULL) == -1);
	WANT(th_container_await(hull_, "nosuch", false, -1, NULL, NULL) == -1);
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
	talk();
	look();
	change();
	share();
	group();
	images();
	senseless_documents();
	refuse();
	th_hull_close(hull_);
	/* Once more, only to look. */
	WANT(open_hull(TH_TO_LOOK));
	WANT(th_list(hull_, TH_KIND_CONTAINER, true, NULL, error) == 0);
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
