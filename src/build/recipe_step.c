#include "build/recipe_step.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

static void set_text(struct th_yaml *reading, yaml_node_t *node,
	const char *what, char **text)
{
	free(*text);
	*text = th_yaml_text(reading, node, what);
}

/* ---- what looks like a secret ---- */

static bool is_secret_name(const char *name, size_t len)
{
	static const char *const words[] = {"password", "passwd", "secret",
		"token", "api_key", "apikey", "private_key", "passphrase"};

	for (size_t i = 0; i < sizeof(words) / sizeof(*words); i++) {
		size_t size = strlen(words[i]);

		for (size_t at = 0; at + size <= len; at++) {
			if (strncasecmp(name + at, words[i], size) == 0)
				return true;
		}
	}
	return false;
}

/* Assignments whose name says that the value is secret, where the value stands
 * in the text: it would be in the image's history for anybody to read. */
static void look_for_secrets(
	struct th_yaml *reading, const yaml_node_t *node, const char *text)
{
	const char *at = text;

	while ((at = strchr(at, '='))) {
		const char *begin = at, *value;

		while (begin > text &&
			(isalnum((unsigned char)begin[-1]) ||
				begin[-1] == '_' || begin[-1] == '-'))
			begin--;
		at++;
		value = at + (*at == '"' || *at == '\'');
		if (at - begin > 1 &&
			is_secret_name(begin, (size_t)(at - begin) - 1) &&
			*value && !isspace((unsigned char)*value) &&
			!strchr("$=@\"'", *value) &&
			th_strings_take(reading->notes,
				th_format("%.150s, line %zu: the value of "
					  "\"%.*s\" will be in the image's "
					  "history; a secret is given by the "
					  "step's key \"secret\"",
					reading->name,
					th_yaml_place_of(node).line,
					(int)(at - begin) - 1, begin)))
			reading->no_memory = true;
	}
}

/* ---- pairs of put and take ---- */

static void add_pair(struct th_yaml *reading, struct th_recipe_step *step,
	const yaml_node_t *key, const yaml_node_t *value, const char *what,
	bool several)
{
	char *inside = th_yaml_text(reading, key, what);
	char *outside = inside ? th_yaml_text(reading, value, what) : NULL;
	struct th_recipe_pair *more;
	size_t len = inside ? strlen(inside) : 0;

	if (!inside || !outside)
		goto out;
	if (*inside != '/') {
		th_yaml_complain(reading, key,
			"what the image sees stands on the left: "
			"/usr/bin/gauge: ./gauge",
			"\"%.100s\" is not an absolute path", inside);
		goto out;
	}
	if (!*outside) {
		th_yaml_complain(
			reading, value, NULL, "\"%s\" needs a source", what);
		goto out;
	}
	more = realloc(step->pairs, (step->pair_count + 1) * sizeof(*more));
	if (!more) {
		reading->no_memory = true;
		goto out;
	}
	step->pairs = more;
	more[step->pair_count++] = (struct th_recipe_pair){.inside = inside,
		.outside = outside,
		.into = several || inside[len - 1] == '/',
		.place = th_yaml_place_of(value)};
	inside = outside = NULL;
out:
	free(inside);
	free(outside);
}

static void read_sources(struct th_yaml *reading, yaml_node_t *node,
	struct th_recipe_step *step, const char *what)
{
	if (node->type != YAML_MAPPING_NODE ||
		node->data.mapping.pairs.start ==
			node->data.mapping.pairs.top) {
		th_yaml_complain(reading, node, NULL,
			"\"%s\" consists of INSIDE: SOURCE", what);
		return;
	}
	for (yaml_node_pair_t *pair = node->data.mapping.pairs.start;
		pair < node->data.mapping.pairs.top; pair++) {
		yaml_node_t *key =
			yaml_document_get_node(&reading->doc, pair->key);
		yaml_node_t *value =
			yaml_document_get_node(&reading->doc, pair->value);

		if (value->type != YAML_SEQUENCE_NODE) {
			add_pair(reading, step, key, value, what, false);
			continue;
		}
		for (yaml_node_item_t *item = value->data.sequence.items.start;
			item < value->data.sequence.items.top; item++)
			add_pair(reading, step, key,
				yaml_document_get_node(&reading->doc, *item),
				what, true);
	}
}

/* ---- keys ---- */

static void read_put(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	struct th_recipe_step *step = owner;

	step->kind = TH_STEP_PUT;
	read_sources(reading, node, step, "put");
}

