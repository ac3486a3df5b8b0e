#include "store/image_state.h"

#include <dirent.h>
#include <fcntl.h>
#include <fnmatch.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/buffer.h"
#include "base/clock.h"
#include "base/file.h"
#include "oci/manifest.h"
#include "oci/reference.h"
#include "store/state_parts.h"

#define INDEX_MAX ((size_t)256 << 20)

/* An image that is only the outcome of a build's step. */
#define IS_STEP_OF(image)                                                      \
	"(EXISTS(SELECT 1 FROM steps WHERE steps.image=" image ") AND NOT"     \
	" EXISTS(SELECT 1 FROM tags WHERE tags.digest=" image "))"
#define IS_STEP IS_STEP_OF("images.digest")

/* What an image takes on the disk, each layer once, and what others share. */
#define SUM(column, unit, only)                                                \
	"(SELECT coalesce(sum(" column "), 0) FROM (SELECT DISTINCT " unit     \
	", " column " FROM image_layers l WHERE image=images.digest" only "))"
#define SHARED(unit)                                                           \
	" AND EXISTS(SELECT 1 FROM image_layers o WHERE o." unit "=l." unit    \
	" AND o.image<>l.image AND NOT " IS_STEP_OF("o.image") ")"
#define SIZES                                                                  \
	"manifest_size, " SUM("bytes", "blob", "") ", " SUM(                   \
		"tree_bytes", "tree", "") ", " SUM("bytes", "blob",            \
		SHARED("blob")) ", " SUM("tree_bytes", "tree", SHARED("tree"))
#define COLUMNS                                                                \
	"digest, config, platform, created, manifest_size, blob_bytes,"        \
	" pulled_us, (SELECT count(*) FROM containers"                         \
	" WHERE image=images.digest), " SIZES
/* To make a container of it no more is asked. */
#define BRIEF                                                                  \
	"digest, config, platform, created, manifest_size, blob_bytes,"        \
	" pulled_us, 0, 0, 0, 0, 0, 0"

void th_image_rows_free(struct th_image_row *rows, size_t count)
{
	for (size_t i = 0; i < count; i++)
		th_strings_release(&rows[i].tags);
	free(rows);
}

/* What writers that were killed have left beside it (th_file_replace): nobody
 * writes it now but whoever has the database. */
