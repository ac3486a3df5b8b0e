#include "store/schema.h"

#include <stddef.h>

static const char *const step_1[] = {
	"CREATE TABLE meta(key TEXT PRIMARY KEY, value TEXT) WITHOUT ROWID",
	/* A few characters that tell this store's devices, rules and cgroups
	 * from those of other stores on the same host. */
	"INSERT INTO meta VALUES('tag', lower(hex(randomblob(3))))",

	"CREATE TABLE images(digest TEXT PRIMARY KEY, config TEXT NOT NULL,"
	" platform TEXT NOT NULL, created TEXT NOT NULL,"
	" manifest_size INTEGER NOT NULL, blob_bytes INTEGER NOT NULL,"
	" pulled_us INTEGER NOT NULL) WITHOUT ROWID",
	"CREATE TABLE tags(name TEXT PRIMARY KEY, digest TEXT NOT NULL"
	" REFERENCES images(digest)) WITHOUT ROWID",
	"CREATE INDEX tags_digest ON tags(digest)",
	"CREATE TABLE image_layers(image TEXT NOT NULL"
	" REFERENCES images(digest) ON DELETE CASCADE,"
	" position INTEGER NOT NULL, diff_id TEXT NOT NULL,"
	" blob TEXT NOT NULL, bytes INTEGER NOT NULL,"
	" PRIMARY KEY(image, position)) WITHOUT ROWID",
	"CREATE INDEX layers_diff ON image_layers(diff_id)",
	"CREATE INDEX layers_blob ON image_layers(blob)",

	"CREATE TABLE containers(id TEXT PRIMARY KEY,"
	" name TEXT NOT NULL UNIQUE, image TEXT NOT NULL,"
	" image_name TEXT NOT NULL, command TEXT NOT NULL,"
	" network TEXT NOT NULL, state TEXT NOT NULL,"
	" outcome TEXT NOT NULL DEFAULT '', code INTEGER NOT NULL DEFAULT 0,"
	" reason TEXT NOT NULL DEFAULT '', keep INTEGER NOT NULL,"
	" pid INTEGER NOT NULL DEFAULT 0, boot TEXT NOT NULL DEFAULT '',"
	" created_us INTEGER NOT NULL,"
	" started_us INTEGER NOT NULL DEFAULT 0,"
	" ended_us INTEGER NOT NULL DEFAULT 0) WITHOUT ROWID",
	"CREATE INDEX containers_image ON containers(image)",
	"CREATE TABLE events(number INTEGER PRIMARY KEY,"
	" time_us INTEGER NOT NULL, container TEXT NOT NULL,"
	" name TEXT NOT NULL, from_state TEXT NOT NULL,"
	" to_state TEXT NOT NULL, cause TEXT NOT NULL, actor TEXT NOT NULL)",
	"CREATE INDEX events_container ON events(container, number)",
	"CREATE TABLE ports(container TEXT NOT NULL"
	" REFERENCES containers(id) ON DELETE CASCADE,"
	" protocol TEXT NOT NULL, address TEXT NOT NULL,"
	" host_port INTEGER NOT NULL, port INTEGER NOT NULL,"
	" PRIMARY KEY(protocol, address, host_port)) WITHOUT ROWID",
	"CREATE INDEX ports_container ON ports(container)",
	"CREATE TABLE networks(name TEXT PRIMARY KEY, number INTEGER UNIQUE,"
	" subnet4 TEXT NOT NULL, subnet6 TEXT NOT NULL,"
	" created_us INTEGER NOT NULL) WITHOUT ROWID",
	"CREATE TABLE addresses(network TEXT NOT NULL"
	" REFERENCES networks(name), slot INTEGER NOT NULL,"
	" container TEXT NOT NULL REFERENCES containers(id) ON DELETE CASCADE,"
	" address4 TEXT NOT NULL, address6 TEXT NOT NULL,"
	" PRIMARY KEY(network, slot)) WITHOUT ROWID",
	"CREATE INDEX addresses_container ON addresses(container)",
	"CREATE TABLE sessions(id TEXT PRIMARY KEY, container TEXT NOT NULL"
	" REFERENCES containers(id) ON DELETE CASCADE,"
	" command TEXT NOT NULL, user TEXT NOT NULL, pid INTEGER NOT NULL,"
	" started_us INTEGER NOT NULL, ended_us INTEGER NOT NULL DEFAULT 0,"
	" code INTEGER NOT NULL DEFAULT 0) WITHOUT ROWID",
	"CREATE INDEX sessions_container ON sessions(container)", NULL};

