/* Memory for what comes and goes. In a child, as nothing may have been taken
 * from jansson or SQLite before. */
#include <jansson.h>
#include <sqlite3.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/json.h"
#include "keeper/scratch.h"
#include "unit/unit.h"

/* 0 where all is well. */
static int use(void)
{
	static char big[6 << 20];
	sqlite3 *db = NULL;
	json_t *doc, *large;
	char *text;
	int bad = 0;

	sqlite3_shutdown();
	scratch_begin();
	for (int round = 0; round < 3; round++) {
		doc = json_pack("{s:s s:[i,i,i]}", "harbour", "selwick",
			"berths", 1, 2, 3);
		bad |= !doc;
		/* What is larger than all of it comes from elsewhere. */
		memset(big, 'a', sizeof(big) - 1);
		large = json_string(big);
		bad |= strlen(json_string_value(large)) != sizeof(big) - 1;
		text = th_json_text(doc, JSON_COMPACT);
		bad |= strcmp(text,
			       "{\"harbour\":\"selwick\",\"berths\":[1,2,3]"
			       "}") != 0;
		scratch_trim(); /* not while something is in use */
		bad |= json_array_size(json_object_get(doc, "berths")) != 3;
		json_decref(large);
		json_decref(doc);
		scratch_trim();
		/* That is the heap's. */
		bad |= text[1] != '"';
		free(text);
		bad |= sqlite3_open(":memory:", &db) != SQLITE_OK;
		bad |= sqlite3_exec(db,
			       "CREATE TABLE t(a); WITH RECURSIVE n(i) AS "
			       "(SELECT 1 UNION ALL SELECT i+1 FROM n WHERE "
			       "i<5000) INSERT INTO t SELECT "
			       "hex(randomblob(i%300)) FROM n;"
			       "CREATE INDEX i ON t(a); DELETE FROM t WHERE "
			       "rowid%2",
			       NULL, NULL, NULL) != SQLITE_OK;
		bad |= sqlite3_close(db) != SQLITE_OK;
		scratch_trim();
	}
	return bad;
}

static void what_is_used_stays_and_the_rest_goes(void)
{
	pid_t pid = fork();
	int status = -1;

	if (pid == 0)
		_exit(use());
	waitpid(pid, &status, 0);
	CHECK_INT(status, 0);
}

static const CU_TestInfo tests[] = {
	{"what is used stays and the rest goes",
		what_is_used_stays_and_the_rest_goes},
	CU_TEST_INFO_NULL};

const struct suite suite_scratch = {"scratch", tests};
