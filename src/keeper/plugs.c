/* The network of one run: joined before the program starts, left after it. */
#include <errno.h>
#include <fcntl.h>
#include <linux/nsfs.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/ioctl.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "ipc/words.h"
#include "keeper/keeper.h"
#include "container/reach.h"
#include "network/inner.h"
#include "network/names.h"
#include "network/within.h"
#include "sandbox/rights.h"

/* Those who come at once are told together. */
#define TELL_TOGETHER_MS 250
/* A lease that a container holds on its hosts file is broken by the kernel
 * after 45 s (fcntl(2)): longer than that. */
#define NAMES_TRIES 240
/* The program that carries the ports is started again so many times. */
#define RELAY_TRIES 10
/* Another keeper answers in microseconds, or not at all. */
#define ASK_PATIENCE_S 5

void keeper_plugs_init(struct plugs *plugs)
{
	plugs->netns = plugs->pilot_end.fd = plugs->relaying_end.fd = -1;
	plugs->relaying_asks.fd = -1;
	plugs->pilot.connection = plugs->pilot.users = plugs->pilot.netns = -1;
	plugs->relaying.pidfd = plugs->relaying.control = -1;
	plugs->names_relaying = plugs->relaying;
}

static bool is_shared(const struct keeper *keeper)
{
	return keeper->plan.network &&
		th_network_is_shared(keeper->plan.network);
}

/* ---- where an unprivileged user's networks are ---- */

static bool has_gone(int connection)
{
	char byte;

	return recv(connection, &byte, 1, MSG_PEEK | MSG_DONTWAIT) == 0;
}

/* It was killed: nobody else would tell. */
static void pilot_lost(struct th_watch *watch, uint32_t events)
{
	struct keeper *keeper = watch->owner;

	(void)events;
	th_loop_forget(&keeper->loop, watch);
	keeper_note(keeper, &(struct th_cause){.kind = TH_CAUSE_PILOT_KILLED});
}

static void drop_pilot(struct keeper *keeper)
{
	th_loop_forget(&keeper->loop, &keeper->plugs.pilot_end);
	th_pilot_close(&keeper->plugs.pilot);
}

/* Only who is in its user namespace has rights over its networks. */
static bool is_ours(const struct th_pilot *pilot)
{
	struct stat own, its;

	return stat("/proc/self/ns/user", &own) == 0 &&
		fstat(pilot->users, &its) == 0 && th_is_same_file(&own, &its);
}

/* Connected once, for all runs: the pilot stays as long as we do. */
static int find_pilot(struct keeper *keeper, struct th_error *err)
{
	struct th_pilot *pilot = &keeper->plugs.pilot;
	int rc;

	if (pilot->connection >= 0 && has_gone(pilot->connection))
		drop_pilot(keeper);
	if (pilot->connection >= 0)
		return 0;
	rc = th_pilot_connect(keeper->store->run_fd, pilot, err);
	if (rc == 0) {
		th_fail(err, TH_NOT_POSSIBLE,
			"the program that holds your networks (tidyhull-pilot) "
			"is not running");
		th_hint(err, "to start it: tidyhull start %s",
			keeper->plan.name);
	}
	if (rc != 1)
		return -1;
	if (!is_ours(pilot)) {
		th_pilot_close(pilot);
		th_fail(err, TH_NOT_POSSIBLE,
			"the program that held your networks was killed, and "
			"its successor has different ones");
		return th_hint(err,
			"run tidyhull stop %s, then tidyhull start %s",
			keeper->plan.name, keeper->plan.name);
	}
	keeper->plugs.pilot_end.owner = keeper;
	keeper->plugs.pilot_end.ready = pilot_lost;
	return th_loop_watch(&keeper->loop, &keeper->plugs.pilot_end,
		       pilot->connection, EPOLLIN)
		? th_fail_sys(err, TH_FAILED, errno, "cannot watch the pilot")
		: 0;
}

struct work {
	struct keeper *keeper;
	int (*work)(struct keeper *keeper, struct th_error *err);
};

static int do_work(void *arg, struct th_error *err)
{
	const struct work *work = arg;

	return work->work(work->keeper, err);
}

/* Does it where the bridges are: on the host, or in the pilot's namespace. */
static int at_bridges(struct keeper *keeper,
	int (*work)(struct keeper *keeper, struct th_error *err),
	struct th_error *err)
{
	struct work arg = {keeper, work};