static const char *const step_2[] = {
	/* What an unpacked layer takes on the disk; 0: not known. */
	"ALTER TABLE image_layers ADD COLUMN tree_bytes INTEGER NOT NULL"
	" DEFAULT 0",
	/* Its media type, as the manifest itself says it. */
	"ALTER TABLE images ADD COLUMN media TEXT NOT NULL"
	" DEFAULT 'application/vnd.oci.image.manifest.v1+json'",
	/* The index through which an image was found, so that it is found by
	 * that digest again. */
	"CREATE TABLE index_digests(digest TEXT NOT NULL, image TEXT NOT NULL"
	" REFERENCES images(digest) ON DELETE CASCADE,"
	" PRIMARY KEY(digest, image)) WITHOUT ROWID",
	/* What is to be done once more, because whoever did it may have died:
	 * to write index.json anew, to remove what no image has. */
	"INSERT INTO meta VALUES('index-stale', '0'), ('reclaim', '0')", NULL};

static const char *const step_3[] = {
	/* The restart policy as it was written, how often it has come true in
	 * a row and in all, and when it will again. */
	"ALTER TABLE containers ADD COLUMN restart TEXT NOT NULL DEFAULT ''",
	"ALTER TABLE containers ADD COLUMN tries INTEGER NOT NULL DEFAULT 0",
	"ALTER TABLE containers ADD COLUMN restarts INTEGER NOT NULL DEFAULT 0",
	"ALTER TABLE containers ADD COLUMN next_us INTEGER NOT NULL DEFAULT 0",
	/* 1 from a start until a person's stop, or an end that holds. */
	"ALTER TABLE containers ADD COLUMN wanted INTEGER NOT NULL DEFAULT 0",
	"ALTER TABLE containers ADD COLUMN probe TEXT NOT NULL DEFAULT ''",
	"ALTER TABLE containers ADD COLUMN health TEXT NOT NULL DEFAULT ''",
	/* Its control group, below the mount point. */
	"ALTER TABLE containers ADD COLUMN cgroup TEXT NOT NULL DEFAULT ''",
	"ALTER TABLE events ADD COLUMN outcome TEXT NOT NULL DEFAULT ''",
	"ALTER TABLE events ADD COLUMN code INTEGER NOT NULL DEFAULT 0",
	"ALTER TABLE sessions ADD COLUMN actor TEXT NOT NULL DEFAULT ''",
	"ALTER TABLE sessions ADD COLUMN background INTEGER NOT NULL DEFAULT 0",
	NULL};

static const char *const step_4[] = {
	"CREATE TABLE volumes(name TEXT PRIMARY KEY,"
	" own TEXT NOT NULL DEFAULT '', created_us INTEGER NOT NULL,"
	" used_us INTEGER NOT NULL DEFAULT 0) WITHOUT ROWID",
	"CREATE TABLE volume_uses(container TEXT NOT NULL"
	" REFERENCES containers(id) ON DELETE CASCADE, target TEXT NOT NULL,"
	" volume TEXT NOT NULL REFERENCES volumes(name),"
	" PRIMARY KEY(container, target)) WITHOUT ROWID",
	"CREATE INDEX volume_uses_volume ON volume_uses(volume)",
	/* A volume remembers when it was given up. */
	"CREATE TRIGGER volume_given_up AFTER DELETE ON volume_uses BEGIN"
	" UPDATE volumes SET used_us="
	" CAST((julianday('now') - 2440587.5) * 86400000000 AS INTEGER)"
	" WHERE name=OLD.volume; END",
	NULL};

static const char *const step_5[] = {
	/* Further names on its network, each with a space before it. */
	"ALTER TABLE containers ADD COLUMN aliases TEXT NOT NULL DEFAULT ''",
	NULL};

