/* Which containers of a file wait for which. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/choice.h"
#include "group/file_parts.h"
#include "network/network.h"

static const char *const words[] = {"running", "ready", "ended"};

const char *th_after_word(enum th_after_what what)
{
	return words[what];
}

static void append(struct th_yaml *reading, struct th_file_container *one,
	struct th_yaml_place place, char *member, enum th_after_what what)
{
	struct th_file_after *more = NULL;

	if (member)
		more = realloc(
			one->after, (one->after_count + 1) * sizeof(*more));
	if (!more) {
		free(member);
		reading->no_memory = true;
		return;
	}
	one->after = more;
	more[one->after_count++] = (struct th_file_after){member, what, place};
}

static void take_pair(struct th_yaml *reading, yaml_node_t *key,
	yaml_node_t *value, void *owner)
{
	char *text = th_yaml_text(reading, value, "after");

	int what = th_choice(text, words, 3);

	if (what >= 0)
		append(reading, owner, th_yaml_place_of(key),
			strdup(th_yaml_key_text(key)),
			(enum th_after_what)what);
	else if (text)
		th_yaml_complain(reading, value, "use running, ready or ended",
			"\"%.60s\" is nothing that \"after\" can wait for",
			text);
	free(text);
}

void read_after(struct th_yaml *reading, yaml_node_t *node,
	struct th_file_container *one)
{
	struct th_strings names = {0};

	if (node->type == YAML_MAPPING_NODE) {
		th_yaml_each(reading, node, "\"after\"", take_pair, one);
		return;
	}
	th_yaml_list(reading, node, "after", &names);
	for (size_t i = 0; i < names.count; i++)
		append(reading, one, th_yaml_place_of(node),
			strdup(names.items[i]), TH_AFTER_DEFAULT);
	th_strings_release(&names);
}

/* The first container of the member, or NULL. */
static const struct th_file_container *find(
	const struct th_settings_file *file, const char *member)
{
	for (size_t i = 0; i < file->container_count; i++) {
		if (strcmp(file->containers[i].member, member) == 0)
			return &file->containers[i];
	}
	return NULL;
}

static void complain(struct th_yaml *reading, struct th_yaml_place place,
	const char *hint, const char *what, const char *name)
{
	struct th_error err = {0};

	th_fail(&err, TH_USAGE, "%.150s, line %zu, column %zu: %s\"%.60s\"",
		reading->name, place.line, place.column, what, name);
	if (hint)
		th_hint(&err, "%s", hint);
	th_problems_add(reading->problems, &err);
}

static void check_one(struct th_yaml *reading, struct th_settings_file *file,
	struct th_file_after *after)
{
	const struct th_file_container *other = find(file, after->member);
	bool probed = other && has_setting(other, "probe");

	if (!other) {
		complain(reading, after->place,
			"\"after\" names containers of the same file",
			"there is no container ", after->member);
		return;
	}
	if (after->what == TH_AFTER_DEFAULT)
		after->what = probed ? TH_AFTER_READY : TH_AFTER_RUNNING;
	if (after->what == TH_AFTER_READY && !probed)
		complain(reading, after->place,
			"give it a probe, or wait for \"running\"",
			"no probe could tell that it is ready: container ",
			after->member);
}

/* Follows whom it waits for; each is looked at once. state: 0 not seen, 1 on
 * the way, 2 done. False where the way comes back to itself. */
static bool follow(const struct th_settings_file *file,
	const struct th_file_container *one, char *state)
{
	size_t at = (size_t)(one - file->containers);

	if (state[at])
		return state[at] == 2;
	state[at] = 1;
	for (size_t i = 0; i < one->after_count; i++) {
		const struct th_file_container *other =
			find(file, one->after[i].member);

		if (other && !follow(file, other, state))
			return false;
	}
	state[at] = 2;
	return true;
}

static void check_loops(struct th_yaml *reading, struct th_settings_file *file)
{
	char *state = calloc(file->container_count + 1, 1), names[300] = "";
	const struct th_file_container *first = NULL;

	for (size_t i = 0; state && !first && i < file->container_count; i++) {
		if (follow(file, &file->containers[i], state))
			continue;
		/* Those on the way are it, and who led there. */
		for (size_t k = 0; k < file->container_count; k++) {
			const struct th_file_container *one =
				&file->containers[k];
			size_t used = strlen(names);

			if (state[k] != 1 || find(file, one->member) != one)
				continue;
			first = first ? first : one;
			snprintf(names + used, sizeof(names) - used, "%s%s",
				used ? ", " : "", one->member);
		}
	}
	if (first)
		complain(reading, first->place,
			"take one \"after\" away, so that one can begin",
			"containers wait for one another: ", names);
	free(state);
}

/* Whoever shares a network comes after the one that has it. */
static void add_hosts(struct th_yaml *reading, struct th_settings_file *file,
	struct th_file_container *one)
{
	const size_t skip = strlen(TH_NETWORK_WITH);

	for (size_t i = 0; i < one->setting_count; i++) {
		const struct th_file_setting *setting = &one->settings[i];
		const struct th_file_container *host;

		if (strcmp(setting->name, "network") != 0 ||
			!th_network_is_with(setting->value))
			continue;
		host = find(file, setting->value + skip);
		if (host && host != one)
			append(reading, one, one->place, strdup(host->member),
				TH_AFTER_RUNNING);
	}
}

void check_after(struct th_yaml *reading, struct th_settings_file *file)
{
	for (size_t i = 0; i < file->container_count; i++)
		add_hosts(reading, file, &file->containers[i]);
	for (size_t i = 0; i < file->container_count; i++) {
		struct th_file_container *one = &file->containers[i];

		/* Of copies the first one speaks for all. */
		for (size_t k = 0; k < one->after_count; k++) {
			struct th_problems *problems = reading->problems;
			struct th_problems none = {0};

			if (find(file, one->member) != one)
				reading->problems = &none;
			check_one(reading, file, &one->after[k]);
			th_problems_release(&none);
			reading->problems = problems;
		}
	}
	check_loops(reading, file);
}
