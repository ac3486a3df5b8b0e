#include "model/mount.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/turned.h"
#include "base/choice.h"
#include "base/buffer.h"
#include "base/json.h"
#include "base/path.h"
#include "base/size.h"
#include "model/name.h"

/* The words of "propagate" are those of mount(8) without their r. */
static const char *find_propagation(const char *word)
{
	static const char *const all[] = {"rprivate", "rslave", "rshared"};

	for (size_t i = 0; i < sizeof(all) / sizeof(*all); i++) {
		if (strcmp(all[i] + 1, word) == 0)
			return all[i];
	}
	return NULL;
}

/* Other words for options of mounts: "" where none is needed; NULL. */
static const char *option_meant(const char *option)
{
	static const char *const others[][2] = {{"readonly", "ro"},
		{"read-only", "ro"}, {"rw", ""}, {"writable", ""},
		{"write", ""}, {"readwrite", ""}, {"create", "make"},
		{"mkdir", "make"}, {"new", "make"}, {"map", "map=me"},
		{"chown", "map=me"}, {"me", "map=me"}, {"owner=me", "map=me"},
		{"z", "label=all"}, {"Z", "label=mine"}};

	for (size_t i = 0; i < sizeof(others) / sizeof(*others); i++) {
		if (strcmp(option, others[i][0]) == 0)
			return others[i][1];
	}
	return NULL;
}

static int take_mount_option(struct th_mount_setting *mount, const char *option,
	const char *text, struct th_error *err)
{
	const char *meant;

	if (strcmp(option, "ro") == 0) {
		mount->readonly = true;
	} else if (strcmp(option, "make") == 0) {
		mount->make = true;
	} else if (strcmp(option, "map=me") == 0) {
		mount->map_owner = true;
	} else if (strcmp(option, "label=mine") == 0) {
		mount->label = TH_LABEL_MINE;
	} else if (strcmp(option, "label=all") == 0) {
		mount->label = TH_LABEL_ALL;
	} else if (strncmp(option, "propagate=", 10) == 0 &&
		find_propagation(option + 10)) {
		mount->propagation = find_propagation(option + 10);
	} else {
		th_fail(err, TH_USAGE,
			"\"%s\" in the mount \"%.200s\" is not an option of "
			"mounts",
			option, text);
		meant = option_meant(option);
		if (meant)
			return th_hint(err, "it is: --mount %.*s%s%s",
				(int)strcspn(text, ","), text,
				*meant ? "," : "", meant);
		return th_hint(err,
			"options of mounts: ro, make, map=me, label=mine, "
			"label=all, propagate=private|slave|shared");
	}
	return 0;
}

static int take_source(struct th_mount_setting *mount, const char *source,
	const char *text, const char *base, struct th_error *err)
{
	if (strncmp(source, "memory", 6) == 0 &&
		(source[6] == ':' || !source[6])) {
		mount->kind = TH_MOUNT_MEMORY;
		if (source[6] &&
			th_size_parse(source + 7, &mount->size_bytes)) {
			th_fail(err, TH_USAGE,
				"\"%s\" in the mount \"%.200s\" is not a size",
				source + 7, text);
			return th_hint(err, "use a number with K, M or G");
		}
		return 0;
	}
	if (strncmp(source, "volume:", 7) == 0) {
		mount->kind = TH_MOUNT_VOLUME;
		if (!th_name_valid(source + 7)) {
			th_fail(err, TH_USAGE,
				"\"%.100s\" is not a valid volume name",
				source + 7);
			return th_hint(err,
				"use up to 63 letters, digits, dots, dashes "
				"and underscores");
		}
		mount->volume = strdup(source + 7);
		return mount->volume ? 0 : th_fail_memory(err);
	}
	mount->source = th_path_absolute(base, source);
	return mount->source ? 0 : th_fail_memory(err);
}

static void wrong(const char *text, const char *source, struct th_error *err)
{
	const char *colon = strchr(text, ':');
	char turned[TH_TURNED_TEXT];

	th_fail(err, TH_USAGE, "\"%.200s\" is not a mount setting", text);
	/* "/srv:/home/pilot/site": what is there of the two is the source. */
	if (text[0] == '/' && !source && colon && colon[1] == '/' &&
		access(colon + 1, F_OK) == 0) {
		snprintf(turned, sizeof(turned), "%.*s", (int)(colon - text),
			text);
		if (access(turned, F_OK) != 0) {
			th_hint(err, "it is: --mount %s=%s", turned, colon + 1);
			return;
		}
	}
	if (th_turned_mount(text, turned))
		th_hint(err,
			"what is inside stands on the left; if that is %.*s: "
			"--mount %.150s",
			(int)(strcspn(turned, "=") > 60 ? 60
							: strcspn(turned, "=")),
			turned, turned);
	else if (text[0] == '/' && !source && colon && colon[1])
		th_hint(err, "it is: --mount %.*s=%s%s", (int)(colon - text),
			text,
			colon[1] == '.' || colon[1] == '~' ||
					strncmp(colon + 1, "volume:", 7) == 0 ||
					strncmp(colon + 1, "memory", 6) == 0
				? ""
				: "volume:",
			colon + 1);
	else if (text[0] == '/' && !source)
		th_hint(err,
			"say what is seen there: --mount %.60s=./FOLDER, "
			"=volume:NAME or =memory:64M",
			text);
	else if (source && source[0] && source[1] && text[0] != '=')
		th_hint(err,
			"the path inside, on the left, begins with /: --mount "
			"/%.150s",
			text[0] == '.' && text[1] == '/' ? text + 2 : text);
	else
		th_hint(err,
			"write what the container sees on the left: "
			"/data=./ledger; add ,ro or ,make as needed");
}