	if (!keeper->store->unprivileged)
		return work(keeper, err);
	if (keeper->plugs.pilot.netns < 0)
		return 0;
	return th_within(keeper->plugs.pilot.netns, do_work, &arg, err);
}

/* ---- joining ---- */

static int join(struct keeper *keeper, struct th_error *err)
{
	return th_network_join(keeper->store, keeper->id, keeper->plugs.netns,
		keeper->plan.allow & TH_ALLOW_ADDRESSES, keeper->ports.rows,
		keeper->ports.row_count, &keeper->plugs.joined, err);
}

static int no_answer(const struct th_container_row *other, struct th_error *err)
{
	return th_fail(err, TH_FAILED,
		"the keeper of container \"%s\", whose network this one "
		"shares, does not answer",
		other->name);
}

/* An unprivileged user's container without networks may be in a user namespace
 * that is not ours, nor below ours. */
static int check_rights(const struct keeper *keeper,
	const struct th_container_row *other, struct th_error *err)
{
	int owner = ioctl(keeper->plugs.netns, NS_GET_USERNS), parent = -1;
	struct stat own = {0}, its = {0};
	bool ours;

	if (!keeper->store->unprivileged)
		return 0;
	stat("/proc/self/ns/user", &own);
	ours = owner >= 0 && fstat(owner, &its) == 0 &&
		th_is_same_file(&own, &its);
	if (owner >= 0 && !ours) {
		parent = ioctl(owner, NS_GET_PARENT);
		ours = parent >= 0 && fstat(parent, &its) == 0 &&
			th_is_same_file(&own, &its);
	}
	th_close(&parent);
	th_close(&owner);
	if (ours)
		return 0;
	th_fail(err, TH_NOT_POSSIBLE,
		"the network of container \"%s\" cannot be shared: it was "
		"started apart from your networks",
		other->name);
	return th_hint(err,
		"recreate \"%s\" with --network own, or with the name of a "
		"network",
		other->name);
}

/* From the other's keeper, and not by the number of its process, which may be
 * another's by now: then this container would be on the host's network. */
static int ask_for_network(struct keeper *keeper,
	const struct th_container_row *other, struct th_error *err)
{
	const struct timeval patience = {.tv_sec = ASK_PATIENCE_S};
	int channel = -1, fds[TH_CHANNEL_FDS], rc;
	struct th_message answer;

	rc = th_keeper_reach(keeper->store->run_fd, other->id, &channel, err);
	if (rc < 0)
		return -1;
	if (rc == 0)
		return no_answer(other, err);
	setsockopt(
		channel, SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof(patience));
	rc = th_channel_send(channel, TH_SAY_NETWORK, NULL, 0, NULL, 0);
	if (rc == 0)
		rc = th_channel_receive(channel, &answer, fds, err);
	th_close(&channel);
	if (rc != 1)
		return no_answer(other, err);
	if (answer.type == TH_TELL_NETWORK && fds[0] >= 0) {
		keeper->plugs.netns = fds[0];
		return check_rights(keeper, other, err);
	}
	for (int i = 0; i < TH_CHANNEL_FDS; i++)
		th_close(&fds[i]);
	if (answer.type == TH_TELL_FAILED)
		return th_words_error(&answer, err);
	return no_answer(other, err);
}

/* The network of another container, which runs. */
int keeper_find_network(struct keeper *keeper, struct th_error *err)
{
	struct th_bundle *bundle = &keeper->bundle;
	struct th_container_row row;
	const char *id;
	int rc;

	memset(&keeper->plugs.joined, 0, sizeof(keeper->plugs.joined));
	if (is_shared(keeper) && keeper->store->unprivileged)
		return find_pilot(keeper, err);
	if (!th_network_is_with(keeper->plan.network))
		return 0;
	id = keeper->plan.network + strlen(TH_NETWORK_WITH);
	rc = th_state_get(keeper->store->db, id, &row, err);
	if (rc < 0)
		return -1;
	if (rc == 0 ||
		(row.state != TH_STATE_RUNNING &&
			row.state != TH_STATE_PAUSED)) {
		th_fail(err, TH_NOT_FOUND,
			"container \"%s\", whose network this one shares, %s",
			rc ? row.name : id, rc ? "is not running" : "is gone");
		return rc ? th_hint(err, "tidyhull start %s", row.name)
			  : th_hint(err, "recreate this container");
	}
	if (ask_for_network(keeper, &row, err))
		return -1;
	bundle->joins[bundle->join_count].flag = CLONE_NEWNET;
	bundle->joins[bundle->join_count].path =
		th_format("/proc/self/fd/%d", keeper->plugs.netns);
	if (!bundle->joins[bundle->join_count++].path)
		return th_fail_memory(err);
	th_state_addresses(keeper->store->db, id, keeper->plugs.joined.address4,
		keeper->plugs.joined.address6, err);
	return th_names_copy(keeper->store, id, keeper->id, err);
}

