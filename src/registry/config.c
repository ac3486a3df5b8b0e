#include "registry/config.h"

#include <cyaml/cyaml.h>
#include <errno.h>
#include <fcntl.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "base/yaml_bounds.h"
#include "oci/reference.h"

#define TEXT_MAX 4096
#define MIRRORS_MAX 16
#define PLACE_MAX 440
#define FILE_MAX (1u << 20)
#define KEEP_EVENTS_MIN 50
#define KEEP_EVENTS_MAX 1000000

struct file {
	struct th_registry_config *registries;
	unsigned int registries_count;
	char *leave_keys;
	char *layers_from;
	int64_t keep_events;
};

static const cyaml_strval_t transports[] = {
	{"https", TH_TRANSPORT_HTTPS}, {"http", TH_TRANSPORT_HTTP}};

static const cyaml_strval_t truths[] = {
	{"true", true}, {"false", false}, {"yes", true}, {"no", false}};

static const cyaml_schema_value_t mirror_schema = {
	CYAML_VALUE_STRING(CYAML_FLAG_POINTER, char, 1, 255)};

static const cyaml_schema_field_t registry_fields[] = {
	CYAML_FIELD_STRING_PTR("host", CYAML_FLAG_POINTER,
		struct th_registry_config, host, 1, TEXT_MAX),
	CYAML_FIELD_ENUM("transport", CYAML_FLAG_OPTIONAL | CYAML_FLAG_STRICT,
		struct th_registry_config, transport, transports, 2),
	CYAML_FIELD_STRING_PTR("ca-file",
		CYAML_FLAG_POINTER | CYAML_FLAG_OPTIONAL,
		struct th_registry_config, ca_file, 1, TEXT_MAX),
	CYAML_FIELD_STRING_PTR("cert-file",
		CYAML_FLAG_POINTER | CYAML_FLAG_OPTIONAL,
		struct th_registry_config, cert_file, 1, TEXT_MAX),
	CYAML_FIELD_STRING_PTR("key-file",
		CYAML_FLAG_POINTER | CYAML_FLAG_OPTIONAL,
		struct th_registry_config, key_file, 1, TEXT_MAX),
	CYAML_FIELD_SEQUENCE("mirrors",
		CYAML_FLAG_POINTER | CYAML_FLAG_OPTIONAL,
		struct th_registry_config, mirrors, &mirror_schema, 0,
		MIRRORS_MAX),
	CYAML_FIELD_STRING_PTR("stall",
		CYAML_FLAG_POINTER | CYAML_FLAG_OPTIONAL,
		struct th_registry_config, stall, 1, 32),
	CYAML_FIELD_ENUM("search", CYAML_FLAG_OPTIONAL | CYAML_FLAG_STRICT,
		struct th_registry_config, search, truths, 4),
	CYAML_FIELD_END};

static const cyaml_schema_value_t registry_schema = {CYAML_VALUE_MAPPING(
	CYAML_FLAG_DEFAULT, struct th_registry_config, registry_fields)};

static const cyaml_schema_field_t file_fields[] = {
	CYAML_FIELD_SEQUENCE("registries",
		CYAML_FLAG_POINTER | CYAML_FLAG_OPTIONAL, struct file,
		registries, &registry_schema, 0, CYAML_UNLIMITED),
	CYAML_FIELD_STRING_PTR("leave-keys",
		CYAML_FLAG_POINTER | CYAML_FLAG_OPTIONAL, struct file,
		leave_keys, 1, 64),
	CYAML_FIELD_STRING_PTR("layers-from",
		CYAML_FLAG_POINTER | CYAML_FLAG_OPTIONAL, struct file,
		layers_from, 1, 4000),
	CYAML_FIELD_INT(
		"keep-events", CYAML_FLAG_OPTIONAL, struct file, keep_events),
	CYAML_FIELD_END};

static const cyaml_schema_value_t file_schema = {
	CYAML_VALUE_MAPPING(CYAML_FLAG_POINTER, struct file, file_fields)};

/* What the parser says, line by line: the first line is the reason, a later
 * one has the place. */
struct report {
	char reason[160];
	char place[64];
};

static void listen_to(cyaml_log_t level, void *ctx, const char *fmt,
	va_list args) __attribute__((format(printf, 3, 0)));

