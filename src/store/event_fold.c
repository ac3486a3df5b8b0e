/* The history has bounds: the oldest events of a container that has very many
 * become one, which says how many they were; and so do those of containers that
 * are gone. */
#include <string.h>

#include "store/container_state.h"
#include "store/state_parts.h"

/* How much more than what is kept there may be: whoever adds an event seldom
 * has to fold. */
#define SLACK(keep) ((keep) / 4 + 1)
/* Of removed containers together, so many times what one may have. */
#define GONE_TIMES 50
/* They are looked at with each of so many events. */
#define LOOK_EVERY 256

static int keep_of(struct th_db *db, int64_t *keep, struct th_error *err)
{
	return th_db_number(db, TH_KEEP_EVENTS, keep, err,
		"SELECT value FROM meta WHERE key='keep-events'", "");
}

int th_state_keep_events(struct th_db *db, int64_t keep, struct th_error *err)
{
	int64_t now = 0;

	if (keep < TH_KEEP_EVENTS_MIN)
		keep = TH_KEEP_EVENTS_MIN;
	if (keep_of(db, &now, err) || now == keep)
		return now == keep ? 0 : -1;
	return th_db_run(db, err,
		"INSERT OR REPLACE INTO meta VALUES('keep-events', ?)", "i",
		keep);
}

/* The events of the container ("": of all that are gone) before the one of that
 * number become one in the place of the last of them. */
static int fold(
	struct th_db *db, const char *id, int64_t before, struct th_error *err)
{
#define OLD                                                                    \
	" FROM events WHERE number<?2 AND ((?1<>'' AND container=?1) OR"       \
	" (?1='' AND container NOT IN (SELECT id FROM containers)))"
	struct th_cause cause = {.kind = TH_CAUSE_FOLDED};
	char text[TH_CAUSE_JSON];
	int64_t last = 0;

	if (th_db_number(db, 0, &cause.number, err,
		    "SELECT sum(CASE WHEN json_extract(cause, '$.kind')="
		    "'folded' THEN json_extract(cause, '$.number') ELSE 1 "
		    "END)" OLD,
		    "ti", id, before) ||
		th_db_number(db, 0, &last, err, "SELECT max(number)" OLD, "ti",
			id, before))
		return -1;
	if (!last)
		return 0;
	th_cause_write(&cause, text);
	return th_db_run(db, err, "DELETE" OLD " AND number<>?3", "tii", id,
		       before, last) ||
			th_db_run(db, err,
				"UPDATE events SET container=?1, cause=?2,"
				" from_state='', to_state='', actor='tidyhull',"
				" outcome='', code=0, name=CASE WHEN ?1='' THEN"
				" '' ELSE name END WHERE number=?3",
				"tti", id, text, last)
		? -1
		: 0;
#undef OLD
}

int state_fold_events(struct th_db *db, const char *id, struct th_error *err)
{
	int64_t keep = TH_KEEP_EVENTS, before = 0, last = 0, full = 0;

	if (keep_of(db, &keep, err) ||
		th_db_number(db, 0, &full, err,
			"SELECT number FROM events WHERE container=? ORDER BY"
			" number DESC LIMIT 1 OFFSET ?",
			"ti", id, keep + SLACK(keep)))
		return -1;
	if (full &&
		(th_db_number(db, 0, &before, err,
			 "SELECT number FROM events WHERE container=? ORDER BY"
			 " number DESC LIMIT 1 OFFSET ?",
			 "ti", id, keep - 1) ||
			fold(db, id, before, err)))
		return -1;
	if (th_db_number(
		    db, 0, &last, err, "SELECT max(number) FROM events", ""))
		return -1;
	if (last % LOOK_EVERY)
		return 0;
	if (th_db_number(db, 0, &before, err,
		    "SELECT number FROM events ORDER BY number DESC LIMIT 1"
		    " OFFSET ?",
		    "i", keep * GONE_TIMES))
		return -1;
	return before ? fold(db, "", before, err) : 0;
}

int th_state_fold_sessions(struct th_db *db, const char *container,
	struct th_strings *ids, struct th_error *err)
{
#define OLD                                                                    \
	" FROM sessions WHERE container=?1 AND ended_us>0 AND started_us<="    \
	"(SELECT started_us FROM sessions WHERE container=?1 AND ended_us>0"   \
	" ORDER BY started_us DESC LIMIT 1 OFFSET " TH_KEEP_SESSIONS ")"
	if (state_names(db, ids, err, "SELECT id" OLD, container))
		return -1;
	return ids->count ? th_db_run(db, err, "DELETE" OLD, "t", container)
			  : 0;
#undef OLD
}
