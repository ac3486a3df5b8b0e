/* The state machine. */
#include <string.h>

#include "store/machine.h"
#include "unit/unit.h"

static void only_some_steps_are_there(void)
{
	/* From the row to the column: created, running, paused, stopped,
	 * waiting. */
	static const char *const steps[] = {
		".x.x.", ".xxxx", ".x.xx", ".x.x.", ".x.xx"};

	for (int from = 0; from < 5; from++) {
		for (int to = 0; to < 5; to++)
			CHECK_INT(th_state_may_follow((enum th_state)from,
					  (enum th_state)to),
				steps[from][to] == 'x');
	}
}

static void a_state_tells_whether_it_is_up(void)
{
	static const bool up[5] = {[TH_STATE_RUNNING] = true,
		[TH_STATE_PAUSED] = true,
		[TH_STATE_WAITING] = true};
	struct th_container_row row = {.name = "box"};

	for (int state = 0; state < 5; state++) {
		row.state = (enum th_state)state;
		CHECK_INT(th_container_is_up(&row), up[state]);
	}
}

static void an_error_says_what_would_be_possible(void)
{
	struct th_container_row row = {.name = "box"};
	struct th_error err = {0};

	row.state = TH_STATE_PAUSED;
	CHECK_INT(th_act_check(&row, TH_ACT_STOP, &err), 0);
	CHECK_INT(th_act_check(&row, TH_ACT_START, &err), -1);
	CHECK_INT(err.code, TH_IN_USE);
	CHECK(strstr(err.msg, "is paused") != NULL);
	CHECK(strstr(err.hint, "resume") != NULL);
	CHECK(strstr(err.hint, "tidyhull resume box") != NULL);
	row.state = TH_STATE_STOPPED;
	th_error_clear(&err);
	CHECK_INT(th_act_check(&row, TH_ACT_EXEC, &err), -1);
	CHECK(strstr(err.hint, "tidyhull start box") != NULL);
	CHECK(strstr(err.hint, "--force") == NULL);
	row.state = TH_STATE_WAITING;
	th_error_clear(&err);
	CHECK_INT(th_act_check(&row, TH_ACT_START, &err), 0);
	CHECK_INT(th_act_check(&row, TH_ACT_REMOVE, &err), -1);
	CHECK(strstr(err.hint, "remove --force") != NULL);
}

/* Whatever may be asked for is possible somewhere, and refused somewhere. */
static void every_act_has_its_states(void)
{
	for (int act = TH_ACT_START; act <= TH_ACT_REMOVE; act++) {
		int possible = 0;

		for (int state = 0; state < 5; state++) {
			struct th_container_row row = {
				.name = "box", .state = (enum th_state)state};
			struct th_error err = {0};
			int rc = th_act_check(&row, (enum th_act)act, &err);

			possible += rc == 0;
			CHECK(rc == 0 || err.hint[0]);
		}
		CHECK(possible > 0);
	}
}

static const CU_TestInfo tests[] = {
	{"only some steps are there", only_some_steps_are_there},
	{"a state tells whether it is up", a_state_tells_whether_it_is_up},
	{"an error says what would be possible",
		an_error_says_what_would_be_possible},
	{"every act has its states", every_act_has_its_states},
	CU_TEST_INFO_NULL};

const struct suite suite_machine = {"machine", tests};