static void add_extra_hosts(struct keeper *keeper, struct th_buf *text)
{
	struct th_error ignored = {0}; /* then none are added */
	struct th_buf file;

	th_buf_init(&file, 1 << 20);
	if (th_file_read_regular(
		    keeper->folder_fd, TH_NAMES_EXTRA, &file, &ignored) == 1)
		th_buf_add(text, file.data, file.len);
	th_buf_release(&file);
}

/* Of one that has no neighbours. */
static int write_hosts(struct keeper *keeper, struct th_error *err)
{
	const char *name = keeper->bundle.hostname ? keeper->bundle.hostname
						   : keeper->plan.name;
	struct th_buf text;
	int rc;

	th_buf_init(&text, 65536);
	/* Without an address of its own it finds itself all the same. */
	th_buf_addf(&text, "127.0.0.1 localhost\n::1 localhost\n127.0.0.1 %s\n",
		name);
	add_extra_hosts(keeper, &text);
	rc = th_file_overwrite(keeper->folder_fd, "hosts", text.data, text.len,
		"the container's hosts file", err);
	th_buf_release(&text);
	return rc;
}

/* It gets copies: the ports are held until the last run has ended. */
int keeper_close_ports(struct keeper *keeper, struct th_error *err)
{
	int rc = 0;

	if (!keeper->ports.count)
		return 0;
	keeper->plugs.closed_relay = th_relay_new_closed(&keeper->loop);
	if (!keeper->plugs.closed_relay)
		return th_fail_memory(err);
	for (size_t i = 0; i < keeper->ports.count; i++) {
		int copies[2] = {-1, -1};

		for (int f = 0; f < 2; f++) {
			int fd = keeper->ports.fds[i][f];

			if (fd < 0)
				continue;
			copies[f] = fcntl(fd, F_DUPFD_CLOEXEC, 3);
			fcntl(fd, F_SETFL, O_NONBLOCK);
		}
		rc |= th_relay_serve(keeper->plugs.closed_relay,
			&keeper->plan.ports[i], copies, err);
	}
	return rc;
}

static int start_relay(struct keeper *keeper, struct th_error *err);

static void end_relaying(struct keeper *keeper)
{
	th_loop_forget(&keeper->loop, &keeper->plugs.relaying_asks);
	th_relaying_end(&keeper->plugs.relaying);
	inner_free(keeper->plugs.relay_inner);
	keeper->plugs.relay_inner = NULL;
}

/* Nobody but somebody with rights over it ends it, or the kernel where memory
 * runs out: connections are lost, but not the ports. */
static void relay_lost(struct th_watch *watch, uint32_t events)
{
	struct keeper *keeper = watch->owner;
	struct th_error err = {0};
	bool again = keeper->plugs.relaying_tries < RELAY_TRIES;

	(void)events;
	th_loop_forget(&keeper->loop, watch);
	end_relaying(keeper);
	th_rights_raise();
	if (again && start_relay(keeper, &err))
		again = false;
	th_rights_rest();
	keeper_note(keeper,
		&(struct th_cause){.kind = again ? TH_CAUSE_RELAY_RESTARTED
						 : TH_CAUSE_RELAY_DEAD});
}

/* The relay is where the bridge is, so that a server sees the bridge's address
 * and not its own; what listens on the loopback inside is reached from there.
 */
static void relay_asks(struct th_watch *watch, uint32_t events)
{
	struct keeper *keeper = watch->owner;
	struct plugs *plugs = &keeper->plugs;

	(void)events;
	if (!plugs->relay_inner) {
		/* Its thread goes into the namespace with what this one has. */
		th_rights_raise();
		plugs->relay_inner = inner_new(plugs->netns);
		th_rights_rest();
	}
	if (!plugs->relay_inner || inner_answer(plugs->relay_inner, watch->fd))
		th_loop_forget(&keeper->loop, watch);
}

