#include "e2e/shapes.h"

#include <jansson.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

static FILE *kept;
static json_t *names; /* of schemas that were kept for */

static bool has_word(char *const *words, const char *word)
{
	for (; *words && strcmp(*words, "--") != 0; words++) {
		if (strcmp(*words, word) == 0)
			return true;
	}
	return false;
}

/* The schema of what these words print; "" where they print no document of
 * ours. */
static void name_schema(char *const *words, char name[64])
{
	static const char *const kinds[] = {
		"images", "volumes", "networks", "sessions"};
	const char *verb = words[1] ? words[1] : "";
	bool lines = has_word(words, "--json-lines");

	name[0] = '\0';
	if (verb[0] == '-' || strcmp(verb, "oci") == 0 ||
		has_word(words, "--field") ||
		(!has_word(words, "--json") && !has_word(words, "-j") &&
			!lines))
		return;
	snprintf(name, 64, "%s", verb);
	if (strcmp(verb, "list") == 0) {
		snprintf(name, 64, "list-containers");
		for (size_t i = 0; i < sizeof(kinds) / sizeof(*kinds); i++) {
			if (has_word(words, kinds[i]))
				snprintf(name, 64, "list-%s", kinds[i]);
		}
	}
	if (strcmp(verb, "doctor") == 0 &&
		(has_word(words, "--verify") || has_word(words, "--repair")))
		snprintf(name, 64, "doctor-verify");
	if (strcmp(verb, "peek") == 0 && has_word(words, "--tags"))
		snprintf(name, 64, "peek-tags");
	if (lines && strcmp(verb, "meter") != 0)
		snprintf(name, 64, "%s-line", verb);
}

static void keep(const char *schema, char *const *words, json_t *doc)
{
	char line[300] = "";
	const char *verb = words[1];
	json_t *record;

	for (size_t used = 0; *words && used < sizeof(line); words++) {
		snprintf(line + used, sizeof(line) - used, "%s ", *words);
		used = strlen(line);
	}
	if (!kept) {
		kept = tmpfile();
		names = json_object();
	}
	json_object_set_new(names, schema, json_true());
	record = json_pack("{s:s s:o}", "schema", schema, "document", doc);
	/* It may be cut within a character. */
	if (json_object_set_new(record, "line", json_string(line)))
		json_object_set_new(record, "line", json_string(verb));
	if (!kept || !record || json_dumpf(record, kept, JSON_COMPACT))
		abort();
	fputc('\n', kept);
	json_decref(record);
}

/* A document, or several. */
static void keep_all(const char *schema, char *const *words, const char *text)
{
	const size_t flags = JSON_DISABLE_EOF_CHECK | JSON_DECODE_ANY;
	json_error_t err;
	json_t *doc;

	while (*text) {
		doc = json_loads(text, flags, &err);
		if (!doc)
			return;
		keep(schema, words, doc);
		text += err.position;
		text += strspn(text, "\n");
	}
}

void shapes_keep(char *const *words, const char *out, const char *err)
{
	char name[64];

	name_schema(words, name);
	if (!name[0])
		return;
	keep_all(name, words, out);
	err = strstr(err, "{\"error\"");
	if (err)
		keep_all("error", words, err);
}

bool shapes_has(const char *schema)
{
	return json_object_get(names, schema) != NULL;
}

int shapes_check(const char *build)
{
	char script[600], schemas[600];
	int status;
	pid_t pid;

	if (!kept)
		return 0;
	snprintf(script, sizeof(script), "%s/../tests/e2e/shapes.py", build);
	snprintf(schemas, sizeof(schemas), "%s/../docs/schema", build);
	fflush(kept);
	rewind(kept);
	pid = fork();
	if (pid == 0) {
		dup2(fileno(kept), 0);
		execl("/usr/bin/python3", "python3", script, schemas,
			(char *)NULL);
		_exit(127);
	}
	if (pid < 0 || waitpid(pid, &status, 0) != pid || status)
		return -1;
	return 0;
}
