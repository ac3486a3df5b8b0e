/* Making containers: everything is looked at before anything is done. */
#include <errno.h>
#include <fcntl.h>
#include <fts.h>
#include <limits.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "container/make_bundle.h"
#include "container/container.h"
#include "container/image_choice.h"
#include "container/valid_name.h"
#include "container/networks.h"
#include "container/own_users.h"
#include "container/volumes.h"
#include "network/network.h"
#include "store/group_state.h"
#include "store/replacement_state.h"
#include "store/volume_state.h"

/* ---- checks ---- */

static void check_name(const struct th_context *context,
	const struct th_settings *settings, struct th_problems *problems)
{
	struct th_container_row row;
	struct th_error err = {0};
	int rc;

	if (!settings->name || !th_name_valid(settings->name))
		return;
	rc = th_state_get_named(context->store->db, settings->name, &row, &err);
	if (rc == 1 && settings->replaces &&
		strcmp(row.id, settings->replaces) == 0)
		return;
	if (rc == 1) {
		th_fail(&err, TH_IN_USE,
			"the name \"%s\" is taken by a container that is %s",
			row.name, th_state_word(row.state));
		th_hint(&err, "try another --name, or: tidyhull remove %s%s",
			row.state == TH_STATE_RUNNING ? "--force " : "",
			row.name);
	}
	if (rc)
		th_problems_add(problems, &err);
}

/* The ID of the container that has the port, or "". */
static void find_owner(const struct th_context *context,
	const struct th_port *port, char owner[TH_ID_LENGTH + 1])
{
	const char *protocol = port->udp ? "udp" : "tcp";
	struct th_port_row *rows = NULL;
	struct th_error ignored = {0}; /* a hint only */
	size_t count = 0;

	owner[0] = '\0';
	if (th_state_ports(context->store->db, NULL, &rows, &count, &ignored))
		return;
	for (size_t i = 0; i < count; i++) {
		if (rows[i].host_port == port->host_port &&
			strcmp(rows[i].protocol, protocol) == 0)
			snprintf(owner, TH_ID_LENGTH + 1, "%s",
				rows[i].container);
	}
	free(rows);
}

/* Says who has the port: a container of ours, or a process of the host. */
static void describe_holder(const struct th_context *context,
	const struct th_port *port, const char *owner, struct th_error *err)
{
	const char *protocol = port->udp ? "udp" : "tcp";
	struct th_container_row row;
	struct th_error ignored = {0}; /* a hint only */
	char name[64];
	int pid, next;

	th_error_clear(err);
	th_port_holder(port, name, &pid);
	if (owner[0] &&
		th_state_get(context->store->db, owner, &row, &ignored) == 1)
		th_fail(err, TH_IN_USE,
			"port %d/%s is held by container \"%s\"",
			port->host_port, protocol, row.name);
	else if (pid)
		th_fail(err, TH_IN_USE,
			"port %d/%s is held by the process %s (PID %d)",
			port->host_port, protocol, name, pid);
	else
		th_fail(err, TH_IN_USE,
			"port %d/%s is in use by another program",
			port->host_port, protocol);
	next = th_port_next_free(port);
	if (next)
		th_hint(err, "try --port %d=%d, or --port %d for a free one",
			port->port, next, port->port);
	else
		th_hint(err, "try --port %d for a free one", port->port);
}

/* Of a container that hands it on, or is stopped before. */
static bool comes_free(const struct th_settings *settings, const char *owner)
{
	if (settings->replaces && strcmp(owner, settings->replaces) == 0)
		return true;
	for (size_t i = 0; settings->leaving && i < settings->leaving->count;
		i++) {
		if (strcmp(owner, settings->leaving->items[i]) == 0)
			return true;
	}
	return false;
}

static void check_ports(const struct th_context *context,
	const struct th_settings *settings, struct th_problems *problems)
{
	int(*fds)[2] = calloc(settings->port_count + 1, sizeof(*fds));

	/* All are held until all were tried: two settings may clash. */
	for (size_t i = 0; fds && i < settings->port_count; i++) {
		struct th_port port = settings->ports[i];
		struct th_error err = {0};
		char owner[TH_ID_LENGTH + 1] = "";

		fds[i][0] = fds[i][1] = -1;
		if (th_port_bind(&port, fds[i], &err) == 0)
			continue;
		if (err.code == TH_IN_USE)
			find_owner(context, &port, owner);
		if (*owner && comes_free(settings, owner))
			continue;
		if (err.code == TH_IN_USE)
			describe_holder(context, &port, owner, &err);
		else if (err.code == TH_NOT_POSSIBLE && port.host_port < 1024 &&
			settings->caller.unprivileged)
			th_hint(&err,
				"try --port %d=%d, or ask the administrator "
				"for: sysctl "
				"net.ipv4.ip_unprivileged_port_start=%d",
				port.port, port.host_port + 8000,
				port.host_port);
		th_problems_add(problems, &err);
	}
	for (size_t i = 0; fds && i < settings->port_count; i++) {
		th_close(&fds[i][0]);
		th_close(&fds[i][1]);
	}
	free(fds);
}