static void read_take(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	struct th_recipe_step *step = owner;
	size_t len;

	step->kind = TH_STEP_TAKE;
	read_sources(reading, node, step, "take");
	for (size_t i = 0; i < step->pair_count; i++) {
		if (!th_recipe_split(step->pairs[i].outside, &len))
			th_yaml_complain(reading, node,
				"the image and the path in it: "
				"workshop:/out/pilot",
				"\"%.100s\" is not IMAGE:/PATH",
				step->pairs[i].outside);
	}
}

static void read_do(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	struct th_recipe_step *step = owner;

	step->kind = TH_STEP_DO;
	step->shell = node->type == YAML_SCALAR_NODE;
	th_yaml_list(reading, node, "do", &step->command);
	if (!step->command.count || !*step->command.items[0])
		th_yaml_complain(reading, node, NULL, "\"do\" needs a command");
	for (size_t i = 0; i < step->command.count; i++)
		look_for_secrets(reading, node, step->command.items[i]);
}

static void read_join(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	struct th_recipe_step *step = owner;

	step->kind = TH_STEP_JOIN;
	read_steps(reading, node, true, &step->steps, &step->step_count);
}

static void read_owner(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	set_text(reading, node, "owner",
		&((struct th_recipe_step *)owner)->owner);
}

static void read_mode(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	struct th_recipe_step *step = owner;

	set_text(reading, node, "mode", &step->mode);
	if (step->mode &&
		(!*step->mode || strlen(step->mode) > 5 ||
			strspn(step->mode, "01234567") != strlen(step->mode)))
		th_yaml_complain(reading, node, "for example \"0644\"",
			"\"%.40s\" is not a mode", step->mode);
}

static void read_leave_out(
	struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	th_yaml_list(reading, node, "leave-out",
		&((struct th_recipe_step *)owner)->leave_out);
}

static void read_unpack(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	((struct th_recipe_step *)owner)->unpack =
		th_yaml_flag(reading, node, "unpack");
}

static void read_env(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	struct th_recipe_step *step = owner;

	th_yaml_pairs(reading, node, "env", &step->env);
	for (size_t i = 0; i < step->env.count; i++)
		look_for_secrets(reading, node, step->env.items[i]);
}

static void read_user(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	set_text(
		reading, node, "user", &((struct th_recipe_step *)owner)->user);
}

static void read_workdir(
	struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	struct th_recipe_step *step = owner;

	set_text(reading, node, "workdir", &step->workdir);
	if (step->workdir && *step->workdir != '/')
		th_yaml_complain(reading, node, NULL,
			"\"%.100s\" is not an absolute path", step->workdir);
}

static void read_network(
	struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	th_yaml_list(reading, node, "network",
		&((struct th_recipe_step *)owner)->networks);
}

static void read_mount(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	th_yaml_pairs(reading, node, "mount",
		&((struct th_recipe_step *)owner)->mounts);
}

static void read_secret(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	struct th_recipe_step *step = owner;

	th_yaml_list(reading, node, "secret", &step->secrets);
	for (size_t i = 0; i < step->secrets.count; i++) {
		if (strpbrk(step->secrets.items[i], "=/"))
			th_yaml_complain(reading, node,
				"the value is given with --secret "
				"NAME=@file:PATH",
				"a secret is only named here");
	}
}

static void read_limit(struct th_yaml *reading, yaml_node_t *node, void *owner)
{
	th_yaml_pairs(reading, node, "limit",
		&((struct th_recipe_step *)owner)->limits);
}

static const struct th_yaml_key put_keys[] = {{"put", read_put},
	{"owner", read_owner}, {"mode", read_mode},
	{"leave-out", read_leave_out}, {"unpack", read_unpack}, {NULL, NULL}};
static const struct th_yaml_key take_keys[] = {{"take", read_take},
	{"owner", read_owner}, {"mode", read_mode},
	{"leave-out", read_leave_out}, {NULL, NULL}};
static const struct th_yaml_key do_keys[] = {{"do", read_do}, {"env", read_env},
	{"user", read_user}, {"workdir", read_workdir},
	{"network", read_network}, {"mount", read_mount},
	{"secret", read_secret}, {"limit", read_limit}, {NULL, NULL}};
static const struct th_yaml_key join_keys[] = {
	{"join", read_join}, {NULL, NULL}};