static const char *const step_6[] = {
	/* Which parts of its subnets a person chose; whether it has no way out;
	 * whether it came by itself. */
	"ALTER TABLE networks ADD COLUMN given4 INTEGER NOT NULL DEFAULT 0",
	"ALTER TABLE networks ADD COLUMN given6 INTEGER NOT NULL DEFAULT 0",
	"ALTER TABLE networks ADD COLUMN internal INTEGER NOT NULL DEFAULT 0",
	"ALTER TABLE networks ADD COLUMN by_hand INTEGER NOT NULL DEFAULT 0",
	/* Networks that a container is to be on, and addresses it asks for. */
	"CREATE TABLE network_uses(container TEXT NOT NULL"
	" REFERENCES containers(id) ON DELETE CASCADE,"
	" position INTEGER NOT NULL, network TEXT NOT NULL"
	" REFERENCES networks(name), address4 TEXT NOT NULL,"
	" address6 TEXT NOT NULL, PRIMARY KEY(container, position))"
	" WITHOUT ROWID",
	"CREATE INDEX network_uses_network ON network_uses(network)",
	"INSERT OR IGNORE INTO networks(name, number, subnet4, subnet6,"
	" created_us) SELECT DISTINCT network, (SELECT coalesce(max(number),"
	" -1) + 1 FROM networks), '', '', created_us FROM containers"
	" WHERE network='quayside' GROUP BY network",
	"INSERT INTO network_uses SELECT id, 0, network, '', '' FROM containers"
	" WHERE network IN (SELECT name FROM networks)",
	NULL};

static const char *const step_7[] = {
	/* Whether an unprivileged user's containers on it may use what listens
	 * on the host's loopback. */
	"ALTER TABLE networks ADD COLUMN loopback INTEGER NOT NULL DEFAULT 0",
	NULL};

static const char *const step_8[] = {
	/* The tree that stands for the layer in this image's root; the one on
	 * top of all; and that which has the root's attributes. */
	"ALTER TABLE image_layers ADD COLUMN tree TEXT NOT NULL DEFAULT ''",
	"UPDATE image_layers SET tree=diff_id",
	"CREATE INDEX layers_tree ON image_layers(tree)",
	"ALTER TABLE images ADD COLUMN folders TEXT NOT NULL DEFAULT ''",
	"ALTER TABLE images ADD COLUMN root_tree TEXT NOT NULL DEFAULT ''",
	NULL};

static const char *const step_9[] = {
	/* What a step of a build has made: an image without a name. boot is
	 * that of the host's kernel as long as the files are not synced, which
	 * counts until its next start. */
	"CREATE TABLE steps(key TEXT PRIMARY KEY, image TEXT NOT NULL"
	" REFERENCES images(digest) ON DELETE CASCADE, boot TEXT NOT NULL,"
	" used_us INTEGER NOT NULL, parent TEXT NOT NULL, text TEXT NOT NULL,"
	" content TEXT NOT NULL) WITHOUT ROWID",
	"CREATE INDEX steps_text ON steps(text)",
	"CREATE INDEX steps_image ON steps(image)",
	"CREATE INDEX steps_boot ON steps(boot) WHERE boot<>''",
	/* The build that a container was made for, and goes with. */
	"ALTER TABLE containers ADD COLUMN build TEXT NOT NULL DEFAULT ''",
	"CREATE INDEX containers_build ON containers(build) WHERE build<>''",
	NULL};

static const char *const step_10[] = {
	/* A container that is to take the place of another, while a command is
	 * at it: maker is its lock (th_build_lock), stage an enum th_stage; up
	 * is 1 where the other one ran, and places are the addresses that it
	 * had then: "NETWORK=ADDRESS ...". */
	"CREATE TABLE replacements(successor TEXT PRIMARY KEY"
	" REFERENCES containers(id) ON DELETE CASCADE,"
	" container TEXT NOT NULL UNIQUE"
	" REFERENCES containers(id) ON DELETE CASCADE,"
	" maker TEXT NOT NULL, stage INTEGER NOT NULL DEFAULT 0,"
	" up INTEGER NOT NULL, places TEXT NOT NULL) WITHOUT ROWID",
	/* Containers that belong together: under which name the group's file
	 * describes one, what it is started after, and a digest of all that
	 * the file says of it. */
	"CREATE TABLE members(container TEXT PRIMARY KEY"
	" REFERENCES containers(id) ON DELETE CASCADE,"
	" grp TEXT NOT NULL, member TEXT NOT NULL, after TEXT NOT NULL,"
	" settings TEXT NOT NULL) WITHOUT ROWID",
	"CREATE INDEX members_grp ON members(grp)", NULL};

