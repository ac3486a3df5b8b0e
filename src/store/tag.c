#include "store/tag.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/buffer.h"
#include "base/file.h"
#include "base/random.h"

#define TAG "tag"

int th_tag_read(struct th_store *store, struct th_error *err)
{
	struct th_query *query = NULL;
	int rc;

	store->tag[0] = store->place[0] = '\0';
	if (th_db_query(store->db, &query, err,
		    "SELECT key,value FROM meta WHERE key IN('tag','place')",
		    ""))
		return -1;
	while ((rc = th_query_next(query, err)) == 1) {
		bool tag = strcmp(th_query_text(query, 0), "tag") == 0;

		snprintf(tag ? store->tag : store->place,
			tag ? sizeof(store->tag) : sizeof(store->place), "%s",
			th_query_text(query, 1));
	}
	th_query_end(query);
	if (rc == 0 && !store->tag[0])
		return th_fail(err, TH_FAILED, "the state has no tag");
	return rc;
}

/* Which file the tag is in, and where the store lies. */
static int find_place(const struct th_store *store, char place[TH_STORE_PLACE])
{
	struct stat st;

	if (fstatat(store->root_fd, TAG, &st, AT_SYMLINK_NOFOLLOW))
		return -1;
	snprintf(place, TH_STORE_PLACE, "%llx:%llx %.250s",
		(unsigned long long)st.st_dev, (unsigned long long)st.st_ino,
		store->root);
	return 0;
}

static const char *path_of(const char *place)
{
	return place + strcspn(place, " ");
}

/* Another file at another place. The same file has been moved; and what lies at
 * the same place was put back there: what is left of the one before, on the
 * host, is its own. */
static bool is_copy(const struct th_store *store)
{
	char place[TH_STORE_PLACE];

	if (!store->place[0] || find_place(store, place))
		return false;
	return strncmp(place, store->place, strcspn(place, " ") + 1) != 0 &&
		strcmp(path_of(place), path_of(store->place)) != 0;
}

static int put_meta(struct th_store *store, const char *key, const char *value,
	struct th_error *err)
{
	return th_db_run(store->db, err,
		"INSERT INTO meta VALUES(?,?)"
		" ON CONFLICT(key) DO UPDATE SET value=excluded.value",
		"tt", key, value);
}

static int note_place(struct th_store *store, struct th_error *err)
{
	char place[TH_STORE_PLACE];

	/* At one place the file may have another number on each host that has
	 * its disk: that is not worth a transaction. */
	if (find_place(store, place) ||
		strcmp(path_of(place), path_of(store->place)) == 0)
		return 0;
	if (put_meta(store, "place", place, err))
		return -1;
	snprintf(store->place, sizeof(store->place), "%s", place);
	return 0;
}

static int write_tag(struct th_store *store)
{
	int fd = openat(store->root_fd, TAG,
		O_WRONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
	int rc = fd >= 0 &&
			pwrite(fd, store->tag, strlen(store->tag), 0) ==
				(ssize_t)strlen(store->tag) &&
			fdatasync(fd) == 0
		? 0
		: -1;

	th_close(&fd);
	return rc;
}

static void draw_tag(struct th_store *store)
{
	snprintf(store->tag, sizeof(store->tag), "%06x",
		th_random_below(1u << 24));
}

/* The store is a copy, and its containers have the IDs of others: with the same
 * tag, what ends one here would end the other one. The file first: where the
 * rest is not reached, it is a copy still. */
static int take_new_tag(struct th_store *store, struct th_error *err)
{
	int rc;

	if (th_db_begin(store->db, err))
		return -1;
	rc = th_tag_read(store, err);
	/* Another one may have been faster. */
	if (rc == 0 && is_copy(store)) {
		draw_tag(store);
		if (write_tag(store))
			rc = th_fail_write(err, errno, "cannot write %s/" TAG,
				store->root);
		if (rc == 0)
			rc = put_meta(store, "tag", store->tag, err);
		/* Of what runs where it was copied from. */
		if (rc == 0)
			rc = th_db_run(store->db, err,
				"UPDATE containers SET cgroup=''", "");
		if (rc == 0)
			rc = note_place(store, err);
	}
	return th_db_end(store->db, rc, err);
}

static void borrow(struct th_store *store)
{
	store->borrows_tag = true;
	draw_tag(store);
}

void th_tag_borrow(struct th_store *store)
{
	if (is_copy(store))
		borrow(store);
}

static int take_old_tag(
	struct th_store *store, const char *tag, struct th_error *err)
{
	store->state_lost = true;
	snprintf(store->tag, sizeof(store->tag), "%.6s", tag);
	return put_meta(store, "tag", store->tag, err);
}

int th_tag_keep(struct th_store *store, struct th_error *err)
{
	struct th_error ignored = {0}; /* on a full disk: the next time */
	struct th_buf text;
	bool copy = false;
	int rc;

	th_buf_init(&text, sizeof(store->tag) - 1);
	rc = th_file_read_regular(store->root_fd, TAG, &text, err);
	if (rc == 0) {
		rc = th_file_replace(store->root_fd, TAG, store->tag,
			strlen(store->tag), 0644, true, err);
		store->place[0] = '\0'; /* of another file */
	} else if (rc == 1) {
		bool valid = text.len == 6 &&
			strspn(text.data, "0123456789abcdef") == 6;

		rc = 0;
		copy = is_copy(store);
		if (copy && take_new_tag(store, &ignored))
			borrow(store);
		else if (!copy && valid && strcmp(text.data, store->tag) != 0)
			rc = take_old_tag(store, text.data, err);
	}
	/* Of a copy it is noted with the new tag, or not at all. */
	if (rc == 0 && !copy)
		note_place(store, &ignored);
	th_buf_release(&text);
	return rc;
}
