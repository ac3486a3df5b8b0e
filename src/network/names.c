#include "network/names.h"

#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "network/pilot.h"
#include "store/state_parts.h"

#define HOSTS_MAX (4u << 20)

struct neighbour {
	char container[TH_ID_LENGTH + 1];
	char name[TH_NAME_MAX];
	char aliases[256]; /* each with a space before it */
	char address4[TH_ADDRESS_TEXT], address6[TH_ADDRESS_TEXT];
	int64_t networks; /* that it is on */
};

struct neighbours {
	void *list;
	size_t count;
	char host4[TH_ADDRESS_TEXT]; /* of the bridge, or what stands for it */
	bool shared; /* some container shares the network of another one */
};

/* The first address of "10.70.16.0/20". */
static void first_address(const char *subnet, char text[TH_ADDRESS_TEXT])
{
	char base[TH_ADDRESS_TEXT];
	struct in_addr address;

	snprintf(base, sizeof(base), "%.*s", (int)strcspn(subnet, "/"), subnet);
	text[0] = '\0';
	if (inet_pton(AF_INET, base, &address) != 1)
		return;
	address.s_addr = htonl(ntohl(address.s_addr) + 1);
	inet_ntop(AF_INET, &address, text, TH_ADDRESS_TEXT);
}

/* Those on one network; or those on any of the networks of one container,
 * itself included. */
#define FIND                                                                   \
	"SELECT a.container, c.name, c.aliases, a.address4, a.address6,"       \
	" n.subnet4, (SELECT count(*) FROM addresses o"                        \
	" WHERE o.container=a.container) FROM addresses a"                     \
	" JOIN containers c ON c.id=a.container"                               \
	" JOIN networks n ON n.name=a.network "
#define ON_NETWORK FIND "WHERE a.network=? ORDER BY a.slot"
#define AROUND                                                                 \
	FIND "WHERE a.network IN (SELECT network FROM addresses"               \
	     " WHERE container=?1) ORDER BY a.container<>?1, a.network, "      \
	     "a.slot"

static int find(struct th_store *store, const char *sql, const char *key,
	struct neighbours *all, struct th_error *err)
{
	struct th_query *query = NULL;
	int64_t shared = 0;
	int rc;

	memset(all, 0, sizeof(*all));
	if (th_db_number(store->db, 0, &shared, err,
		    "SELECT count(*) FROM containers WHERE network"
		    " LIKE 'with:%'",
		    "") ||
		th_db_query(store->db, &query, err, sql, "t", key))
		return -1;
	all->shared = shared > 0;
	while ((rc = th_query_next(query, err)) == 1) {
		struct neighbour *one =
			th_grow(&all->list, all->count, sizeof(*one));

		if (!one) {
			rc = th_fail_memory(err);
			break;
		}
		state_copy(one->container, sizeof(one->container), query, 0);
		state_copy(one->name, sizeof(one->name), query, 1);
		state_copy(one->aliases, sizeof(one->aliases), query, 2);
		state_copy(one->address4, sizeof(one->address4), query, 3);
		state_copy(one->address6, sizeof(one->address6), query, 4);
		one->networks = th_query_int(query, 6);
		if (!all->host4[0])
			first_address(th_query_text(query, 5), all->host4);
		all->count++;
	}
	th_query_end(query);
	if (store->unprivileged)
		snprintf(all->host4, sizeof(all->host4), "%s", TH_UPLINK_HOST);
	return rc < 0 ? -1 : 0;
}

static void add_lines(
	struct th_buf *text, const struct neighbour *one, const char *also)
{
	const char *const addresses[] = {one->address4, one->address6};

	for (size_t i = 0; i < 2; i++) {
		if (addresses[i][0])
			th_buf_addf(text, "%s%s%s %s%s\n", addresses[i],
				*also ? " " : "", also, one->name,
				one->aliases);
	}
}