/* "/site=./site:ro", and other words for a volume or memory. */
static void hint_source(const char *text, struct th_error *err)
{
	static const char *const others[][2] = {{"tmpfs", "memory"},
		{"memory=", "memory:"}, {"mem:", "memory:"}, {"ram", "memory"},
		{"tmpfs:", "memory:"}, {"volume/", "volume:"},
		{"volume=", "volume:"}, {"vol:", "volume:"},
		{"volumes/", "volume:"}};
	const char *source = strchr(text, '=') + 1;
	const char *colon = strrchr(text, ':');

	for (size_t i = 0; i < sizeof(others) / sizeof(*others); i++) {
		const char *word = others[i][0];
		size_t len = strlen(word);

		/* The whole word, where it does not end with a mark. */
		if (strncmp(source, word, len) == 0 &&
			(strchr("=:/", word[len - 1]) || !source[len]))
			th_hint(err, "it is: --mount %.*s%s%s",
				(int)(source - text), text, others[i][1],
				source + len);
	}
	if (colon && (strcmp(colon, ":ro") == 0 || strcmp(colon, ":rw") == 0))
		th_hint(err, "it is: --mount %.*s%s", (int)(colon - text), text,
			colon[2] == 'o' ? ",ro" : "");
}

static void check_mounts(
	const struct th_settings *settings, struct th_problems *problems)
{
	for (size_t i = 0; i < settings->mount_count; i++) {
		const struct th_mount_setting *mount = &settings->mounts[i];
		struct th_error err = {0};
		struct stat st;

		if (!mount->source || mount->make ||
			stat(mount->source, &st) == 0)
			continue;
		if (errno == ENOENT || errno == ENOTDIR)
			th_fail(&err, TH_NOT_FOUND,
				"mount source %.300s does not exist",
				mount->source);
		else
			th_fail_sys(&err, TH_FAILED, errno,
				"mount source %.300s", mount->source);
		hint_source(settings->mount_texts.items[i], &err);
		/* As it was given. */
		th_hint(&err, "try --mount %s,make",
			settings->mount_texts.items[i]);
		th_problems_add(problems, &err);
	}
}

static void check_all(const struct th_context *context,
	struct th_settings *settings, struct th_problems *problems)
{
	th_settings_check(settings, problems);
	check_name(context, settings, problems);
	check_ports(context, settings, problems);
	check_mounts(settings, problems);
	networks_check(context, settings, problems);
}

void th_container_check(const struct th_context *context,
	struct th_settings *settings, struct th_problems *problems)
{
	struct th_image_choice choice;
	struct th_error err = {0};

	check_all(context, settings, problems);
	if (settings->image_later)
		return;
	if (th_image_choose(context, settings, &choice, &err))
		th_problems_add(problems, &err);
	th_image_choice_release(&choice);
}

/* ---- making ---- */

/* All below it, links themselves and not what they lead to. */
static int set_labels(const char *source, const char *label)
{
	char *copy = strdup(source), *roots[] = {copy, NULL};
	FTS *walk =
		copy ? fts_open(roots, FTS_PHYSICAL | FTS_NOCHDIR, NULL) : NULL;
	FTSENT *entry;
	int rc = walk ? 0 : -1;

	while (rc == 0 && (errno = 0, entry = fts_read(walk))) {
		if (entry->fts_info == FTS_DP)
			continue;
		rc = lsetxattr(entry->fts_accpath, "security.selinux", label,
			strlen(label) + 1, 0);
	}
	if (rc == 0 && errno)
		rc = -1;
	if (walk) {
		int sys = errno;

		fts_close(walk);
		errno = sys;
	}
	free(copy);
	return rc;
}

/* Folders that the host itself lives on: with another label for all below them
 * its own programs could not use them any more. */
static bool is_of_host(const char *path)
{
	static const char *const folders[] = {"/", "/bin", "/boot", "/dev",
		"/etc", "/home", "/lib", "/lib32", "/lib64", "/opt", "/proc",
		"/root", "/run", "/sbin", "/srv", "/sys", "/tmp", "/usr",
		"/var", NULL};
	char real[PATH_MAX];
	size_t i = 0;

	if (!realpath(path, real))
		snprintf(real, sizeof(real), "%s", path);
	while (folders[i] && strcmp(folders[i], real) != 0)
		i++;
	return folders[i] || strncmp(real, "/proc/", 6) == 0 ||
		strncmp(real, "/sys/", 5) == 0 ||
		strncmp(real, "/dev/", 5) == 0;
}