int th_mount_parse(const char *text, const char *base,
	struct th_mount_setting *mount, struct th_error *err)
{
	char *copy = strdup(text), *source, *option, *rest = NULL;
	int rc = -1;

	memset(mount, 0, sizeof(*mount));
	if (!copy)
		return th_fail_memory(err);
	source = strchr(copy, '=');
	if (copy[0] != '/' || !source || !source[1] || source[1] == ',') {
		wrong(text, source, err);
		goto out;
	}
	*source++ = '\0';
	option = strchr(source, ',');
	if (option)
		*option++ = '\0';
	mount->target = th_path_absolute("/", copy);
	if (!mount->target) {
		th_fail_memory(err);
		goto out;
	}
	if (strcmp(mount->target, "/") == 0) {
		th_fail(err, TH_USAGE,
			"the mount \"%.200s\" would replace the container's "
			"root",
			text);
		goto out;
	}
	for (option = option ? strtok_r(option, ",", &rest) : NULL; option;
		option = strtok_r(NULL, ",", &rest)) {
		if (take_mount_option(mount, option, text, err))
			goto out;
	}
	rc = take_source(mount, source, text, base, err);
out:
	free(copy);
	return rc;
}

void th_mount_release(struct th_mount_setting *mount)
{
	free(mount->target);
	free(mount->source);
	free(mount->volume);
	mount->target = mount->source = mount->volume = NULL;
}

/* ---- and back ---- */

static const char *const labels[] = {
	[TH_LABEL_NONE] = "", [TH_LABEL_MINE] = "mine", [TH_LABEL_ALL] = "all"};

static char *format_source(const struct th_mount_setting *mount)
{
	char size[TH_SIZE_EXACT];

	if (mount->kind == TH_MOUNT_VOLUME)
		return th_format("volume:%s", mount->volume);
	if (mount->kind == TH_MOUNT_FOLDER)
		return strdup(mount->source);
	if (!mount->size_bytes)
		return strdup("memory");
	th_size_exact(mount->size_bytes, size);
	return th_format("memory:%s", size);
}

char *th_mount_format(const struct th_mount_setting *mount)
{
	const char *propagation = mount->propagation;
	char *source = format_source(mount), *text;

	text = source
		? th_format("%s=%s%s%s%s%s%s%s%s", mount->target, source,
			  mount->readonly ? ",ro" : "",
			  mount->make ? ",make" : "",
			  mount->map_owner ? ",map=me" : "",
			  mount->label ? ",label=" : "", labels[mount->label],
			  propagation ? ",propagate=" : "",
			  propagation ? propagation + 1 : "")
		: NULL;
	free(source);
	return text;
}

static const char *const kinds[] = {[TH_MOUNT_FOLDER] = "folder",
	[TH_MOUNT_MEMORY] = "memory",
	[TH_MOUNT_VOLUME] = "volume"};

json_t *th_mount_to_json(const struct th_mount_setting *mount)
{
	const char *source =
		mount->kind == TH_MOUNT_FOLDER ? mount->source : NULL;
	json_t *doc = json_pack("{s:s s:s s:s* s:s* s:b s:b s:b s:b s:s s:s*}",
		"kind", kinds[mount->kind], "target", mount->target, "source",
		source, "volume", mount->volume, "own", mount->own, "readonly",
		mount->readonly, "make", mount->make, "map-owner",
		mount->map_owner, "label", labels[mount->label], "propagate",
		mount->propagation ? mount->propagation + 1 : NULL);

	if (doc && mount->size_bytes)
		json_object_set_new(doc, "size",
			json_integer((json_int_t)mount->size_bytes));
	return doc;
}

/* A copy where it is there. */
static int take(
	const json_t *doc, const char *key, char **copy, struct th_error *err)
{
	const char *text = NULL;
	int rc = th_json_string(doc, key, "a mount", &text, err);

	if (rc != 1)
		return rc;
	*copy = strdup(text);
	return *copy ? 1 : th_fail_memory(err);
}

int th_mount_from_json(
	const json_t *doc, struct th_mount_setting *mount, struct th_error *err)
{
	static const char what[] = "a mount";
	const char *kind = NULL, *label = NULL, *propagation = NULL;
	int64_t size = 0;
	int kind_number, label_number;

	memset(mount, 0, sizeof(*mount));
	if (th_json_string(doc, "kind", what, &kind, err) < 0 ||
		th_json_string(doc, "label", what, &label, err) < 0 ||
		th_json_string(doc, "propagate", what, &propagation, err) < 0 ||
		th_json_int(doc, "size", what, &size, err) < 0 ||
		th_json_bool(doc, "own", what, &mount->own, err) < 0 ||
		th_json_bool(doc, "readonly", what, &mount->readonly, err) <
			0 ||
		th_json_bool(doc, "make", what, &mount->make, err) < 0 ||
		th_json_bool(doc, "map-owner", what, &mount->map_owner, err) <
			0 ||
		take(doc, "target", &mount->target, err) < 0 ||
		take(doc, "source", &mount->source, err) < 0 ||
		take(doc, "volume", &mount->volume, err) < 0)
		return -1;
	kind_number = th_choice(kind, kinds, 3);
	label_number = th_choice(label, labels, 3);
	if (kind_number < 0 || label_number < 0 || size < 0 || !mount->target ||
		(kind_number == TH_MOUNT_FOLDER && !mount->source) ||
		(kind_number == TH_MOUNT_VOLUME && !mount->volume) ||
		(propagation && !find_propagation(propagation)))
		return th_fail(err, TH_FAILED, "a mount is not valid");
	mount->kind = (enum th_mount_kind)kind_number;
	mount->label = (enum th_mount_label)label_number;
	mount->size_bytes = (uint64_t)size;
	mount->propagation = propagation ? find_propagation(propagation) : NULL;
	return 0;
}
