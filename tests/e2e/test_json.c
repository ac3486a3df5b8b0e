/* Each command that prints JSON prints what docs/schema/ says (shapes.h), and
 * nothing else on standard output. */
#include <dirent.h>
#include <stdio.h>
#include <string.h>

#include "e2e/harness.h"
#include "e2e/shapes.h"

/* One document; what it is like is checked at the end. */
static void look(const char *line)
{
	json_decref(hull_json("%s", line));
}

static void containers_and_what_is_in_them(void)
{
	static const char *const lines[] = {
		"launch selwick/gauge --name box --port 80 --json",
		"exec box --background --json -- sleep 1000",
		"create selwick/base --name idle --network none --json",
		"recreate idle --env A=1 --json", "list --json",
		"list --all --json", "show box idle --json", "ports --json",
		"processes box --json", "why box idle --json",
		"meter --once --json", "list sessions --all --json",
		"timeline --json", "logs box --json", "changes box --json",
		"sweep --json"};

	for (size_t i = 0; i < COUNT_OF(lines); i++)
		look(lines[i]);
	CODE(hull("exec box -- sh -c 'echo x > /made; rm /etc/passwd'"), 0);
	look("changes box --json");
	look("capture box selwick/changed --json");
	CODE(hull("stop box"), 0);
	look("list --all --json");
	look("why box --json");
	CODE(hull("timeline --json-lines"), 0);
	CODE(hull("run selwick/base --keep --name says --network none -- "
		  "printf 'one\\ntwo'"),
		0);
	CODE(hull("logs says --json-lines"), 0);
	look("logs says --json");
	CODE(hull("run selwick/base --keep --name odd --network none -- printf "
		  "'\\377\\n'"),
		0);
	look("logs odd --json");
	CODE(hull("remove --force box idle says odd"), 0);
}

static void images(void)
{
	look("pull selwick/base selwick/gauge selwick/gauge:1 --json");
	look("list images --json");
	look("show selwick/gauge --json");
	look("changes selwick/gauge --json");
	look("changes selwick/base selwick/gauge --json");
	look("peek selwick/gauge --json");
	look("peek selwick/gauge --tags --json");
	look("find gauge --json");
	look("pack selwick/gauge x.tar --json");
	look("peek x.tar --json");
	look("unpack x.tar --json");
	look("sweep --json");
}

static void what_is_made_and_sent(void)
{
	int port;

	put_file("recipe.yaml",
		"image: selwick/made\nfrom: selwick/base\n"
		"steps:\n- do: echo 1 > /made\n");
	CODE(hull("pull selwick/gauge"), 0);
	json_decref(hull_json("build %s/recipe.yaml --json", world_folder));
	json_decref(
		hull_json("build %s/recipe.yaml --plan --json", world_folder));
	copy_images("copy");
	port = start_chandler("copy", NULL, "--writable");
	/* Not configured, so spoken to over TLS: an error is no document. */
	CHECK_TEXT(hull("push selwick/gauge localhost:%d/x --json", port)->out,
		"");
	write_config(&port, 1);
	json_decref(hull_json(
		"push selwick/gauge localhost:%d/selwick/new --json", port));
}

static void other_objects(void)
{
	CODE(hull("create selwick/base --name box --network berths --network "
		  "quayside --mount /data=volume:ledger -- true"),
		0);
	look("list networks --json");
	look("list volumes --json");
	look("show network:berths volume:ledger box --json");
	look("unit --json");
	look("doctor --json");
	look("doctor --verify --json");
	CODE(hull("remove box volume:ledger network:berths network:quayside"),
		0);
	look("list networks --json");
	look("list volumes --json");
	look("list sessions --json");
}

static json_t *error_of(const char *line, int code)
{
	struct result *result = hull("%s", line);
	json_t *doc;

	CODE(result, code);
	doc = json_loads(result->err, 0, NULL);
	CHECK(json_is_object(json_object_get(doc, "error")));
	return doc;
}

static void errors_are_documented(void)
{
	const char *kind, *message, *hint;
	json_t *doc = error_of("show nosuch --json", 3), *problems;

	CHECK_INT(json_unpack(doc, "{s:{s:s s:s s:s s:o}}", "error", "kind",
			  &kind, "message", &message, "hint", &hint, "problems",
			  &problems),
		0);
	CHECK_TEXT(kind, "not-found");
	SAYS(message, "\"nosuch\"");
	CHECK(json_array_size(problems) == 0);
	json_decref(doc);
	doc = error_of("create selwick/base --port 99999 --mount x --json", 2);
	CHECK_INT(json_unpack(doc, "{s:{s:s s:n s:o}}", "error", "message",
			  &message, "hint", "problems", &problems),
		0);
	SAYS(message, "cannot create");
	CHECK(json_array_size(problems) >= 2);
	json_decref(doc);
	json_decref(error_of("list --json --colour", 2));
	/* Bytes that are no text stay readable. */
	json_decref(error_of("show \xff --json", 3));
	CHECK(strncmp(hull("show nosuch")->err, "tidyhull: ", 10) == 0);
}

/* Runs last: a schema that no document was held against proves nothing. */
static void every_schema_had_a_document(void)
{
	char path[600];
	struct dirent *entry;
	DIR *folder;

	snprintf(path, sizeof(path), "%s/../docs/schema", world_build);
	folder = opendir(path);
	CHECK(folder != NULL);
	while (folder && (entry = readdir(folder))) {
		char name[300], text[8192];
		json_t *schema;
		const char *title;

		snprintf(name, sizeof(name), "%s", entry->d_name);
		if (!strchr(name, '.') || name[0] == '.')
			continue;
		*strchr(name, '.') = '\0';
		snprintf(text, sizeof(text), "%s/%s", path, entry->d_name);
		schema = json_load_file(text, 0, NULL);
		title = json_string_value(json_object_get(schema, "title"));
		/* The others are parts of these. */
		if (title && strstr(title, "--json") && !shapes_has(name)) {
			printf("\n    nothing was held against %s\n", name);
			CHECK(false);
		}
		json_decref(schema);
	}
	if (folder)
		closedir(folder);
}

static const CU_TestInfo tests[] = {
	{"containers and what is in them", containers_and_what_is_in_them},
	{"images", images}, {"what is made and sent", what_is_made_and_sent},
	{"other objects", other_objects},
	{"errors are documented", errors_are_documented},
	{"every schema had a document", every_schema_had_a_document},
	CU_TEST_INFO_NULL};

const struct suite suite_json_forms = {"json-forms", tests};
