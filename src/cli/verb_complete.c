/* complete: what a shell offers for the word that is being typed. */
#include <stdio.h>
#include <string.h>

#include "cli/doc.h"
#include "cli/each.h"
#include "cli/options.h"
#include "cli/output.h"
#include "cli/tag_cache.h"
#include "cli/verbs.h"
#include "cli/wrong_option.h"

/* The shell offers files, beside what is printed. */
#define EXIT_FILES 3
/* Of the OCI Distribution Specification's tags. */
#define TAG_LETTERS                                                            \
	"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789._-"

/* Words that an option takes. Of lists the last part is completed. */
static const struct values {
	const char *option, *words;
	bool list;
} values[] = {{"restart", "never always on-failure on-ailing", true},
	{"fetch", "missing always never", false}, {"tty", "auto yes no", false},
	{"reaper", "auto yes no", false}, {"users", "own host", false},
	{"share", "home cwd user env scratch shm ipc pmix", true},
	{"allow",
		"syscalls new-privileges kernel-paths devices old-sockets "
		"addresses",
		true},
	{"limit", "memory= swap= cpu= processes= io= none", true},
	{"stop", "signal= grace=", true}, {"log", "size= files= journal", true},
	{"probe", "http: tcp: exec:", false}, {"port", "declared", false},
	{"compress", "gzip zstd none", false},
	{"signal", "HUP INT QUIT KILL USR1 USR2 TERM CONT STOP WINCH", false},
	{"only", "containers images volumes networks", false},
	{"stream", "out err", false},
	{"platform", "linux/amd64 linux/arm64 linux/arm/v7 linux/riscv64",
		false},
	{"root", "", false}, {"config", "", false}, {"settings", "", false},
	{"layers-from", "", false}, {"bundle", "", false},
	{"pid-file", "", false}};

struct asked {
	struct invocation *call;
	const char *word; /* the one that is being typed */
	size_t len;
	bool files;
	bool images; /* the verb takes some */
};

static void offer(const struct asked *asked, const char *before,
	const char *text, const char *about)
{
	char whole[600];

	snprintf(whole, sizeof(whole), "%s%s", before, text);
	if (strncmp(whole, asked->word, asked->len) != 0)
		return;
	printf("%s%s%s\n", whole, *about ? "\t" : "", about);
}

/* Each of the words, behind what is there of the list already. */
static void offer_words(
	const struct asked *asked, const char *before, const char *words)
{
	char word[64];

	for (; *words; words += strspn(words, " ")) {
		size_t len = strcspn(words, " ");

		snprintf(word, sizeof(word), "%.*s", (int)len, words);
		offer(asked, before, word, "");
		words += len;
	}
}

static void offer_verbs(const struct asked *asked)
{
	for (size_t i = 0; verbs[i]; i++) {
		if (!(verbs[i]->flags & VERB_HIDDEN))
			offer(asked, "", verbs[i]->name, verbs[i]->summary);
	}
}

static void offer_options(const struct asked *asked, const struct verb *verb)
{
	const struct option_spec *list[OPTIONS_MAX];
	size_t count = verb_options(verb, list);
	char name[80];

	for (size_t i = 0; i < count; i++) {
		snprintf(name, sizeof(name), "--%s", list[i]->name);
		offer(asked, "", name, list[i]->help);
	}
}

/* ---- objects ---- */

static bool is_wanted(const json_t *container, const char *takes)
{
	if (strncmp(takes, "container", 9) == 0)
		return true;
	if (strncmp(takes, "up", 2) == 0)
		return is_up(container);
	if (strncmp(takes, "down", 4) == 0)
		return is_state(container, "created") ||
			is_state(container, "stopped");
	if (strncmp(takes, "running", 7) == 0)
		return is_state(container, "running");
	return strncmp(takes, "paused", 6) == 0 &&
		is_state(container, "paused");
}

