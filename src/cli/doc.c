#include "cli/doc.h"

#include <stdio.h>
#include <string.h>

#include "base/clock.h"

const char *doc_text(const json_t *doc, const char *key)
{
	const char *text = json_string_value(json_object_get(doc, key));

	return text ? text : "";
}

int64_t doc_number(const json_t *doc, const char *key)
{
	return json_integer_value(json_object_get(doc, key));
}

bool doc_flag(const json_t *doc, const char *key)
{
	return json_is_true(json_object_get(doc, key));
}

int64_t doc_time(const json_t *doc, const char *key)
{
	const char *text = json_string_value(json_object_get(doc, key));
	int64_t time_us = 0;

	return text && th_clock_parse(text, &time_us) == 0 ? time_us : 0;
}

json_t *doc_part(const json_t *doc, const char *key)
{
	json_t *part = json_object_get(doc, key);

	return json_is_array(part) || json_is_object(part) ? part : NULL;
}

size_t doc_count(const json_t *doc, const char *key)
{
	return json_array_size(json_object_get(doc, key));
}

const char *doc_item(const json_t *list, size_t at)
{
	const char *text = json_string_value(json_array_get(list, at));

	return text ? text : "";
}

void doc_join(const json_t *doc, const char *key, const char *between,
	struct th_buf *text)
{
	const json_t *list = json_object_get(doc, key);

	th_buf_init(text, 65536);
	th_buf_adds(text, "");
	for (size_t i = 0; i < json_array_size(list); i++)
		th_buf_addf(text, "%s%s", i ? between : "", doc_item(list, i));
}

json_t *doc_of_texts(char *const *texts, size_t count)
{
	json_t *list = json_array();

	for (size_t i = 0; i < count; i++)
		json_array_append_new(list, json_string_nocheck(texts[i]));
	return list;
}

void doc_set(json_t *doc, const char *key, const char *text)
{
	if (text)
		json_object_set_new(doc, key, json_string_nocheck(text));
}

const char *short_digest(const char *digest)
{
	const char *colon = strchr(digest, ':');

	return colon ? colon + 1 : digest;
}

bool is_state(const json_t *container, const char *word)
{
	return strcmp(doc_text(container, "state"), word) == 0;
}

bool is_up(const json_t *container)
{
	return is_state(container, "running") ||
		is_state(container, "paused") || is_state(container, "waiting");
}

void reach_text(const json_t *container, char *text, size_t size)
{
	const json_t *ports = doc_part(container, "ports");
	char last[140] = "", item[140];
	size_t used = 0;

	text[0] = '\0';
	for (size_t i = 0; i < json_array_size(ports) && used < size; i++) {
		const json_t *port = json_array_get(ports, i);
		const char *url = doc_text(port, "url");

		snprintf(item, sizeof(item), "%lld at %.120s",
			(long long)doc_number(port, "port"),
			*url ? url : doc_text(port, "reach"));
		/* The same port over IPv4 and IPv6 is one to people. */
		if (strcmp(item, last) == 0)
			continue;
		snprintf(last, sizeof(last), "%s", item);
		snprintf(text + used, size - used, "%s%s", used ? ", " : "",
			item);
		used = strlen(text);
	}
}
