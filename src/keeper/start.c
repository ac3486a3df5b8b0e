/* Everything that a keeper does before its container's program runs. */
#include <errno.h>
#include <fcntl.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include "base/file.h"
#include "keeper/keeper.h"
#include "keeper/lock.h"
#include "network/network.h"
#include "sandbox/filter.h"
#include "sandbox/overlay.h"

/* How long an earlier keeper may take to leave. */
#define LAST_KEEPER_MS 15000

static int load(struct keeper *keeper, struct th_error *err)
{
	char path[64];
	int rc;

	rc = th_state_get(keeper->store->db, keeper->id, &keeper->row, err);
	if (rc == 0)
		return th_fail(err, TH_NOT_FOUND,
			"the container %s is not there any more", keeper->id);
	if (rc < 0)
		return -1;
	snprintf(path, sizeof(path), "containers/%s", keeper->id);
	keeper->folder_fd = openat(keeper->store->root_fd, path,
		O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (keeper->folder_fd < 0)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot open the container's folder");
	if (th_plan_read(keeper->folder_fd, &keeper->plan, err) ||
		th_bundle_read(keeper->folder_fd, &keeper->bundle, err) ||
		th_log_open(keeper->folder_fd, &keeper->log, err))
		return -1;
	return 0;
}

static int bind_ports(struct keeper *keeper, struct th_error *err)
{
	size_t count = keeper->plan.port_count;

	keeper->port_fds = calloc(count + 1, sizeof(*keeper->port_fds));
	keeper->port_rows = calloc(count * 2 + 1, sizeof(*keeper->port_rows));
	if (!keeper->port_fds || !keeper->port_rows)
		return th_fail_memory(err);
	for (size_t i = 0; i < count; i++)
		keeper->port_fds[i][0] = keeper->port_fds[i][1] = -1;
	for (size_t i = 0; i < count; i++) {
		struct th_port *port = &keeper->plan.ports[i];
		static const char *const every[2] = {"0.0.0.0", "::"};

		if (th_port_bind(port, keeper->port_fds[i], err))
			return -1;
		for (int family = 0; family < 2; family++) {
			struct th_port_row *row;

			if (keeper->port_fds[i][family] < 0)
				continue;
			row = &keeper->port_rows[keeper->port_row_count++];
			snprintf(row->protocol, sizeof(row->protocol), "%s",
				port->udp ? "udp" : "tcp");
			snprintf(row->address, sizeof(row->address), "%s",
				port->address[0] ? port->address
						 : every[family]);
			row->host_port = port->host_port;
			row->port = port->port;
		}
	}
	return 0;
}

/* The overlay of the image's trees with the container's own upper folder. */
static int open_root(struct keeper *keeper, struct th_error *err)
{
	const char *root = keeper->store->root;
	struct th_strings lowers = {0};
	struct th_overlay overlay = {0};
	char *upper = NULL, *work = NULL;
	int rc = -1;

	for (size_t i = keeper->plan.layers.count; i > 0; i--) {
		const char *diff_id = keeper->plan.layers.items[i - 1];

		if (th_strings_take(&lowers,
			    th_format("%s/trees/%s", root,
				    th_digest_hex(diff_id)))) {
			th_fail_memory(err);
			goto out;
		}
	}
	upper = th_format("%s/containers/%s/upper", root, keeper->id);
	work = th_format("%s/containers/%s/work", root, keeper->id);
	if (!upper || !work) {
		th_fail_memory(err);
		goto out;
	}
	overlay.lowers = &lowers;
	overlay.upper = upper;
	overlay.work = work;
	overlay.discard = !keeper->plan.keep;
	overlay.user_attributes = keeper->plan.ordinary;
	rc = th_overlay_open(&overlay, &keeper->overlay_fd, err);
out:
	free(upper);
	free(work);
	th_strings_release(&lowers);
	return rc;
}

/* Compiled when the container was made, as that takes longer than the rest of
 * a start; what has been lost is compiled again. */
static int load_filter(struct keeper *keeper, struct th_error *err)
{
	struct th_error ignored = {0};
	char path[128];

	if (!keeper->bundle.seccomp.given)
		return 0;
	if (keeper->plan.filter) {
		snprintf(path, sizeof(path), "filters/%.64s",
			keeper->plan.filter);
		if (th_file_read(keeper->store->root_fd, path, &keeper->filter,
			    &ignored) == 1 &&
			keeper->filter.len)
			return 0;
	}
	return th_filter_compile(&keeper->bundle.seccomp, &keeper->filter, err);
}

static int make_group(struct keeper *keeper, struct th_error *err)
{
	if (keeper->bundle.cgroup_path)
		snprintf(keeper->group_path, sizeof(keeper->group_path),
			"%.500s", keeper->bundle.cgroup_path);
	else
		th_group_path(keeper->store, keeper->id, keeper->group_path);
	/* Of an ordinary user the kernel takes no device nodes anyway. */
	return th_cgroup_make(keeper->group_path, &keeper->bundle.resources,
		!keeper->plan.ordinary, &keeper->cgroup, err);
}

static int create(struct keeper *keeper, struct th_error *err)
{
	struct th_sandbox_options *options = &keeper->options;
	const char *reaper =
		th_bundle_annotation(&keeper->bundle, "org.tidyhull.reaper");
	int rc;

	keeper->bundle_path =
		th_format("%s/containers/%s", keeper->store->root, keeper->id);
	if (!keeper->bundle_path)
		return th_fail_memory(err);
	options->bundle = &keeper->bundle;
	options->id = keeper->id;
	options->bundle_path = keeper->bundle_path;
	options->root_mount = keeper->overlay_fd;
	options->cgroup = &keeper->cgroup;
	options->filter = keeper->filter.len ? &keeper->filter : NULL;
	options->reaper = reaper && strcmp(reaper, "yes") == 0;
	options->listener = -1;
	rc = keeper_make_streams(keeper, options->stdio, err);
	if (rc == 0)
		rc = th_sandbox_create(options, &keeper->sandbox, err);
	if (!keeper->bundle.process.terminal) {
		for (int i = 0; i < 3; i++)
			th_close(&options->stdio[i]);
	}
	return rc;
}

static int write_hosts(struct keeper *keeper, const struct th_joined *joined,
	struct th_error *err)
{
	const char *name = keeper->bundle.hostname ? keeper->bundle.hostname
						   : keeper->plan.name;
	struct th_buf text;
	int fd, rc = 0;

	th_buf_init(&text, 65536);
	th_buf_adds(&text, "127.0.0.1 localhost\n::1 localhost\n");
	if (joined->address4[0])
		th_buf_addf(&text, "%s %s\n", joined->address4, name);
	if (joined->address6[0])
		th_buf_addf(&text, "%s %s\n", joined->address6, name);
	/* Without an address of its own it finds itself all the same. */
	if (!joined->address4[0] && !joined->address6[0])
		th_buf_addf(&text, "127.0.0.1 %s\n", name);
	/* In place: the file may be mounted inside already. */
	fd = openat(keeper->folder_fd, "hosts",
		O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
	if (fd < 0 || th_write_all(fd, text.data, text.len))
		rc = th_fail_sys(err, TH_FAILED, errno,
			"cannot write the container's hosts file");
	th_close(&fd);
	th_buf_release(&text);
	return rc;
}

static int join_network(struct keeper *keeper, struct th_error *err)
{
	struct th_joined joined = {{0}, {0}};
	bool own = strcmp(keeper->plan.network, TH_NETWORK_OWN) == 0;
	char path[64];
	int rc = 0;

	if (keeper->bundle.namespaces & CLONE_NEWNET) {
		snprintf(path, sizeof(path), "/proc/%d/ns/net",
			(int)keeper->sandbox.pid);
		keeper->netns_fd = open(path, O_RDONLY | O_CLOEXEC);
		if (keeper->netns_fd < 0)
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot open the container's network");
		if (th_network_is_shared(keeper->plan.network) &&
			th_network_join(keeper->store, keeper->plan.network,
				keeper->id, keeper->netns_fd, &joined, err))
			return -1;
	}
	if (write_hosts(keeper, &joined, err))
		return -1;
	if (keeper->plan.port_count == 0)
		return 0;
	keeper->relay = th_relay_new(&keeper->loop, keeper->netns_fd,
		own ? "127.0.0.1" : joined.address4,
		own ? "::1" : joined.address6);
	if (!keeper->relay)
		return th_fail_memory(err);
	for (size_t i = 0; i < keeper->plan.port_count; i++) {
		rc |= th_relay_serve(keeper->relay, &keeper->plan.ports[i],
			keeper->port_fds[i], err);
		keeper->port_fds[i][0] = keeper->port_fds[i][1] = -1;
	}
	return rc;
}

static int record(struct keeper *keeper, struct th_error *err)
{
	struct th_change change = {.to = TH_STATE_RUNNING,
		.pid = keeper->sandbox.pid,
		.boot = keeper->store->boot_id,
		.cause = "started",
		.actor = keeper->actor,
		.ports = keeper->port_rows,
		.port_count = keeper->port_row_count};

	return th_state_change(keeper->store->db, keeper->id, &change, err);
}

/* The keeper of the last run may still be cleaning up behind it. */
static int take_lock(struct keeper *keeper, struct th_error *err)
{
	struct th_store *store = keeper->store;
	int rc;

	rc = th_lock_take(store->run_fd, keeper->id, &keeper->lock_fd, err);
	if (rc != 0)
		return rc;
	rc = th_state_get(store->db, keeper->id, &keeper->row, err);
	keeper->row.id[0] = '\0';
	if (rc != 1 || keeper->row.state != TH_STATE_STOPPED)
		return rc < 0 ? -1 : 0;
	return th_lock_wait(store->run_fd, keeper->id, LAST_KEEPER_MS,
		&keeper->lock_fd, err);
}

int keeper_start(struct keeper *keeper, struct th_error *err)
{
	int rc;

	rc = take_lock(keeper, err);
	if (rc == 0)
		return th_fail(err, TH_IN_USE,
			"the container runs already, or is being started or "
			"removed by another command");
	if (rc < 0 || load(keeper, err) || bind_ports(keeper, err))
		return -1;
	if (load_filter(keeper, err) || make_group(keeper, err) ||
		open_root(keeper, err) || create(keeper, err))
		return -1;
	/* The two sides work at the same time: mounts inside, network here. */
	if (join_network(keeper, err) || keeper_watch_control(keeper, err))
		return -1;
	if (th_sandbox_ready(&keeper->sandbox, err))
		return -1;
	if (keeper->bundle.process.terminal) {
		struct winsize size = {.ws_row = keeper->size.rows,
			.ws_col = keeper->size.columns};

		if (size.ws_row)
			ioctl(keeper->sandbox.console, TIOCSWINSZ, &size);
	}
	if (th_sandbox_start(&keeper->sandbox, err))
		return -1;
	keeper_watch_streams(keeper);
	return record(keeper, err);
}