static void listen_to(
	cyaml_log_t level, void *ctx, const char *fmt, va_list args)
{
	struct report *report = ctx;
	char text[256], *line;

	if (level < CYAML_LOG_ERROR)
		return;
	vsnprintf(text, sizeof(text), fmt, args);
	text[strcspn(text, "\n")] = '\0';
	if (!report->reason[0])
		snprintf(report->reason, sizeof(report->reason), "%.150s",
			strncmp(text, "Load: ", 6) == 0 ? text + 6 : text);
	line = strstr(text, "line: ");
	if (line && !report->place[0])
		snprintf(report->place, sizeof(report->place), "line %d",
			atoi(line + 6));
}

/* "FILE, line N": the first line that holds the value. The parser knows lines
 * only of what it refuses itself. */
static void find_place(
	const char *path, const char *value, char place[PLACE_MAX])
{
	struct th_error ignored = {0}; /* then without a line */
	struct th_buf text;
	const char *found;
	int line = 1;

	snprintf(place, PLACE_MAX, "%.400s", path);
	th_buf_init(&text, FILE_MAX);
	if (value && th_file_read(AT_FDCWD, path, &text, &ignored) == 1) {
		found = strstr(text.data, value);
		for (const char *at = text.data; found && at < found; at++)
			line += *at == '\n';
		if (found)
			snprintf(place, PLACE_MAX, "%.400s, line %d", path,
				line);
	}
	th_buf_release(&text);
}

static int check_host(const char *path, const char *host, struct th_error *err)
{
	struct th_error wrong = {0};
	char place[PLACE_MAX];

	if (th_host_check(host, &wrong) == 0)
		return 0;
	find_place(path, host, place);
	th_fail(err, TH_USAGE, "%s: %s", place, wrong.msg);
	return th_hint(err, "%s", wrong.hint);
}

static void release_one(struct th_registry_config *registry)
{
	free(registry->host);
	free(registry->ca_file);
	free(registry->cert_file);
	free(registry->key_file);
	free(registry->stall);
	for (unsigned int i = 0; i < registry->mirrors_count; i++)
		free(registry->mirrors[i]);
	free(registry->mirrors);
	memset(registry, 0, sizeof(*registry));
}

/* What the schema cannot say. */
static int check_entry(const char *path, struct th_registry_config *entry,
	struct th_error *err)
{
	char place[PLACE_MAX];

	if (check_host(path, entry->host, err))
		return -1;
	for (unsigned int i = 0; i < entry->mirrors_count; i++) {
		if (check_host(path, entry->mirrors[i], err))
			return -1;
	}
	if (!entry->cert_file != !entry->key_file) {
		find_place(path,
			entry->cert_file ? entry->cert_file : entry->key_file,
			place);
		th_fail(err, TH_USAGE,
			"%s: the registry %s has a %s without a %s", place,
			entry->host,
			entry->cert_file ? "cert-file" : "key-file",
			entry->cert_file ? "key-file" : "cert-file");
		return th_hint(
			err, "cert-file and key-file must be given together");
	}
	if (entry->stall &&
		(th_clock_parse_span(entry->stall, &entry->stall_us) ||
			entry->stall_us < 1000000)) {
		find_place(path, entry->stall, place);
		th_fail(err, TH_USAGE,
			"%s: the registry %s has an invalid stall \"%s\"",
			place, entry->host, entry->stall);
		return th_hint(err,
			"stall is how long a transfer may make no progress: 1s "
			"or more, for example 30s or 2m");
	}
	return 0;
}

/* Takes the entry's strings over. */
static int add(struct th_config *config, struct th_registry_config *entry,
	struct th_error *err)
{
	struct th_registry_config *list;

	for (size_t i = 0; i < config->registry_count; i++) {
		if (strcmp(config->registries[i].host, entry->host) == 0) {
			release_one(&config->registries[i]);
			config->registries[i] = *entry;
			memset(entry, 0, sizeof(*entry));
			return 0;
		}
	}
	list = realloc(config->registries,
		(config->registry_count + 1) * sizeof(*list));
	if (!list)
		return th_fail_memory(err);
	config->registries = list;
	list[config->registry_count++] = *entry;
	memset(entry, 0, sizeof(*entry));
	return 0;
}