/* The label of files that containers may use, on hosts with SELinux; a private
 * one carries a pair of categories of its own. */
static int label_source(
	const struct th_mount_setting *mount, struct th_error *err)
{
	char label[96];
	unsigned int one = 0;

	if (mount->label == TH_LABEL_NONE)
		return 0;
	if (is_of_host(mount->source)) {
		th_fail(err, TH_USAGE,
			"%.300s is a folder of the host's own: its files need "
			"the labels that they have",
			mount->source);
		return th_hint(
			err, "mount a folder below it, or leave out label=");
	}
	if (access(TH_SELINUX, F_OK))
		return 0;
	for (const char *at = mount->source; *at; at++)
		one = one * 31 + (unsigned char)*at;
	if (mount->label == TH_LABEL_ALL)
		snprintf(label, sizeof(label),
			"system_u:object_r:container_file_t:s0");
	else
		snprintf(label, sizeof(label),
			"system_u:object_r:container_file_t:s0:c%u,c%u",
			one % 512, 512 + one / 512 % 512);
	if (set_labels(mount->source, label) == 0)
		return 0;
	return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
		"cannot set the security label of %.300s", mount->source);
}

static int make_sources(
	const struct th_settings *settings, struct th_error *err)
{
	struct stat st;

	for (size_t i = 0; i < settings->mount_count; i++) {
		const struct th_mount_setting *mount = &settings->mounts[i];

		if (mount->make && mount->source && stat(mount->source, &st) &&
			th_dir_make(mount->source, 0755, err))
			return -1;
		if (mount->source && label_source(mount, err))
			return -1;
	}
	return 0;
}

static void describe_command(const struct th_strings *command, char text[256])
{
	size_t used = 0;

	text[0] = '\0';
	for (size_t i = 0; i < command->count && used < 255; i++) {
		snprintf(text + used, 256 - used, "%s%s", i ? " " : "",
			command->items[i]);
		used = strlen(text);
	}
}

static int fill_row(const struct th_context *context,
	const struct th_settings *settings,
	const struct th_image_choice *choice,
	const struct th_image_config *config, struct th_container_row *row,
	struct th_error *err)
{
	struct th_strings command = {0};
	int rc;

	memset(row, 0, sizeof(*row));
	th_id_new(row->id);
	if (settings->name)
		snprintf(row->name, sizeof(row->name), "%s", settings->name);
	else if (th_name_new(context->store->db, row->name, err))
		return -1;
	snprintf(row->image, sizeof(row->image), "%s", choice->image.digest);
	/* An image of a build has no name. */
	if (settings->build)
		snprintf(row->image_name, sizeof(row->image_name), "%.12s",
			th_digest_hex(choice->image.digest));
	else
		snprintf(row->image_name, sizeof(row->image_name), "%s",
			choice->name);
	snprintf(row->network, sizeof(row->network), "%s", settings->network);
	if (settings->restart_text)
		snprintf(row->restart, sizeof(row->restart), "%s",
			settings->restart_text);
	if (settings->probe_text)
		snprintf(row->probe, sizeof(row->probe), "%s",
			settings->probe_text);
	for (size_t i = 0; i < settings->aliases.count; i++) {
		size_t used = strlen(row->aliases);

		snprintf(row->aliases + used, sizeof(row->aliases) - used,
			" %s", settings->aliases.items[i]);
	}
	row->keep = settings->keep;
	if (settings->build)
		snprintf(row->build, sizeof(row->build), "%s", settings->build);
	row->created_us = th_clock_now_us();
	rc = th_bundle_command(settings, config, &command, err);
	if (rc == 0)
		describe_command(&command, row->command);
	th_strings_release(&command);
	return rc;
}

/* A free port for each that the image declares. */
static int declare_ports(struct th_settings *settings,
	const struct th_image_config *config, struct th_error *err)
{
	if (!settings->declared_ports)
		return 0;
	if (!config->ports.count) {
		th_fail(err, TH_USAGE, "the image does not declare any ports");
		return th_hint(err, "give a port, for example --port 80");
	}
	/* Once, however often the rest is tried. */
	settings->declared_ports = false;
	for (size_t i = 0; i < config->ports.count; i++) {
		if (th_port_parse(config->ports.items[i], &settings->ports,
			    &settings->port_count, err))
			return -1;
	}
	return 0;
}

/* 1 where the name was made up, and somebody else has it by now. */
static int add_row(const struct th_context *context,
	const struct th_settings *settings, const struct th_container_row *row,
	struct th_error *err)
{
	struct th_container_row added = *row;
	struct th_error own = {0};