static void offer_containers(
	const struct asked *asked, const char *takes, const char *behind)
{
	struct th_error ignored = {0}; /* nothing to offer */
	json_t *doc = NULL, *one;
	char name[300];
	size_t i;

	th_list(asked->call->hull, TH_KIND_CONTAINER, true, &doc, &ignored);
	json_array_foreach(doc_part(doc, "containers"), i, one)
	{
		if (!is_wanted(one, takes))
			continue;
		snprintf(name, sizeof(name), "%s%s", doc_text(one, "name"),
			behind);
		offer(asked, "", name, doc_text(one, "state"));
	}
	json_decref(doc);
}

static void offer_images(const struct asked *asked)
{
	struct th_error ignored = {0}; /* nothing to offer */
	json_t *doc = NULL, *one;
	size_t i, k;

	th_list(asked->call->hull, TH_KIND_IMAGE, true, &doc, &ignored);
	json_array_foreach(doc_part(doc, "images"), i, one)
	{
		const json_t *names = doc_part(one, "names");

		for (k = 0; k < json_array_size(names); k++) {
			const char *name = doc_item(names, k);
			size_t host = strcspn(name, "/");

			/* The host may be left out. */
			if (asked->len && name[host] &&
				strcspn(name, ".:") < host &&
				strncmp(name, asked->word, asked->len) != 0)
				name += host + 1;
			offer(asked, "", name, "image");
		}
	}
	json_decref(doc);
}

/* Behind the colon of a repository, what its registry has. */
static void offer_tags(const struct asked *asked)
{
	const char *colon = strrchr(asked->word, ':');
	char repository[256];
	json_t *tags;

	/* One of a host with its port is none. */
	if (!colon || strchr(colon, '/') || colon == asked->word ||
		strncmp(asked->word, "image:", 6) == 0)
		return;
	snprintf(repository, sizeof(repository), "%.*s",
		(int)(colon - asked->word), asked->word);
	tags = tag_cache_get(asked->call, repository);
	snprintf(repository, sizeof(repository), "%.*s",
		(int)(colon - asked->word) + 1, asked->word);
	for (size_t i = 0; i < json_array_size(tags); i++) {
		const char *tag = doc_item(tags, i);

		/* What a registry says goes into a shell's line. */
		if (strspn(tag, TAG_LETTERS) == strlen(tag))
			offer(asked, repository, tag, "tag");
	}
	json_decref(tags);
}

/* Objects of the other kinds have a name and no more that is of use. */
static void offer_named(const struct asked *asked, int kind, const char *list,
	const char *key, const char *before)
{
	struct th_error ignored = {0}; /* nothing to offer */
	json_t *doc = NULL, *one;
	char about[20];
	size_t i;

	snprintf(about, sizeof(about), "%.*s", (int)strlen(list) - 1, list);
	th_list(asked->call->hull, kind, true, &doc, &ignored);
	json_array_foreach(doc_part(doc, list), i, one)
	{
		offer(asked, before, doc_text(one, key), about);
	}
	json_decref(doc);
}

static void offer_kind(struct asked *asked, const char *takes, size_t len)
{
	static const struct {
		const char *takes, *words;
	} words[] = {{"kind", "containers images volumes networks sessions"},
		{"new", "volume network"},
		{"operation",
			"create run start state kill delete features bundle"}};

	for (size_t i = 0; i < sizeof(words) / sizeof(*words); i++) {
		if (strlen(words[i].takes) == len &&
			strncmp(takes, words[i].takes, len) == 0)
			offer_words(asked, "", words[i].words);
	}
	if (strncmp(takes, "verb", len) == 0)
		offer_verbs(asked);
	else if (strncmp(takes, "file", len) == 0)
		asked->files = true;
	else if (strncmp(takes, "image", len) == 0)
		asked->images = true;
	else if (strncmp(takes, "volume", len) == 0)
		offer_named(asked, TH_KIND_VOLUME, "volumes", "name", "");
	else if (strncmp(takes, "network", len) == 0)
		offer_named(asked, TH_KIND_NETWORK, "networks", "name", "");
	else if (strncmp(takes, "session", len) == 0)
		offer_named(asked, TH_KIND_SESSION, "sessions", "id", "");
	else if (strncmp(takes, "group", len) == 0)
		offer_named(asked, TH_KIND_GROUP, "groups", "name", "group:");
	else
		offer_containers(
			asked, takes, takes[len - 1] == ':' ? ":" : "");
}