static struct th_relaying_way relay_way(const struct keeper *keeper)
{
	const struct plugs *plugs = &keeper->plugs;
	struct th_relaying_way way = {.netns = plugs->netns,
		.address4 = plugs->joined.address4,
		.address6 = plugs->joined.address6};

	if (strcmp(keeper->plan.network, TH_NETWORK_OWN) == 0) {
		way.address4 = "127.0.0.1";
		way.address6 = "::1";
	} else if (is_shared(keeper) && plugs->joined.address4[0]) {
		way.outside = true;
		way.netns =
			keeper->store->unprivileged ? plugs->pilot.netns : -1;
	}
	return way;
}

/* All ports but those that the program takes itself. */
static int start_relay(struct keeper *keeper, struct th_error *err)
{
	const struct th_relaying_way way = relay_way(keeper);
	struct plugs *plugs = &keeper->plugs;
	size_t count = keeper->ports.count, used = 0;
	struct th_port *ports = calloc(count, sizeof(*ports));
	int(*fds)[2] = calloc(count, sizeof(*fds)), rc = 0;

	if (!ports || !fds)
		rc = th_fail_memory(err);
	for (size_t i = 0; rc == 0 && i < count; i++) {
		if (keeper->plan.ports[i].handoff)
			continue;
		ports[used] = keeper->plan.ports[i];
		memcpy(fds[used++], keeper->ports.fds[i], sizeof(*fds));
		for (int f = 0; f < 2; f++) {
			if (keeper->ports.fds[i][f] >= 0)
				fcntl(keeper->ports.fds[i][f], F_SETFL,
					O_NONBLOCK);
		}
	}
	if (rc == 0 && used) {
		plugs->relaying_tries++;
		rc = th_relaying_start(&plugs->relaying, &way, ports,
			(const int(*)[2])fds, used, err);
		plugs->relaying_end.owner = plugs->relaying_asks.owner = keeper;
		plugs->relaying_end.ready = relay_lost;
		plugs->relaying_asks.ready = relay_asks;
		if (rc == 0)
			th_loop_watch(&keeper->loop, &plugs->relaying_end,
				plugs->relaying.pidfd, EPOLLIN);
		if (rc == 0 && way.outside)
			th_loop_watch(&keeper->loop, &plugs->relaying_asks,
				plugs->relaying.control, EPOLLIN);
	}
	free(ports);
	free(fds);
	return rc;
}

void keeper_end_relays(struct keeper *keeper)
{
	th_loop_forget(&keeper->loop, &keeper->plugs.relaying_end);
	end_relaying(keeper);
	th_relay_free(keeper->plugs.closed_relay);
	keeper->plugs.closed_relay = NULL;
	keeper->plugs.relaying_tries = 0;
}

/* The ports that are led to the container: all that it does not take over
 * itself. To be freed. */
static struct th_port_row *led_ports(const struct keeper *keeper, size_t *count)
{
	struct th_port_row *rows =
		calloc(keeper->ports.row_count + 1, sizeof(*rows));
	size_t at = 0;

	*count = 0;
	for (size_t i = 0; rows && i < keeper->ports.count; i++) {
		for (int f = 0; f < 2; f++) {
			if (keeper->ports.fds[i][f] < 0)
				continue;
			if (!keeper->plan.ports[i].handoff)
				rows[(*count)++] = keeper->ports.rows[at];
			at++;
		}
	}
	return rows;
}

/* For packets from outside: a host's matter. */
static int forward_ports(struct keeper *keeper, struct th_error *err)
{
	struct th_port_row *rows;
	size_t count;
	int rc;

	if (!is_shared(keeper) || keeper->store->unprivileged)
		return 0;
	rows = led_ports(keeper, &count);
	if (!rows)
		return th_fail_memory(err);
	rc = count ? th_network_forward(keeper->store, &keeper->plugs.joined,
			     rows, count, err)
		   : 0;
	free(rows);
	keeper->plugs.led = rc == 0 && count > 0;
	return rc;
}

