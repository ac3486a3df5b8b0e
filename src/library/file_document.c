/* Settings files, as documents. */
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/near_file.h"
#include "base/file.h"
#include "base/json.h"
#include "base/path.h"
#include "group/settings_file.h"
#include "library/library.h"

/* Each setting, and how an image is got; "settings", "given" and the like are
 * no words of a file. */
static void list_words(struct th_file_word *words)
{
	size_t used = 0;

	for (const struct th_setting *one = th_settings_all; one->name; one++) {
		/* These have places of their own in it. */
		if (strcmp(one->name, "image") == 0 ||
			strcmp(one->name, "command") == 0)
			continue;
		/* The command line says when; a file, too. */
		words[used++] = (struct th_file_word){one->name,
			one->kind == TH_SETTING_FLAG &&
				strcmp(one->name, "tty") != 0};
	}
	words[used++] = (struct th_file_word){"fetch", false};
	words[used].name = NULL;
}

static json_t *view_place(const struct th_yaml_place *place)
{
	return json_pack("{s:I s:I}", "line", (json_int_t)place->line, "column",
		(json_int_t)place->column);
}

static json_t *view_file_container(const struct th_file_container *one)
{
	json_t *settings = json_array(), *after = json_array();
	json_t *doc, *at = view_place(&one->place);

	for (size_t i = 0; i < one->setting_count; i++)
		json_array_append_new(settings,
			json_pack("[s s?]", one->settings[i].name,
				one->settings[i].value));
	for (size_t i = 0; i < one->after_count; i++)
		json_array_append_new(after,
			json_pack("{s:s s:s}", "member", one->after[i].member,
				"is", th_after_word(one->after[i].what)));
	doc = json_pack("{s:s s:s s:s? s:s? s:o s:o}", "member", one->member,
		"name", one->name, "image", one->image, "build", one->build,
		"settings", settings, "after", after);
	json_object_set_new(doc, "command",
		one->has_command ? th_json_from_strings(&one->command)
				 : json_null());
	json_object_update(doc, at);
	json_decref(at);
	return doc;
}

static json_t *view_file(const struct th_settings_file *file)
{
	json_t *containers = json_array(), *networks = json_array();

	for (size_t i = 0; i < file->container_count; i++)
		json_array_append_new(
			containers, view_file_container(&file->containers[i]));
	for (size_t i = 0; i < file->network_count; i++) {
		const struct th_file_network *one = &file->networks[i];
		json_t *doc = json_pack("{s:s s:o s:b s:b}", "name", one->name,
			"subnets", th_json_from_strings(&one->subnets),
			"internal", (int)one->internal, "host-loopback",
			(int)one->loopback);
		json_t *at = view_place(&one->place);

		json_object_update(doc, at);
		json_decref(at);
		json_array_append_new(networks, doc);
	}
	return json_pack("{s:s? s:o s:o s:o}", "group", file->group, "networks",
		networks, "volumes", th_json_from_strings(&file->volumes),
		"containers", containers);
}

static int read_text(
	const char *path, struct th_buf *text, struct th_error *err)
{
	int rc = th_named_read(path, text, err);
	char near[TH_NEAR_FILE];

	if (rc == 0)
		th_fail(err, TH_NOT_FOUND,
			"the settings file %.300s does not exist", path);
	if (rc == 0 && th_near_file(path, near))
		th_hint(err, "did you mean %.250s?", near);
	return rc == 1 ? 0 : -1;
}

/* Paths in it start where it lies; those of a pipe, where the caller is. */
static char *folder_of(const char *path)
{
	char cwd[4096], *whole, *slash;
	struct stat st;

	if (!getcwd(cwd, sizeof(cwd)))
		snprintf(cwd, sizeof(cwd), "/");
	if (strcmp(path, "-") == 0 ||
		(stat(path, &st) == 0 && !S_ISREG(st.st_mode)))
		return strdup(cwd);
	whole = th_path_absolute(cwd, path);
	slash = whole ? strrchr(whole, '/') : NULL;
	if (slash)
		slash[slash == whole] = '\0';
	return whole;
}

int th_settings_load(
	const char *path, const json_t *given, json_t **doc, th_error *error)
{
	struct th_error own = {0};
	struct th_file_word words[64];
	struct th_settings_file file = {0};
	struct th_problems problems = {0};
	struct th_strings values = {0};
	char *folder = folder_of(path);
	struct th_buf text;
	int rc;

	error = error ? error : &own;
	library_begin(doc);
	list_words(words);
	th_buf_init(&text, TH_YAML_BYTES);
	rc = folder ? read_text(path, &text, error) : th_fail_memory(error);
	if (rc == 0)
		rc = library_texts(given, "given", &values, error);
	if (rc == 0 &&
		th_settings_file_read(
			path, folder, &text, &values, words, &file, &problems))
		rc = library_problems(&problems, doc, error);
	if (rc == 0)
		rc = library_give(view_file(&file), doc, error);
	th_problems_release(&problems);
	th_settings_file_release(&file);
	th_strings_release(&values);
	th_buf_release(&text);
	free(folder);
	return rc;
}
