/* What the parts of the public library share. */
#include "library/library.h"

#include <stdlib.h>
#include <string.h>

#include "base/choice.h"
#include "base/json.h"
#include "group/group.h"
#include "image/pull.h"
#include "view/describe.h"
#include "view/look.h"

void library_begin(json_t **doc)
{
	if (doc)
		*doc = NULL;
}

int library_give(json_t *doc, json_t **given, struct th_error *err)
{
	if (!doc)
		return th_fail_memory(err);
	if (given)
		*given = doc;
	else
		json_decref(doc);
	return 0;
}

int library_give_list(
	const char *name, json_t *list, json_t **given, struct th_error *err)
{
	return library_give(json_pack("{s:o}", name, list), given, err);
}

int library_container(th_hull *hull, const char *name,
	struct th_container_row *row, struct th_error *err)
{
	struct th_object object;

	if (th_object_find(
		    &hull->context, name, TH_KIND_CONTAINER, &object, err))
		return -1;
	*row = object.container;
	th_object_release(&object);
	return 0;
}

json_t *library_now(th_hull *hull, const char *id)
{
	struct th_container_row row;
	struct th_error ignored = {0}; /* then it is gone */

	return th_state_get(hull->context.store->db, id, &row, &ignored) == 1
		? th_view_container(&hull->context, &row)
		: NULL;
}

json_t *library_error(const struct th_error *err)
{
	return json_pack("{s:i s:o s:o}", "code", (int)err->code, "message",
		th_view_said(err->msg), "hint", th_view_said(err->hint));
}

int library_problems(
	struct th_problems *problems, json_t **doc, struct th_error *err)
{
	json_t *list = json_array();
	struct th_buf text;

	th_buf_init(&text, sizeof(err->msg));
	for (size_t i = 0; i < problems->count; i++) {
		th_buf_addf(
			&text, "%s%s", i ? "\n" : "", problems->list[i].msg);
		json_array_append_new(list, library_error(&problems->list[i]));
	}
	th_error_clear(err);
	th_fail(err, problems->count ? problems->list[0].code : TH_FAILED, "%s",
		text.data ? text.data : "");
	if (problems->count == 1 && problems->list[0].hint[0])
		th_hint(err, "%s", problems->list[0].hint);
	if (doc)
		*doc = json_pack("{s:o}", "problems", list);
	else
		json_decref(list);
	th_buf_release(&text);
	th_problems_release(problems);
	return -1;
}

int library_ordered(th_hull *hull, const json_t *names, struct th_group *group,
	struct th_error *err)
{
	struct th_container_row *rows = NULL, *found = NULL, *more;
	size_t count = 0, add, i;
	const json_t *name;
	int rc = 0;

	json_array_foreach(names, i, name)
	{
		const char *text = json_string_value(name);
		struct th_object object;

		if (rc ||
			th_object_find(&hull->context, text ? text : "",
				TH_KIND_CONTAINER | TH_KIND_GROUP, &object,
				err)) {
			rc = -1;
			break;
		}
		add = 1;
		if (object.kind == TH_KIND_GROUP)
			rc = th_group_rows(&hull->context, object.group.name,
				&found, &add, err);
		more = rc ? NULL : realloc(rows, (count + add) * sizeof(*more));
		if (more) {
			rows = more;
			memcpy(rows + count, found ? found : &object.container,
				add * sizeof(*more));
			count += add;
		} else if (rc == 0) {
			rc = th_fail_memory(err);
		}
		free(found);
		found = NULL;
		th_object_release(&object);
	}
	if (rc == 0)
		rc = th_group_of(&hull->context, rows, count, group, err);
	free(rows);
	return rc;
}

int library_texts(const json_t *list, const char *what,
	struct th_strings *texts, struct th_error *err)
{
	const json_t *one;
	size_t i;

	if (list && !json_is_array(list))
		return th_fail(
			err, TH_USAGE, "\"%.60s\" is a list of texts", what);
	json_array_foreach(list, i, one)
	{
		if (!json_is_string(one))
			return th_fail(err, TH_USAGE,
				"\"%.60s\" is a list of texts", what);
		if (th_strings_add(texts, json_string_value(one)))
			return th_fail_memory(err);
	}
	return 0;
}

const char *library_text(const json_t *doc, const char *key)
{
	return json_string_value(json_object_get(doc, key));
}

int library_fetch(const char *word, enum th_fetch *fetch, struct th_error *err)
{
	static const char *const words[] = {"missing", "always", "never"};

	int number = th_choice(word, words, 3);

	*fetch = number < 0 ? TH_FETCH_MISSING : (enum th_fetch)number;
	return word && number < 0
		? th_fail(err, TH_USAGE,
			  "\"%.50s\" is not a value of fetch; use missing, "
			  "always or never",
			  word)
		: 0;
}

json_t *library_ending(const struct th_ending *ending)
{
	return json_pack("{s:s s:i s:b s:i}", "kind",
		th_outcome_word((enum th_outcome)ending->outcome), "code",
		(int)ending->code, "by-force", (int)ending->by_force,
		"sessions", (int)ending->sessions);
}

int library_exit_code(const struct th_ending *ending)
{
	return ending->outcome == TH_OUTCOME_SIGNAL ||
			ending->outcome == TH_OUTCOME_OUT_OF_MEMORY
		? 128 + ending->code
		: ending->code;
}

json_t *library_pulled(const struct th_pulled *pulled)
{
	return json_pack("{s:s s:s s:s s:I s:I s:I s:o}", "name", pulled->name,
		"digest", pulled->digest, "from", pulled->from, "layers",
		(json_int_t)pulled->layer_count, "already-here",
		(json_int_t)pulled->here_count, "transferred",
		(json_int_t)pulled->transfer_bytes, "notes",
		th_json_from_strings(&pulled->notes));
}