void keeper_unforward_ports(struct keeper *keeper)
{
	struct th_port_row *rows;
	size_t count;

	if (!keeper->plugs.led)
		return;
	keeper->plugs.led = false;
	rows = led_ports(keeper, &count);
	if (rows)
		th_network_unforward(
			keeper->store, &keeper->plugs.joined, rows, count);
	free(rows);
}

static int serve_ports(struct keeper *keeper, struct th_error *err)
{
	if (!keeper->ports.count)
		return 0;
	return start_relay(keeper, err) || forward_ports(keeper, err) ? -1 : 0;
}

int keeper_join_network(struct keeper *keeper, struct th_error *err)
{
	char path[64];

	if (th_network_is_with(keeper->plan.network))
		return keeper_set_resolver(keeper, err);
	if (keeper->bundle.namespaces & CLONE_NEWNET) {
		snprintf(path, sizeof(path), "/proc/%d/ns/net",
			(int)keeper->sandbox.pid);
		keeper->plugs.netns = open(path, O_RDONLY | O_CLOEXEC);
		/* It has died already: what it has said about that counts. */
		if (keeper->plugs.netns < 0 &&
			th_sandbox_ready(&keeper->sandbox, err) == 0)
			th_fail_sys(err, TH_FAILED, ENOENT,
				"cannot open the container's network");
		if (keeper->plugs.netns < 0)
			return -1;
		if (is_shared(keeper) && at_bridges(keeper, join, err))
			return -1;
	}
	/* On a network of several it lists the neighbours. */
	if (keeper->plugs.joined.address4[0]
			? th_names_write(keeper->store, keeper->id, err)
			: write_hosts(keeper, err))
		return -1;
	if (keeper_set_resolver(keeper, err))
		return -1;
	return serve_ports(keeper, err);
}

/* ---- leaving ---- */

void keeper_tell_neighbours(struct keeper *keeper)
{
	if (!is_shared(keeper))
		return;
	keeper->plugs.names_us = th_clock_now_us();
	keeper->plugs.names_tries = 0;
	keeper->plugs.names_ms = th_clock_mono_ms() + TELL_TOGETHER_MS;
}

static void tell_them_now(struct keeper *keeper)
{
	keeper->plugs.names_ms = 0;
	/* Others are at it, or a file is held just now: a little later. A
	 * container that is gone by then does not matter. */
	if (th_names_refresh(keeper->store, keeper->plan.network,
		    keeper->plugs.names_us, 0) &&
		++keeper->plugs.names_tries < NAMES_TRIES)
		keeper->plugs.names_ms = th_clock_mono_ms() + TELL_TOGETHER_MS;
}

int64_t keeper_names_due(const struct keeper *keeper)
{
	return keeper->plugs.names_ms;
}

void keeper_names_work(struct keeper *keeper)
{
	int64_t due = keeper->plugs.names_ms;

	if (due && th_clock_mono_ms() >= due)
		tell_them_now(keeper);
}

void keeper_names_at_last(struct keeper *keeper)
{
	int64_t left = keeper->plugs.names_ms - th_clock_mono_ms();

	if (!keeper->plugs.names_ms)
		return;
	if (left > 0)
		usleep((useconds_t)left * 1000);
	tell_them_now(keeper);
}

static int look(struct keeper *keeper, struct th_error *err)
{
	return th_network_is_unplugged(keeper->id)
		? 0
		: th_fail(err, TH_FAILED, "there are devices left");
}

static int unplug(struct keeper *keeper, struct th_error *err)
{
	(void)err;
	th_network_unplugged(keeper->store, keeper->id);
	return 0;
}

static int tidy(struct keeper *keeper, struct th_error *err)
{
	return th_network_tidy(keeper->store, err);
}

bool keeper_unplug_step(struct keeper *keeper, bool by_force)
{
	struct th_error err = {0};

	if (!by_force && at_bridges(keeper, look, &err))
		return false;
	th_error_clear(&err);
	at_bridges(keeper, unplug, &err);
	return true;
}

bool keeper_tidy_bridges(struct keeper *keeper)
{
	struct th_error err = {0};

	return at_bridges(keeper, tidy, &err) == 0 || !th_error_busy(&err);
}

void keeper_leave_network(struct keeper *keeper)
{
	bool plugged = keeper->plugs.netns >= 0 && is_shared(keeper);

	th_close(&keeper->plugs.netns);
	if (plugged) {
		keeper_tell_neighbours(keeper);
		keeper_close_devices(keeper);
	}
}
