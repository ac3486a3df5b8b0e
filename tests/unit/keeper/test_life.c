/* The table of states and events: what follows from what, without a container.
 */
#include <signal.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#include "base/clock.h"
#include "keeper/keeper.h"
#include "unit/unit.h"

struct fixture {
	struct keeper keeper;
	struct client *client;
	int other; /* the client's end */
};

static void begin(struct fixture *fixture, enum keeper_state state)
{
	struct keeper *keeper = &fixture->keeper;
	int pair[2];

	memset(fixture, 0, sizeof(*fixture));
	keeper->notify = "";
	keeper->row.name[0] = 'x';
	keeper->policy.kind = TH_ALWAYS;
	keeper->sandbox.pidfd = -1;
	keeper_streams_init(&keeper->streams);
	CHECK_INT(th_loop_init(&keeper->loop, NULL), 0);
	CHECK_INT(socketpair(AF_UNIX, SOCK_SEQPACKET, 0, pair), 0);
	keeper_add_client(keeper, pair[0], false);
	fixture->client = keeper->clients.first;
	fixture->other = pair[1];
	keeper_enter(keeper, state);
}

static void end(struct fixture *fixture)
{
	while (fixture->keeper.clients.first)
		keeper_drop_client(fixture->keeper.clients.first);
	close(fixture->other);
	th_loop_release(&fixture->keeper.loop);
}

static void happen(struct fixture *fixture, enum keeper_event event)
{
	keeper_event(&fixture->keeper, event,
		&(struct order){.client = fixture->client,
			.signal = SIGTERM,
			.grace_ms = 1000000,
			.cause = TH_CAUSE_STOPPED,
			.actor = "selwick"});
}

/* The type of what the client is told; 0: nothing. */
static int told(const struct fixture *fixture)
{
	static struct th_message message;
	int fds[TH_CHANNEL_FDS];
	char byte;

	if (recv(fixture->other, &byte, 1, MSG_PEEK | MSG_DONTWAIT) < 0 ||
		th_channel_receive(fixture->other, &message, fds, NULL) != 1)
		return 0;
	return (int)message.type;
}

static void a_stop_goes_through_its_states(void)
{
	struct fixture one;
	struct keeper *keeper = &one.keeper;

	begin(&one, STATE_RUNNING);
	happen(&one, EVENT_STOP);
	CHECK_INT(keeper->state, STATE_STOPPING);
	CHECK(keeper->stopping.asked && keeper->stopping.by_person);
	CHECK_TEXT(keeper->stopping.actor, "selwick");
	/* The grace period is not over. */
	happen(&one, EVENT_ROUND);
	CHECK(!keeper->stopping.by_force);
	keeper->stopping.force_ms = th_clock_mono_ms() - 1;
	happen(&one, EVENT_ROUND);
	CHECK(keeper->stopping.by_force);
	happen(&one, EVENT_PROGRAM_ENDED);
	CHECK_INT(keeper->state, STATE_DRAINING);
	CHECK(keeper->last.ended_ms > 0);
	CHECK(keeper->streams.in_end);
	end(&one);
}

static void a_host_that_ends_restarts_nothing(void)
{
	static const enum keeper_state states[] = {
		STATE_RUNNING, STATE_STOPPING, STATE_DRAINING, STATE_CLOSING};

	for (size_t i = 0; i < COUNT_OF(states); i++) {
		struct fixture one;

		begin(&one, states[i]);
		one.keeper.stopping.once_more = true;
		happen(&one, EVENT_HOST_ENDS);
		CHECK_INT(one.keeper.policy.kind, TH_NEVER);
		CHECK(!one.keeper.stopping.once_more);
		CHECK(one.keeper.stopping.asked);
		CHECK(!one.keeper.stopping.by_person);
		CHECK_INT(one.keeper.state,
			states[i] == STATE_RUNNING ? STATE_STOPPING
						   : states[i]);
		end(&one);
	}
}

/* The last word counts: a stop takes a restart back, and not the other way
 * round. */
static void stop_and_restart_meet(void)
{
	struct fixture one;
	struct keeper *keeper = &one.keeper;

	begin(&one, STATE_RUNNING);
	happen(&one, EVENT_RESTART);
	CHECK_INT(keeper->state, STATE_STOPPING);
	CHECK(keeper->stopping.once_more && one.client->waits_for_start);
	CHECK_TEXT(keeper->next.asked_by, "selwick");
	happen(&one, EVENT_RESTART);
	CHECK_INT(told(&one), 0);
	happen(&one, EVENT_STOP);
	CHECK(!keeper->stopping.once_more && keeper->stopping.by_person);
	happen(&one, EVENT_RESTART);
	CHECK(!keeper->stopping.once_more);
	CHECK_INT(told(&one), TH_TELL_FAILED);
	end(&one);
}

static void a_start_is_answered_by_what_is(void)
{
	struct fixture one;

	begin(&one, STATE_RUNNING);
	happen(&one, EVENT_START);
	CHECK_INT(told(&one), TH_TELL_STARTED);
	CHECK(!one.client->waits_for_start);
	end(&one);
	begin(&one, STATE_WAITING);
	one.keeper.next.at_ms = INT64_MAX;
	happen(&one, EVENT_START);
	CHECK_INT(told(&one), 0);
	CHECK(one.client->waits_for_start);
	CHECK_INT(one.keeper.next.at_ms, 0);
	CHECK_INT(one.keeper.state, STATE_WAITING);
	end(&one);
}

/* What takes its time, or is over, takes no orders. */
static void there_are_states_without_events(void)
{
	static const enum keeper_state states[] = {STATE_STARTING, STATE_DONE};

	for (size_t i = 0; i < COUNT_OF(states); i++) {
		struct fixture one;

		begin(&one, states[i]);
		for (int event = 0; event < EVENT_COUNT; event++)
			happen(&one, (enum keeper_event)event);
		CHECK_INT(one.keeper.state, states[i]);
		CHECK(!one.keeper.stopping.asked);
		CHECK_INT(told(&one), 0);
		end(&one);
	}
}

static void an_end_that_is_kept_goes_with_the_host(void)
{
	struct fixture one;

	begin(&one, STATE_KEEPING);
	happen(&one, EVENT_STOP);
	CHECK_INT(one.keeper.state, STATE_KEEPING);
	happen(&one, EVENT_HOST_ENDS);
	CHECK_INT(one.keeper.state, STATE_DONE);
	end(&one);
}

static void what_runs_is_known(void)
{
	struct keeper keeper = {.state = STATE_STARTING};

	for (int state = 0; state < STATE_COUNT; state++) {
		bool runs = state == STATE_RUNNING || state == STATE_STOPPING;

		keeper_enter(&keeper, (enum keeper_state)state);
		CHECK_INT(keeper_runs(&keeper), runs);
		CHECK_INT(keeper_has_run(&keeper),
			runs || state == STATE_DRAINING ||
				state == STATE_CLOSING);
	}
}

static const CU_TestInfo tests[] = {
	{"a stop goes through its states", a_stop_goes_through_its_states},
	{"a host that ends", a_host_that_ends_restarts_nothing},
	{"stop and restart meet", stop_and_restart_meet},
	{"a start is answered", a_start_is_answered_by_what_is},
	{"states without events", there_are_states_without_events},
	{"an end that is kept", an_end_that_is_kept_goes_with_the_host},
	{"what runs is known", what_runs_is_known}, CU_TEST_INFO_NULL};

const struct suite suite_life = {"life", tests};