static bool has_key(struct th_yaml *reading, yaml_node_t *node, const char *key)
{
	for (yaml_node_pair_t *pair = node->data.mapping.pairs.start;
		pair < node->data.mapping.pairs.top; pair++) {
		yaml_node_t *one =
			yaml_document_get_node(&reading->doc, pair->key);

		if (one->type == YAML_SCALAR_NODE &&
			strcmp((const char *)one->data.scalar.value, key) == 0)
			return true;
	}
	return false;
}

static void read_step(struct th_yaml *reading, yaml_node_t *node, bool joined,
	struct th_recipe_step *step)
{
	static const struct {
		const char *key, *what;
		const struct th_yaml_key *keys;
	} kinds[] = {{"put", "a step that puts", put_keys},
		{"do", "a step that does", do_keys},
		{"take", "a step that takes", take_keys},
		{"join", "a joined step", join_keys}};
	int found = -1;

	step->place = th_yaml_place_of(node);
	for (int i = 0; node->type == YAML_MAPPING_NODE && i < 4; i++) {
		if (!has_key(reading, node, kinds[i].key))
			continue;
		if (found >= 0) {
			th_yaml_complain(reading, node, "make two steps of it",
				"a step has either \"%s\" or \"%s\"",
				kinds[found].key, kinds[i].key);
			return;
		}
		found = i;
	}
	if (found < 0) {
		th_yaml_complain(reading, node, NULL,
			"a step needs \"put\", \"do\", \"take\" or \"join\"");
		return;
	}
	if (joined && found == 3) {
		th_yaml_complain(
			reading, node, NULL, "a joined step holds no other");
		return;
	}
	th_yaml_mapping(
		reading, node, kinds[found].what, kinds[found].keys, step);
}

void read_steps(struct th_yaml *reading, yaml_node_t *node, bool joined,
	struct th_recipe_step **steps, size_t *count)
{
	size_t wanted;

	if (node->type != YAML_SEQUENCE_NODE) {
		th_yaml_complain(reading, node, NULL, "steps are a list");
		return;
	}
	wanted = (size_t)(node->data.sequence.items.top -
		node->data.sequence.items.start);
	if (wanted > TH_RECIPE_STEPS || (joined && !wanted)) {
		th_yaml_complain(reading, node, NULL,
			joined && !wanted ? "there is nothing to join"
					  : "there are too many steps");
		return;
	}
	*steps = calloc(wanted + 1, sizeof(**steps));
	if (!*steps) {
		reading->no_memory = true;
		return;
	}
	*count = wanted;
	for (size_t i = 0; i < wanted; i++)
		read_step(reading,
			yaml_document_get_node(&reading->doc,
				node->data.sequence.items.start[i]),
			joined, &(*steps)[i]);
}

static void step_release(struct th_recipe_step *step)
{
	for (size_t i = 0; i < step->pair_count; i++) {
		free(step->pairs[i].inside);
		free(step->pairs[i].outside);
	}
	free(step->pairs);
	free(step->owner);
	free(step->mode);
	th_strings_release(&step->leave_out);
	th_strings_release(&step->command);
	th_strings_release(&step->env);
	th_strings_release(&step->networks);
	th_strings_release(&step->mounts);
	th_strings_release(&step->secrets);
	th_strings_release(&step->limits);
	free(step->user);
	free(step->workdir);
	steps_release(step->steps, step->step_count);
}

void steps_release(struct th_recipe_step *steps, size_t count)
{
	for (size_t i = 0; i < count; i++)
		step_release(&steps[i]);
	free(steps);
}

/* ---- a line about it ---- */

void th_step_text(const struct th_recipe_step *step, char *text, size_t size)
{
	static const char *const words[] = {"put", "do", "take", "join"};
	size_t used = (size_t)snprintf(text, size, "%s", words[step->kind]);

	for (size_t i = 0; i < step->command.count && used < size; i++)
		used += (size_t)snprintf(text + used, size - used, " %s",
			step->command.items[i]);
	for (size_t i = 0; i < step->pair_count && used < size; i++) {
		/* Several sources of one place stand for one. */
		if (i &&
			strcmp(step->pairs[i].inside,
				step->pairs[i - 1].inside) == 0)
			continue;
		used += (size_t)snprintf(
			text + used, size - used, " %s", step->pairs[i].inside);
	}
	if (step->kind == TH_STEP_JOIN && used < size)
		snprintf(text + used, size - used, " %zu steps",
			step->step_count);
	/* One line, whatever the text is. */
	used = strlen(text);
	while (used > 0 && isspace((unsigned char)text[used - 1]))
		text[--used] = '\0';
	for (char *at = text; *at; at++) {
		if (*at == '\n' || *at == '\t')
			*at = ' ';
	}
}