/* Causes become objects, which programs can read. */
#define STOPPED(what)                                                          \
	" WHEN " what "='stopped' THEN '{\"kind\":\"stopped\"}'"               \
	" WHEN " what "='stopped, and killed after the grace period'"          \
	" THEN '{\"kind\":\"stopped\",\"by-force\":true}'"                     \
	" WHEN " what "='stopped to be restarted'"                             \
	" THEN '{\"kind\":\"stopped-to-restart\"}'"
#define TOLD(what) " ELSE json_object('kind', 'told', 'text', " what ")"

static const char *const step_11[] = {
	"UPDATE events SET cause=CASE"
	" WHEN cause IN ('created', 'started', 'paused', 'resumed', 'removed')"
	" THEN json_object('kind', cause)"
	" WHEN cause='started again' THEN '{\"kind\":\"started-again\"}'"
	" WHEN cause='its process ended' THEN '{\"kind\":\"ended\"}'"
	" WHEN cause='its keeper was asked to end'"
	" THEN '{\"kind\":\"keeper-ended\"}'"
	" WHEN cause='its probe succeeded'"
	" THEN '{\"kind\":\"probe-succeeded\"}'"
	" WHEN cause GLOB 'was sent signal [0-9]*' AND cause NOT LIKE '%;%'"
	" THEN json_object('kind', 'sent-signal', 'number',"
	" CAST(substr(cause, 17) AS INTEGER))"
	" WHEN cause GLOB 'its probe failed [0-9]* times in a row: *'"
	" THEN json_object('kind', 'probe-failed', 'number',"
	" CAST(substr(cause, 18) AS INTEGER), 'text',"
	" substr(cause, instr(cause, ': ') + 2))"
	" WHEN cause GLOB 'could not be started: *' AND cause NOT LIKE '%;%'"
	" THEN json_object('kind', 'could-not-start', 'text',"
	" substr(cause, 23))" STOPPED("cause") TOLD("cause") " END",
	"ALTER TABLE containers RENAME COLUMN reason TO cause",
	/* An end that nobody asked for had no reason. */
	"UPDATE containers SET cause=CASE"
	" WHEN outcome='' THEN ''"
	" WHEN outcome='could-not-start' THEN json_object('kind',"
	" 'could-not-start', 'text', substr(cause,"
	" 1 + 22 * (cause GLOB 'could not be started: *')))"
	" WHEN outcome IN ('host-restarted', 'keeper-lost', 'out-of-memory')"
	" THEN json_object('kind', outcome)"
	" WHEN cause='' THEN json_object('kind', iif(outcome='signal',"
	" 'stray-signal', 'ended'), 'number', iif(outcome='signal', code, 0))"
	" WHEN cause GLOB 'stopped while it waited*'"
	" THEN '{\"kind\":\"stopped\",\"while-waiting\":true}'"
	" WHEN cause GLOB 'was sent signal [0-9]*' THEN json_object('kind',"
	" 'sent-signal', 'number', CAST(substr(cause, 17) AS INTEGER))" STOPPED(
		"cause") TOLD("cause") " END",
	NULL};

static const char *const step_12[] = {
	/* Those that are looked at by every list, whatever is kept
	 * (th_state_list_up). */
	"CREATE INDEX containers_up ON containers(created_us)"
	" WHERE " TH_SCHEMA_UP,
	NULL};

const char *const *const th_schema_steps[TH_SCHEMA_VERSION] = {step_1, step_2,
	step_3, step_4, step_5, step_6, step_7, step_8, step_9, step_10,
	step_11, step_12};