static void offer_objects(struct asked *asked, const struct verb *verb)
{
	const char *takes = verb->takes ? verb->takes : "";

	for (; *takes; takes += strspn(takes, " ")) {
		size_t len = strcspn(takes, " ");

		offer_kind(asked, takes, len);
		takes += len;
	}
	/* Last, as a registry may take long. */
	if (asked->images)
		offer_images(asked);
	if (asked->images && verb->flags & VERB_REGISTRIES)
		offer_tags(asked);
}

/* ---- values ---- */

static void offer_value(struct asked *asked, const char *option)
{
	const char *comma = strrchr(asked->word, ',');
	char before[300] = "";

	if (strcmp(option, "network") == 0) {
		offer_named(asked, TH_KIND_NETWORK, "networks", "name", "");
		offer_words(asked, "", "own none host with:");
	}
	if (strcmp(option, "mount") == 0) {
		const char *source = strstr(asked->word, "=volume:");

		snprintf(before, sizeof(before), "%.*s",
			source ? (int)(source - asked->word) + 8 : 0,
			asked->word);
		if (source)
			offer_named(asked, TH_KIND_VOLUME, "volumes", "name",
				before);
		return;
	}
	for (size_t i = 0; i < sizeof(values) / sizeof(*values); i++) {
		if (strcmp(values[i].option, option) != 0)
			continue;
		if (values[i].list && comma)
			snprintf(before, sizeof(before), "%.*s",
				(int)(comma - asked->word) + 1, asked->word);
		asked->files = !*values[i].words;
		offer_words(asked, before, values[i].words);
	}
}

static int run(struct invocation *call)
{
	int count = call->command_count;
	struct asked asked = {
		.call = call, .word = count ? call->command[count - 1] : ""};
	const struct verb *verb =
		count > 1 ? verb_lookup(call->command[0]) : NULL;
	const char *before = count > 2 ? call->command[count - 2] : "";
	const struct option_spec *spec = NULL;

	asked.len = strlen(asked.word);
	for (int i = 1; i < count - 1; i++) {
		/* What follows is not ours. */
		if (strcmp(call->command[i], "--") == 0)
			return EXIT_FILES;
	}
	if (count < 2) {
		offer_verbs(&asked);
		return EXIT_DONE;
	}
	if (!verb)
		return EXIT_DONE;
	if (strncmp(before, "--", 2) == 0)
		spec = option_spec(verb, before + 2, strlen(before + 2));
	if (spec && spec->value)
		offer_value(&asked, spec->name);
	else if (asked.word[0] == '-')
		offer_options(&asked, verb);
	else
		offer_objects(&asked, verb);
	return asked.files ? EXIT_FILES : EXIT_DONE;
}

static const char *const text[] = {"For shells: prints what the last of the "
				   "words may become, a line each,",
	"with a tab and an explanation behind it. Exit code 3: files, too.",
	NULL};

static const char *const examples[] = {
	"tidyhull complete -- stop gauge-", NULL};

const struct verb verb_complete = {.name = "complete",
	.group = "system",
	.summary = "what a shell offers for the word that is being typed",
	.usage = "-- WORD...",
	.text = text,
	.examples = examples,
	.flags = VERB_STORE | VERB_LOOK | VERB_COMMAND | VERB_HIDDEN |
		VERB_REGISTRIES,
	.least = 0,
	.most = 0,
	.run = run};
