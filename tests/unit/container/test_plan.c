/* Plans: what is written comes back, and those of former versions mean what
 * they meant. */
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "container/plan.h"
#include "unit/unit.h"

static const char former[] =
	"{\"version\": 1, \"name\": \"gauge-north\", \"image\": "
	"\"selwick/gauge\", \"network\": \"berths\", \"networks\": "
	"[\"berths,address=10.20.0.9\"], \"user\": \"pilot\", \"layers\": "
	"[\"aa\", \"bb\"], \"port\": [\"80=8080\", \"53=5353/udp\"], "
	"\"mount\": [\"/data=/srv/data,ro\", \"/log=volume:log\"], \"env\": "
	"[\"A=1\"], \"secret\": [\"A\"], \"keep\": true, \"stop-signal\": 2, "
	"\"grace-ms\": 3000, \"allow\": [\"syscalls,addresses\"], \"limit\": "
	"\"memory=64M\", \"log\": \"files=3\", \"share\": \"home,user\", "
	"\"device\": [\"/dev/fuse\"]%s}";

static void write_plan_file(const char *text)
{
	CHECK_INT(th_file_replace(unit_folder_fd, "plan.json", text,
			  strlen(text), 0600, false, NULL),
		0);
}

static void check_parts(const struct th_plan *plan)
{
	CHECK_TEXT(plan->name, "gauge-north");
	CHECK_INT(plan->port_count, 2);
	CHECK_INT(plan->ports[0].host_port, 8080);
	CHECK(plan->ports[1].udp);
	CHECK_INT(plan->mount_count, 2);
	CHECK_TEXT(plan->mounts[0].source, "/srv/data");
	CHECK(plan->mounts[0].readonly);
	CHECK_TEXT(plan->mounts[1].volume, "log");
	CHECK_INT(plan->network_count, 1);
	CHECK_TEXT(plan->networks[0].address4, "10.20.0.9");
	CHECK_INT(plan->limit.memory_bytes, 64 << 20);
	CHECK_INT(plan->log.files, 3);
	CHECK_INT(plan->allow, TH_ALLOW_SYSCALLS | TH_ALLOW_ADDRESSES);
	CHECK_INT(plan->share, TH_SHARE_HOME | TH_SHARE_USER);
	CHECK_INT(plan->stop_signal, 2);
	CHECK_INT(plan->grace_ms, 3000);
}

static void a_former_plan_is_read_and_written_anew(void)
{
	struct th_plan plan;
	struct th_error err = {0};
	char text[2048];

	snprintf(text, sizeof(text), former,
		", \"state\": {\"restart\": \"always\", \"probe\": "
		"\"tcp:80\"}");
	write_plan_file(text);
	for (int i = 0; i < 2; i++) {
		CHECK_INT(th_plan_read(unit_folder_fd, &plan, &err), 0);
		CHECK_TEXT(err.msg, "");
		check_parts(&plan);
		CHECK(plan.has_life);
		CHECK_INT(plan.policy.kind, TH_ALWAYS);
		CHECK_INT(plan.probe.kind, TH_PROBE_TCP);
		CHECK_INT(th_plan_write(unit_folder_fd, &plan, &err), 0);
		th_plan_release(&plan);
	}
}

/* The oldest ones have policy and probe nowhere but in the state. */
static void what_a_plan_lacks_comes_from_the_state(void)
{
	struct th_container_row row = {.restart = "on-failure,tries=2"};
	struct th_plan plan;
	struct th_error err = {0};
	char text[2048];

	snprintf(text, sizeof(text), former, "");
	write_plan_file(text);
	CHECK_INT(th_plan_read(unit_folder_fd, &plan, &err), 0);
	CHECK(!plan.has_life);
	th_plan_release(&plan);
	CHECK_INT(th_plan_read_whole(unit_folder_fd, &row, &plan, &err), 0);
	CHECK_INT(plan.policy.kind, TH_ON_FAILURE);
	CHECK_INT(plan.policy.tries, 2);
	/* What it has by now is not taken from there. */
	CHECK_INT(th_plan_write(unit_folder_fd, &plan, &err), 0);
	th_plan_release(&plan);
	snprintf(row.restart, sizeof(row.restart), "always");
	CHECK_INT(th_plan_read_whole(unit_folder_fd, &row, &plan, &err), 0);
	CHECK_INT(plan.policy.kind, TH_ON_FAILURE);
	th_plan_release(&plan);
	/* What makes no sense there is an error, and nothing to release. */
	write_plan_file(text);
	snprintf(row.restart, sizeof(row.restart), "at noon");
	CHECK_INT(th_plan_read_whole(unit_folder_fd, &row, &plan, &err), -1);
}

static void damaged_plans_are_refused(void)
{
	static const char *const bad[] = {"", "{}", "[]", "{\"version\": 3}",
		"{\"version\": 2}",
		"{\"version\": 2, \"name\": \"a\", \"network\": \"own\", "
		"\"layers\": [\"aa\"], \"ports\": [{}]}",
		"{\"version\": 1, \"name\": \"a\", \"network\": \"own\", "
		"\"layers\": [\"aa\"], \"port\": [\"http\"]}",
		"{\"version\": 1, \"name\": \"a\", \"network\": 4}"};

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct th_plan plan;
		struct th_error err = {0};

		write_plan_file(bad[i]);
		CHECK_INT(th_plan_read(unit_folder_fd, &plan, &err), -1);
		CHECK(err.msg[0] != '\0');
	}
}

static const CU_TestInfo tests[] = {
	{"a former plan", a_former_plan_is_read_and_written_anew},
	{"what a plan lacks", what_a_plan_lacks_comes_from_the_state},
	{"damaged plans", damaged_plans_are_refused}, CU_TEST_INFO_NULL};

const struct suite suite_plan = {"plan", tests};