static void add_file(struct th_buf *text, int folder, const char *name)
{
	struct th_error ignored = {0}; /* then without it */
	struct th_buf file;

	th_buf_init(&file, HOSTS_MAX);
	if (th_file_read_regular(folder, name, &file, &ignored) == 1)
		th_buf_add(text, file.data, file.len);
	th_buf_release(&file);
}

/* The host name inside, where it is another one than the container's. */
static void read_hostname(
	int folder, const struct neighbour *own, char name[TH_NAME_MAX])
{
	struct th_error ignored = {0}; /* then by its name */
	struct th_buf file;

	name[0] = '\0';
	th_buf_init(&file, 256);
	if (th_file_read_regular(folder, "hostname", &file, &ignored) == 1)
		snprintf(name, TH_NAME_MAX, "%.*s",
			(int)strcspn(file.data, "\n"), file.data);
	th_buf_release(&file);
	if (strcmp(name, own->name) == 0)
		name[0] = '\0';
}

static int replace(int folder, const struct th_buf *text, struct th_error *err)
{
	return th_file_overwrite(folder, "hosts", text->data, text->len,
		"the container's hosts file", err);
}

static int write_hosts(struct th_store *store, const char *container,
	const struct th_buf *text, struct th_error *err)
{
	char path[64];
	int folder, rc;

	snprintf(path, sizeof(path), "containers/%s", container);
	folder = openat(
		store->root_fd, path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (folder < 0)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot open the container's folder");
	rc = replace(folder, text, err);
	th_close(&folder);
	return rc;
}

/* Those that share its network find what it finds; also those that are just
 * being started, which the state does not say yet. */
static void write_sharers(struct th_store *store, const char *container,
	const struct th_buf *text)
{
	char key[TH_ID_LENGTH + 8];
	struct th_strings sharers = {0};
	struct th_error ignored = {0}; /* the next change */

	snprintf(key, sizeof(key), "with:%s", container);
	state_names(store->db, &sharers, &ignored,
		"SELECT id FROM containers WHERE network=?", key);
	for (size_t i = 0; i < sharers.count; i++) {
		th_error_clear(&ignored);
		write_hosts(store, sharers.items[i], text, &ignored);
	}
	th_strings_release(&sharers);
}

/* Its own addresses first; all of them where it is on several networks. */
static int write_one(struct th_store *store, const struct neighbours *all,
	const struct neighbour *own, struct th_error *err)
{
	const struct neighbour *list = all->list;
	char path[64], hostname[TH_NAME_MAX];
	struct th_buf text;
	int folder, rc;

	snprintf(path, sizeof(path), "containers/%s", own->container);
	folder = openat(
		store->root_fd, path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (folder < 0)
		return th_fail_sys(err, TH_FAILED, errno,
			"cannot open the container's folder");
	th_buf_init(&text, HOSTS_MAX);
	th_buf_adds(&text, "127.0.0.1 localhost\n::1 localhost\n");
	read_hostname(folder, own, hostname);
	for (int others = 0; others < 2; others++) {
		for (size_t i = 0; i < all->count; i++) {
			bool same =
				strcmp(list[i].container, own->container) == 0;

			if (same == !others)
				add_lines(
					&text, &list[i], same ? hostname : "");
		}
	}
	if (all->host4[0])
		th_buf_addf(&text, "%s %s\n", all->host4, TH_NAMES_HOST);
	add_file(&text, folder, TH_NAMES_EXTRA);
	rc = text.failed ? th_fail_memory(err) : replace(folder, &text, err);
	if (rc == 0 && all->shared)
		write_sharers(store, own->container, &text);
	th_buf_release(&text);
	th_close(&folder);
	return rc;
}

/* One that is on several networks knows more than those on this one. */
static int write_each(struct th_store *store, const struct neighbours *all,
	const struct neighbour *own, struct th_error *err)
{
	struct neighbours around = {0};
	int rc;

	if (own->networks < 2)
		return write_one(store, all, own, err);
	rc = find(store, AROUND, own->container, &around, err);
	if (rc == 0 && around.count)
		rc = write_one(store, &around, around.list, err);
	free(around.list);
	return rc;
}

/* One for all networks, as a container on several of them has one file. Whoever
 * writes looks at the state with the lock held: the last one to write
 * has seen the latest. Where nobody gives it up, -1: what is written then is
 * right until the next one writes. */
static int lock(struct th_store *store, int patience_ms)
{
	struct th_error ignored = {0}; /* as above */

	if (patience_ms > store->patience_ms)
		patience_ms = store->patience_ms;
	return th_lock_file(store->run_fd, "names.lock", patience_ms, &ignored);
}

int th_names_write(
	struct th_store *store, const char *container, struct th_error *err)
{
	struct neighbours around = {0};
	int held = lock(store, TH_NAMES_PATIENCE_MS), rc;

	rc = find(store, AROUND, container, &around, err);
	if (rc == 0 && around.count)
		rc = write_one(store, &around, around.list, err);
	free(around.list);
	th_close(&held);
	return rc < 0 ? -1 : 0;
}

int th_names_copy(struct th_store *store, const char *from, const char *to,
	struct th_error *err)
{
	/* Nobody writes both files anew in between. */
	int held = lock(store, TH_NAMES_PATIENCE_MS), rc;
	struct th_buf text;
	char path[64];

	snprintf(path, sizeof(path), "containers/%s/hosts", from);
	th_buf_init(&text, HOSTS_MAX);
	rc = th_file_read_regular(store->root_fd, path, &text, err);
	if (rc >= 0)
		rc = write_hosts(store, to, &text, err);
	th_close(&held);
	th_buf_release(&text);
	return rc;
}

/* When the last one began stands in a file of the network: the state was looked
 * at after that. */
static int open_note(struct th_store *store, const char *network)
{
	char name[TH_NAME_MAX + 16];

	snprintf(name, sizeof(name), "names-%.63s", network);
	return openat(store->run_fd, name, O_RDWR | O_CREAT | O_CLOEXEC, 0600);
}

static bool was_done(int note, int64_t changed_us)
{
	int64_t began_us = 0;

	return pread(note, &began_us, sizeof(began_us), 0) ==
		sizeof(began_us) &&
		began_us > changed_us && began_us <= th_clock_now_us();
}

static void note_begin(int note, int64_t began_us)
{
	if (pwrite(note, &began_us, sizeof(began_us), 0) != sizeof(began_us)) {
		/* Then it is done once more than needed. */
	}
}

static int refresh(struct th_store *store, const char *network,
	int64_t changed_us, int patience_ms)
{
	struct neighbours all = {0};
	struct th_error ignored = {0}; /* the caller tries again */
	const struct neighbour *list;
	int held = lock(store, patience_ms), note, rc;
	int64_t began_us = th_clock_now_us();

	if (held < 0)
		return -1;
	note = open_note(store, network);
	if (note >= 0 && was_done(note, changed_us)) {
		th_close(&note);
		th_close(&held);
		return 0;
	}
	rc = find(store, ON_NETWORK, network, &all, &ignored);
	list = all.list;
	for (size_t i = 0; rc >= 0 && i < all.count; i++) {
		th_error_clear(&ignored);
		if (write_each(store, &all, &list[i], &ignored))
			rc = 1;
	}
	/* Only what is done for all counts as done. */
	if (rc == 0 && note >= 0)
		note_begin(note, began_us);
	free(all.list);
	th_close(&note);
	th_close(&held);
	return rc ? -1 : 0;
}

int th_names_refresh(struct th_store *store, const char *networks,
	int64_t changed_us, int patience_ms)
{
	char network[TH_NAME_MAX];
	int rc = 0;

	for (const char *at = networks; *at;) {
		size_t len = strcspn(at, ",");

		snprintf(network, sizeof(network), "%.*s", (int)len, at);
		rc |= refresh(store, network, changed_us, patience_ms);
		at += len + (at[len] == ',');
	}
	return rc;
}