static void remove_unfinished(struct th_store *store)
{
	int fd = openat(
		store->root_fd, "images", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	DIR *dir = fd < 0 ? NULL : fdopendir(fd);
	struct dirent *entry;

	while (dir && (entry = readdir(dir))) {
		if (fnmatch("index.json.*.new", entry->d_name, 0) == 0)
			unlinkat(fd, entry->d_name, 0);
	}
	if (dir)
		closedir(dir);
	else
		th_close(&fd);
}

/* index.json follows the state (OCI Image Specification, image-layout.md).
 * Each change of a name writes all of it: documents of their own for each image
 * would take most of the time that a change takes. */
static int write_file(struct th_store *store, struct th_error *err)
{
	struct th_query *query = NULL;
	struct th_buf text;
	int rc;

	remove_unfinished(store);
	th_buf_init(&text, INDEX_MAX);
	th_buf_adds(&text,
		"{\"schemaVersion\":2,\"mediaType\":\"" TH_MEDIA_INDEX
		"\",\"manifests\":[");
	rc = th_db_query(store->db, &query, err,
		"SELECT json_patch(json_object('mediaType', media, 'digest',"
		" digest, 'size', manifest_size), iif(name IS NULL, '{}',"
		" json_object('annotations', json_object("
		"'org.opencontainers.image.ref.name', name))))"
		" FROM images LEFT JOIN tags USING(digest) WHERE NOT " IS_STEP
		" ORDER BY name, digest",
		"");
	for (const char *comma = "\n"; rc == 0; comma = ",\n") {
		rc = th_query_next(query, err);
		if (rc != 1)
			break;
		th_buf_addf(&text, "%s%s", comma, th_query_text(query, 0));
		rc = 0;
	}
	th_query_end(query);
	th_buf_adds(&text, "]}\n");
	if (rc == 0)
		rc = text.failed
			? th_fail_memory(err)
			: th_file_replace(store->root_fd, "images/index.json",
				  text.data, text.len, 0644, true, err);
	th_buf_release(&text);
	return rc;
}

static int set_meta(struct th_store *store, const char *key, const char *value,
	struct th_error *err)
{
	return th_db_run(store->db, err, "UPDATE meta SET value=? WHERE key=?",
		"tt", value, key);
}

/* Writes index.json in a transaction of its own, once the change that it
 * follows is certain: so it never shows what the state does not have. Whoever
 * dies between the two has left the mark. */
static int write_index(struct th_store *store, struct th_error *err)
{
	int rc;

	if (th_db_begin(store->db, err))
		return -1;
	rc = write_file(store, err);
	if (rc == 0)
		rc = set_meta(store, "index-stale", "0", err);
	return th_db_end(store->db, rc, err);
}

/* A change of images or names survives a power cut: the layout's index shows
 * it, and what it has removed goes from the disk. */
static int begin_change(struct th_store *store, struct th_error *err)
{
	return th_db_begin_durable(store->db, true, err);
}

/* Ends the transaction of a change of images or names. */
static int end_change(struct th_store *store, int rc, struct th_error *err)
{
	struct th_error later = {0};

	if (rc == 0)
		rc = set_meta(store, "index-stale", "1", err);
	rc = th_db_end(store->db, rc, err);
	/* The change is made, whatever becomes of the file: the mark stays, and
	 * the next command writes it. */
	if (rc == 0)
		write_index(store, &later);
	return rc;
}

static int meta_flag(struct th_store *store, const char *key, bool *set,
	struct th_error *err)
{
	int64_t number = 0;

	if (th_db_number(store->db, 0, &number, err,
		    "SELECT value='1' FROM meta WHERE key=?", "t", key))
		return -1;
	*set = number != 0;
	return 0;
}

int th_image_state_repair(struct th_store *store, struct th_error *err)
{
	bool stale = false;

	if (meta_flag(store, "index-stale", &stale, err))
		return -1;
	return stale ? write_index(store, err) : 0;
}

int th_image_state_reclaim_due(
	struct th_store *store, bool *due, struct th_error *err)
{
	return meta_flag(store, "reclaim", due, err);
}

int th_image_state_reclaimed(struct th_store *store, struct th_error *err)
{
	return set_meta(store, "reclaim", "0", err);
}

static int add_rows(struct th_store *store, const struct th_image_row *image,
	const struct th_image_layer *layers, size_t layer_count,
	const char *name, const char *index, struct th_error *err)
{
	if (th_db_run(store->db, err,
		    "INSERT OR IGNORE INTO images(digest, config, platform,"
		    " created, manifest_size, blob_bytes, pulled_us, media,"
		    " folders, root_tree)"
		    " VALUES(?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
		    "ttttiiittt", image->digest, image->config, image->platform,
		    image->created, (int64_t)image->manifest_bytes,
		    (int64_t)image->blob_bytes, th_clock_now_us(),
		    image->media[0] ? image->media : TH_MEDIA_MANIFEST,
		    image->folders, image->root))
		return -1;
	for (size_t i = 0; i < layer_count; i++) {
		if (th_db_run(store->db, err,
			    "INSERT OR IGNORE INTO image_layers(image,"
			    " position, diff_id, blob, bytes, tree_bytes,"
			    " tree) VALUES(?, ?, ?, ?, ?, ?, ?)",
			    "tittiit", image->digest, (int64_t)i,
			    layers[i].diff_id, layers[i].blob,
			    (int64_t)layers[i].size_bytes,
			    (int64_t)layers[i].tree_bytes, layers[i].tree))
			return -1;
	}
	if (name &&
		th_db_run(store->db, err,
			"INSERT OR REPLACE INTO tags(name, digest)"
			" VALUES(?, ?)",
			"tt", name, image->digest))
		return -1;
	if (index &&
		th_db_run(store->db, err,
			"INSERT OR IGNORE INTO index_digests(digest, image)"
			" VALUES(?, ?)",
			"tt", index, image->digest))
		return -1;
	return 0;
}

int th_image_state_add(struct th_store *store, const struct th_image_row *image,
	const struct th_image_layer *layers, size_t layer_count,
	const char *name, const char *index, struct th_error *err)
{
	int rc;

	if (begin_change(store, err))
		return -1;
	rc = add_rows(store, image, layers, layer_count, name, index, err);
	return end_change(store, rc, err);
}

int th_image_state_add_step(struct th_store *store,
	const struct th_image_row *image, const struct th_image_layer *layers,
	size_t layer_count, const struct th_step_key *step,
	struct th_error *err)
{
	int rc;

	if (th_db_begin(store->db, err))
		return -1;
	rc = add_rows(store, image, layers, layer_count, NULL, NULL, err);
	if (rc == 0)
		rc = th_db_run(store->db, err,
			"INSERT OR REPLACE INTO steps(key, image, boot,"
			" used_us, parent, text, content)"
			" VALUES(?, ?, ?, ?, ?, ?, ?)",
			"tttittt", step->key, image->digest, store->boot_id,
			th_clock_now_us(), step->parent, step->text,
			step->content);
	return th_db_end(store->db, rc, err);
}

int th_image_state_is(struct th_store *store, const char *digest,
	const char *name, struct th_error *err)
{
	int64_t there = 0, named = 1;

	if (th_db_number(store->db, 0, &there, err,
		    "SELECT count(*) FROM images WHERE digest=?", "t",
		    digest) ||
		(name &&
			th_db_number(store->db, 0, &named, err,
				"SELECT count(*) FROM tags WHERE name=? AND"
				" digest=?",
				"tt", name, digest)))
		return -1;
	return there ? named ? 2 : 1 : 0;
}

int th_image_state_tag(struct th_store *store, const char *digest,
	const char *name, char before[TH_DIGEST_TEXT], struct th_error *err)
{
	struct th_query *query = NULL;
	int64_t there = 0;
	int rc;

	before[0] = '\0';
	if (begin_change(store, err))
		return -1;
	rc = th_db_number(store->db, 0, &there, err,
		"SELECT count(*) FROM images WHERE digest=?", "t", digest);
	if (rc == 0 && !there)
		rc = th_fail(err, TH_NOT_FOUND,
			"the image %.19s is not in this store", digest);
	if (rc == 0)
		rc = th_db_query(store->db, &query, err,
			"SELECT digest FROM tags WHERE name=?", "t", name);
	if (rc == 0 && th_query_next(query, err) == 1)
		snprintf(before, TH_DIGEST_TEXT, "%s", th_query_text(query, 0));
	th_query_end(query);
	if (rc == 0)
		rc = th_db_run(store->db, err,
			"INSERT OR REPLACE INTO tags(name, digest)"
			" VALUES(?, ?)",
			"tt", name, digest);
	return end_change(store, rc, err);
}

int th_image_state_needed(struct th_store *store, struct th_strings *blobs,
	struct th_strings *trees, struct th_error *err)
{
	struct th_query *query = NULL;

	if (th_db_query(store->db, &query, err,
		    "SELECT digest FROM images UNION SELECT config FROM images"
		    " UNION SELECT blob FROM image_layers ORDER BY 1",
		    "") ||
		state_read_names(query, blobs, err) ||
		th_db_query(store->db, &query, err,
			"SELECT tree FROM image_layers WHERE tree<>''"
			" UNION SELECT folders FROM images WHERE folders<>''"
			" ORDER BY 1",
			""))
		return -1;
	return state_read_names(query, trees, err);
}

int th_image_state_trees(struct th_store *store, const char *digest,
	struct th_strings *trees, char root[TH_TREE_TEXT], struct th_error *err)
{
	struct th_query *query = NULL;
	int rc;

	root[0] = '\0';
	if (th_db_query(store->db, &query, err,
		    "SELECT root_tree FROM images WHERE digest=?", "t", digest))
		return -1;
	rc = th_query_next(query, err);
	if (rc == 1)
		snprintf(root, TH_TREE_TEXT, "%s", th_query_text(query, 0));
	th_query_end(query);
	if (rc < 0 ||
		th_db_query(store->db, &query, err,
			"SELECT tree, position FROM image_layers"
			" WHERE image=?1 AND tree<>''"
			" UNION SELECT folders, 1000000 FROM images"
			" WHERE digest=?1 AND folders<>'' ORDER BY 2",
			"t", digest))
		return -1;
	return state_read_names(query, trees, err);
}

int th_image_state_sharers(struct th_store *store, const char *diff_id,
	const char *except, struct th_strings *names, struct th_error *err)
{
	struct th_query *query = NULL;

	if (th_db_query(store->db, &query, err,
		    "SELECT coalesce((SELECT min(name) FROM tags"
		    " WHERE digest=image), image) FROM (SELECT DISTINCT image"
		    " FROM image_layers WHERE diff_id=? AND image<>?"
		    " AND NOT " IS_STEP_OF(
			    "image_layers.image") ")"
						  " ORDER BY image",
		    "tt", diff_id, except))
		return -1;
	return state_read_names(query, names, err);
}

int th_image_state_names(
	struct th_store *store, struct th_strings *names, struct th_error *err)
{
	struct th_query *query = NULL;

	if (th_db_query(store->db, &query, err,
		    "SELECT name FROM tags ORDER BY name", ""))
		return -1;
	return state_read_names(query, names, err);
}

static void copy(char *to, size_t size, struct th_query *query, int column)
{
	snprintf(to, size, "%s", th_query_text(query, column));
}

static int read_tags(
	struct th_store *store, struct th_image_row *row, struct th_error *err)
{
	struct th_query *query = NULL;

	if (th_db_query(store->db, &query, err,
		    "SELECT name FROM tags WHERE digest=? ORDER BY name", "t",
		    row->digest))
		return -1;
	return state_read_names(query, &row->tags, err);
}

static int read_rows(struct th_store *store, struct th_query *query,
	struct th_image_row **rows, size_t *count, struct th_error *err)
{
	struct th_image_row *list = NULL;
	size_t used = 0;
	int rc;

	while ((rc = th_query_next(query, err)) == 1) {
		struct th_image_row *bigger, *row;

		bigger = realloc(list, (used + 1) * sizeof(*list));
		if (!bigger) {
			rc = th_fail_memory(err);
			break;
		}
		list = bigger;
		row = &list[used++];
		memset(row, 0, sizeof(*row));
		copy(row->digest, sizeof(row->digest), query, 0);
		copy(row->config, sizeof(row->config), query, 1);
		copy(row->platform, sizeof(row->platform), query, 2);
		copy(row->created, sizeof(row->created), query, 3);
		row->manifest_bytes = (uint64_t)th_query_int(query, 4);
		row->blob_bytes = (uint64_t)th_query_int(query, 5);
		row->pulled_us = th_query_int(query, 6);
		row->containers = th_query_int(query, 7);
		row->disk_bytes = (uint64_t)(th_query_int(query, 8) +
			th_query_int(query, 9) + th_query_int(query, 10));
		row->shared_bytes = (uint64_t)(th_query_int(query, 11) +
			th_query_int(query, 12));
	}
	for (size_t i = 0; rc == 0 && i < used; i++)
		rc = read_tags(store, &list[i], err);
	if (rc < 0) {
		th_image_rows_free(list, used);
		return -1;
	}
	*rows = list;
	*count = used;
	return 0;
}

/* The digits of a digest's beginning, or NULL where text is none. */
static const char *digest_prefix(const char *text)
{
	size_t len;

	if (strncmp(text, "sha256:", 7) == 0 ||
		strncmp(text, "sha512:", 7) == 0)
		text += 7;
	len = strlen(text);
	if (len < 4 || len > TH_DIGEST_HEX_MAX ||
		strspn(text, "0123456789abcdef") != len)
		return NULL;
	return text;
}

#define OF_DIGEST(columns)                                                     \
	"SELECT " columns " FROM images WHERE digest=?1 OR"                    \
	" digest IN (SELECT image FROM index_digests"                          \
	"  WHERE digest=?1) ORDER BY pulled_us DESC LIMIT 1"
/* A host ends at the first slash, and no host is no part of a path. */
#define OF_NAME(columns)                                                       \
	"SELECT " columns " FROM images WHERE digest IN"                       \
	" (SELECT digest FROM tags WHERE name=?1 OR (?2 AND"                   \
	"  substr(name, instr(name, '/') + 1)=?1 AND"                          \
	"  (substr(name, 1, instr(name, '/')) LIKE '%.%' OR"                   \
	"   substr(name, 1, instr(name, '/')) LIKE '%:%' OR"                   \
	"   substr(name, 1, instr(name, '/'))='localhost/')))"                 \
	" ORDER BY pulled_us"
#define OF_DIGITS(columns)                                                     \
	"SELECT " columns " FROM images"                                       \
	" WHERE substr(digest, 8, length(?1))=?1"                              \
	" OR digest IN (SELECT image FROM index_digests"                       \
	"  WHERE substr(digest, 8, length(?1))=?1)"                            \
	" ORDER BY pulled_us"

static int query_named(struct th_store *store, const char *text, bool brief,
	struct th_query **query, struct th_error *err)
{
	struct th_reference ref;
	struct th_error ignored = {0}; /* then it is no name */
	char name[TH_REFERENCE_MAX + 256] = "";

	if (th_reference_parse(text, &ref, &ignored) == 0)
		th_reference_format(&ref, name);
	if (ref.digest[0] && name[0])
		return th_db_query(store->db, query, err,
			brief ? OF_DIGEST(BRIEF) : OF_DIGEST(COLUMNS), "t",
			ref.digest);
	return th_db_query(store->db, query, err,
		brief ? OF_NAME(BRIEF) : OF_NAME(COLUMNS), "ti", name,
		(int64_t)!ref.host[0]);
}

static int find(struct th_store *store, const char *text, bool brief,
	struct th_image_row **rows, size_t *count, struct th_error *err)
{
	const char *digits = text ? digest_prefix(text) : NULL;
	struct th_query *query = NULL;
	int rc;

	if (!text)
		rc = th_db_query(store->db, &query, err,
			"SELECT " COLUMNS " FROM images WHERE NOT " IS_STEP
			" ORDER BY pulled_us",
			"");
	else
		rc = query_named(store, text, brief, &query, err);
	if (rc == 0)
		rc = read_rows(store, query, rows, count, err);
	th_query_end(query);
	if (rc || *count || !digits)
		return rc;
	free(*rows);
	query = NULL;
	if (th_db_query(store->db, &query, err,
		    brief ? OF_DIGITS(BRIEF) : OF_DIGITS(COLUMNS), "t", digits))
		return -1;
	rc = read_rows(store, query, rows, count, err);
	th_query_end(query);
	return rc;
}

int th_image_state_find(struct th_store *store, const char *text,
	struct th_image_row **rows, size_t *count, struct th_error *err)
{
	return find(store, text, false, rows, count, err);
}

int th_image_state_find_brief(struct th_store *store, const char *text,
	struct th_image_row **rows, size_t *count, struct th_error *err)
{
	return find(store, text, true, rows, count, err);
}

int th_image_state_layers(struct th_store *store, const char *digest,
	struct th_image_layer **layers, size_t *count, struct th_error *err)
{
	struct th_image_layer *list = NULL;
	struct th_query *query = NULL;
	size_t used = 0;
	int rc;

	if (th_db_query(store->db, &query, err,
		    "SELECT diff_id, blob, bytes, tree_bytes, tree"
		    " FROM image_layers"
		    " WHERE image=? ORDER BY position",
		    "t", digest))
		return -1;
	list = calloc(TH_LAYERS_MAX + 1, sizeof(*list));
	if (!list) {
		th_query_end(query);
		return th_fail_memory(err);
	}
	while ((rc = th_query_next(query, err)) == 1 && used < TH_LAYERS_MAX) {
		copy(list[used].diff_id, TH_DIGEST_TEXT, query, 0);
		copy(list[used].blob, TH_DIGEST_TEXT, query, 1);
		list[used].size_bytes = (uint64_t)th_query_int(query, 2);
		list[used].tree_bytes = (uint64_t)th_query_int(query, 3);
		copy(list[used].tree, TH_TREE_TEXT, query, 4);
		used++;
	}
	th_query_end(query);
	if (rc < 0) {
		free(list);
		return -1;
	}
	*layers = list;
	*count = used;
	return 0;
}

static int remove_rows(
	struct th_store *store, const char *digest, struct th_error *err)
{
	int64_t users = 0;

	if (th_db_number(store->db, 0, &users, err,
		    "SELECT count(*) FROM containers WHERE image=?", "t",
		    digest))
		return -1;
	if (users)
		return th_fail(err, TH_IN_USE,
			"the image %.12s is used by %" PRId64 " container%s",
			th_digest_hex(digest), users, users == 1 ? "" : "s");
	return th_db_run(store->db, err, "DELETE FROM tags WHERE digest=?", "t",
		       digest) ||
			th_db_run(store->db, err,
				"DELETE FROM images WHERE digest=?", "t",
				digest) ||
			set_meta(store, "reclaim", "1", err)
		? -1
		: 0;
}

int th_image_state_untag(
	struct th_store *store, const char *name, struct th_error *err)
{
	struct th_query *query = NULL;
	char digest[TH_DIGEST_TEXT] = "";
	int64_t names = 0;
	int rc;

	if (begin_change(store, err))
		return -1;
	rc = th_db_query(store->db, &query, err,
		"SELECT digest FROM tags WHERE name=?", "t", name);
	if (rc == 0 && th_query_next(query, err) == 1)
		copy(digest, sizeof(digest), query, 0);
	th_query_end(query);
	if (rc == 0 && !digest[0])
		rc = th_fail(
			err, TH_NOT_FOUND, "no image has the name %s", name);
	if (rc == 0)
		rc = th_db_number(store->db, 0, &names, err,
			"SELECT count(*) FROM tags WHERE digest=?", "t",
			digest);
	if (rc == 0)
		rc = names > 1
			? th_db_run(store->db, err,
				  "DELETE FROM tags WHERE name=?", "t", name)
			: remove_rows(store, digest, err);
	rc = end_change(store, rc, err);
	return rc ? -1 : names > 1 ? 0 : 1;
}

int th_image_state_remove(
	struct th_store *store, const char *digest, struct th_error *err)
{
	if (begin_change(store, err))
		return -1;
	return end_change(store, remove_rows(store, digest, err), err);
}

int th_image_state_remove_nameless(
	struct th_store *store, const char *digest, struct th_error *err)
{
	int removed = 0, rc;

	if (begin_change(store, err))
		return -1;
	rc = th_db_run(store->db, err,
		"DELETE FROM images WHERE digest=?1"
		" AND NOT EXISTS(SELECT 1 FROM tags WHERE digest=?1)"
		" AND NOT EXISTS(SELECT 1 FROM containers WHERE image=?1)",
		"t", digest);
	if (rc == 0)
		removed = th_db_changed(store->db) > 0;
	if (rc == 0 && removed)
		rc = set_meta(store, "reclaim", "1", err);
	rc = end_change(store, rc, err);
	return rc ? -1 : removed;
}