/* The parser's words in ours, where it is about a word of the file. */
static void explain(const char *path, const struct report *report,
	const char *why, struct th_error *err)
{
	static const struct {
		const char *theirs, *ours;
	} words[] = {{"Unexpected key: ", "is not a setting"},
		{"Invalid ENUM value: ", "is not allowed here"},
		{"Missing required mapping field: ", "is missing"}};
	char place[PLACE_MAX];

	for (size_t i = 0; i < sizeof(words) / sizeof(*words); i++) {
		size_t len = strlen(words[i].theirs);
		const char *word = report->reason + len;

		if (strncmp(report->reason, words[i].theirs, len) != 0)
			continue;
		find_place(path, word, place);
		if (!strstr(place, ", line ") && report->place[0])
			snprintf(place, sizeof(place), "%.370s, %s", path,
				report->place);
		th_fail(err, TH_USAGE, "%s: \"%s\" %s", place, word,
			words[i].ours);
		return;
	}
	if (report->reason[0])
		why = report->reason;
	if (strncmp(why, "Expecting ", 10) == 0)
		why = strstr(why, "Expecting SEQ")
			? "expected a list here"
			: "expected something else here";
	th_fail(err, TH_USAGE, "%s%s%s: %s", path, report->place[0] ? ", " : "",
		report->place, why);
}

static int take_keep_events(const char *path, int64_t keep,
	struct th_config *config, struct th_error *err)
{
	char text[24], place[PLACE_MAX];

	if (keep >= KEEP_EVENTS_MIN && keep <= KEEP_EVENTS_MAX) {
		config->keep_events = keep;
		return 1;
	}
	snprintf(text, sizeof(text), "%lld", (long long)keep);
	find_place(path, text, place);
	return th_fail(err, TH_USAGE,
		"%s: keep-events is a number from %d to %d", place,
		KEEP_EVENTS_MIN, KEEP_EVENTS_MAX);
}

static int take_layers_from(const char *path, const char *folder,
	struct th_config *config, struct th_error *err)
{
	char place[PLACE_MAX];

	if (*folder != '/') {
		find_place(path, folder, place);
		return th_fail(err, TH_USAGE,
			"%s: layers-from is the path of a folder that begins "
			"with /",
			place);
	}
	free(config->layers_from);
	config->layers_from = strdup(folder);
	return config->layers_from ? 1 : th_fail_memory(err);
}

int th_config_read(
	const char *path, struct th_config *config, struct th_error *err)
{
	struct report report = {{0}, {0}};
	const cyaml_config_t parser = {.log_fn = listen_to,
		.log_ctx = &report,
		.mem_fn = cyaml_mem,
		.log_level = CYAML_LOG_INFO,
		.flags = CYAML_CFG_DEFAULT};
	struct file *file = NULL;
	struct th_buf text;
	cyaml_err_t rc;
	int result;

	th_buf_init(&text, TH_YAML_BYTES);
	result = th_file_read(AT_FDCWD, path, &text, err);
	if (result == 1 && th_yaml_check(path, &text, err))
		result = -1;
	if (result != 1 || text.len == 0) {
		th_buf_release(&text);
		return result;
	}
	rc = cyaml_load_data((const uint8_t *)text.data, text.len, &parser,
		&file_schema, (cyaml_data_t **)&file, NULL);
	th_buf_release(&text);
	if (rc != CYAML_OK) {
		explain(path, &report, cyaml_strerror(rc), err);
		return th_hint(err,
			"known settings: keep-events, layers-from, "
			"leave-keys, and "
			"registries, a list "
			"with host, transport (https, http), ca-file, "
			"cert-file, key-file, mirrors (a list of hosts), "
			"stall, search (true, false)");
	}
	for (unsigned int i = 0; file && i < file->registries_count; i++) {
		if (check_entry(path, &file->registries[i], err) ||
			add(config, &file->registries[i], err)) {
			result = -1;
			break;
		}
	}
	if (result == 1 && file && file->keep_events)
		result = take_keep_events(path, file->keep_events, config, err);
	if (result == 1 && file && file->leave_keys)
		snprintf(config->leave_keys, sizeof(config->leave_keys), "%s",
			file->leave_keys);
	if (result == 1 && file && file->layers_from)
		result = take_layers_from(path, file->layers_from, config, err);
	cyaml_free(&parser, &file_schema, file, 0);
	return result;
}

void th_config_release(struct th_config *config)
{
	for (size_t i = 0; i < config->registry_count; i++)
		release_one(&config->registries[i]);
	free(config->registries);
	free(config->layers_from);
	memset(config, 0, sizeof(*config));
}

const struct th_registry_config *th_config_find(
	const struct th_config *config, const char *host)
{
	for (size_t i = 0; i < config->registry_count; i++) {
		if (strcmp(config->registries[i].host, host) == 0)
			return &config->registries[i];
	}
	return NULL;
}