	/* The name is still another's. */
	if (settings->replaces)
		snprintf(added.name, sizeof(added.name), "%s", row->id);
	if (th_state_add(context->store->db, &added, context->actor, &own) == 0)
		return 0;
	if (own.code == TH_IN_USE && !settings->name)
		return 1;
	*err = own;
	return -1;
}

/* All that the state learns of it, in one transaction; 1 where something that
 * was free when it was looked at is taken by now. */
static int record(const struct th_context *context,
	struct th_settings *settings, const struct th_container_row *row,
	struct th_error *err)
{
	struct th_store *store = context->store;
	int rc;

	if (th_db_begin(store->db, err))
		return -1;
	rc = add_row(context, settings, row, err);
	if (rc == 0 && settings->member)
		rc = th_member_set(store->db, row->id, settings->member, err);
	if (rc == 0 && settings->replaces)
		rc = th_replacement_begin(store->db, row->id,
			settings->replaces, settings->maker,
			settings->replaces_running, err);
	if (rc == 0)
		rc = networks_record(store, settings, row->id, err);
	if (rc == 0)
		rc = volumes_record(store, settings, row->id, err);
	return th_db_end(store->db, rc, err);
}

/* The container's folder, empty. */
static int open_folder(
	struct th_store *store, const char *id, struct th_error *err)
{
	char path[64];
	int folder = -1;

	snprintf(path, sizeof(path), "containers/%s", id);
	if (mkdirat(store->root_fd, path, 0700) == 0)
		folder = openat(store->root_fd, path,
			O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (folder < 0)
		th_fail_sys(err, TH_FAILED, errno, "cannot create %s/%s",
			store->root, path);
	return folder;
}

/* The files come first and the state last: what the state knows is whole. 1
 * where it has to be done once more. */
static int make(const struct th_context *context, struct th_settings *settings,
	const struct th_image_choice *choice, struct th_container_row *row,
	struct th_error *err)
{
	struct th_store *store = context->store;
	struct th_image_config config = {0};
	struct th_image_root root = {0};
	int folder = -1, rc = -1;

	if (th_image_load(context, &choice->image, &config, err) ||
		th_image_root_open(store, choice->image.digest, &root, err) ||
		fill_row(context, settings, choice, &config, row, err) ||
		make_sources(settings, err) ||
		th_store_unsettled(store, row->id, err))
		goto out;
	folder = open_folder(store, row->id, err);
	if (folder < 0)
		goto settle;
	if (declare_ports(settings, &config, err) ||
		volumes_declare(store, settings, &config, err) ||
		volumes_place(store, settings, err) ||
		th_bundle_make(
			store, folder, row, settings, &config, &root, err) ||
		volumes_prepare(store, settings, row->id, folder, err))
		goto settle;
	/* What the state knows for longer than a run is on the disk before it
	 * does: after a power cut they agree. */
	if (row->keep && th_store_sync_container(store, row->id, folder, err))
		goto settle;
	if (th_db_begin_durable(store->db, row->keep, err) == 0)
		rc = th_db_end(
			store->db, record(context, settings, row, err), err);
settle:
	th_volume_settle(store, row->id);
	if (rc == 0 || th_store_remove_container(store, row->id, NULL) == 0)
		th_store_settled(store, row->id);
out:
	th_close(&folder);
	th_image_root_release(&root);
	th_image_config_release(&config);
	return rc;
}

/* Names that are made up, and volumes that come by themselves, may have been
 * made by somebody else in between. */
static int make_once_more(const struct th_context *context,
	struct th_settings *settings, const struct th_image_choice *choice,
	struct th_container_row *row, struct th_error *err)
{
	int rc = 1;

	for (int tries = 0; rc == 1 && tries < 20; tries++)
		rc = make(context, settings, choice, row, err);
	if (rc == 1)
		rc = th_fail(err, TH_IN_USE,
			"other commands keep changing what this one needs");
	return rc;
}

int th_container_create(const struct th_context *context,
	struct th_settings *settings, struct th_problems *problems,
	struct th_container_row *row, struct th_error *err)
{
	struct th_image_choice choice;
	struct th_error one = {0};
	int rc = -1;

	memset(row, 0, sizeof(*row));
	check_all(context, settings, problems);
	if (th_image_choose(context, settings, &choice, &one))
		th_problems_add(problems, &one);
	if (problems->count || th_image_obtain(context, settings, &choice, err))
		goto out;
	if (th_store_hold(context->store, err))
		goto out;
	/* While its files are read nobody takes them away; whether it is still
	 * an image is seen when the container is added. */
	rc = th_store_use_images(context->store, err);
	if (rc == 0) {
		rc = make_once_more(context, settings, &choice, row, err);
		th_store_unuse_images(context->store);
	}
	th_store_let_go(context->store);
out:
	th_image_choice_release(&choice);
	return rc;
}
