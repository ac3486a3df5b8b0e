#include "ipc/words.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/json.h"
#include "base/utf8.h"

/* What is said where there is no memory to say it. */
#define NO_MEMORY "{\"code\":1,\"message\":\"not enough memory\"}"

static json_t *parse(const struct th_message *message)
{
	return json_loadb(message->data, message->len, 0, NULL);
}

/* Names in a message may be no text at all. */
static json_t *visible(const char *text)
{
	json_t *made = json_string(text);
	struct th_buf buf;

	if (made)
		return made;
	th_buf_init(&buf, 4096);
	th_utf8_visible(text, strlen(text), &buf);
	made = json_string(buf.len ? buf.data : "");
	th_buf_release(&buf);
	return made;
}

static char *format(json_t *doc)
{
	char *text = th_json_text(doc, JSON_COMPACT);

	json_decref(doc);
	return text;
}

static int64_t number(const json_t *doc, const char *key)
{
	return json_integer_value(json_object_get(doc, key));
}

static void take_text(
	const json_t *doc, const char *key, char *text, size_t size)
{
	const char *value = json_string_value(json_object_get(doc, key));

	snprintf(text, size, "%s", value ? value : "");
}

char *th_words_of_error(const struct th_error *err)
{
	char *text = format(json_pack("{s:i s:i s:i s:o s:o}", "code",
		(int)err->code, "trouble", (int)err->trouble, "errno", err->sys,
		"message", visible(err->msg), "hint", visible(err->hint)));

	return text ? text : strdup(NO_MEMORY);
}

int th_words_error(const struct th_message *message, struct th_error *err)
{
	json_t *doc = parse(message);

	if (err && err->code == TH_OK) {
		err->code = (enum th_code)number(doc, "code");
		if (err->code <= TH_OK || err->code > TH_NO_EXEC)
			err->code = TH_FAILED;
		err->trouble = (enum th_trouble)number(doc, "trouble");
		if (err->trouble < 0 || err->trouble >= TH_TROUBLE_COUNT)
			err->trouble = TH_TROUBLE_NONE;
		err->sys = (int)number(doc, "errno");
		take_text(doc, "message", err->msg, sizeof(err->msg));
		take_text(doc, "hint", err->hint, sizeof(err->hint));
		if (!err->msg[0])
			snprintf(err->msg, sizeof(err->msg),
				"the container's keeper refuses, and does not "
				"say why");
	}
	json_decref(doc);
	return -1;
}

char *th_words_of_ending(const struct th_ending *ending)
{
	return format(json_pack("{s:i s:i s:i s:i s:i}", "outcome",
		(int)ending->outcome, "code", (int)ending->code, "by-force",
		(int)ending->by_force, "sessions", (int)ending->sessions,
		"wait-ms", (int)ending->wait_ms));
}

bool th_words_ending(const struct th_message *message, struct th_ending *ending)
{
	json_t *doc = parse(message);
	bool is_one = json_is_integer(json_object_get(doc, "outcome"));

	if (is_one)
		*ending = (struct th_ending){
			.outcome = (int32_t)number(doc, "outcome"),
			.code = (int32_t)number(doc, "code"),
			.by_force = (int32_t)number(doc, "by-force"),
			.sessions = (int32_t)number(doc, "sessions"),
			.wait_ms = (int32_t)number(doc, "wait-ms")};
	json_decref(doc);
	return is_one;
}

char *th_words_of_size(struct th_size size)
{
	return format(json_pack("{s:i s:i}", "rows", (int)size.rows, "columns",
		(int)size.columns));
}

bool th_words_size(const struct th_message *message, struct th_size *size)
{
	json_t *doc = parse(message);
	bool is_one = json_is_integer(json_object_get(doc, "rows"));

	if (is_one)
		*size = (struct th_size){.rows = (uint16_t)number(doc, "rows"),
			.columns = (uint16_t)number(doc, "columns")};
	json_decref(doc);
	return is_one;
}

int th_words_send_ports(int fd, enum th_message_type type,
	const struct th_port_row *rows, const int *fds, size_t count)
{
	json_t *list = json_array();
	char *text;
	int rc = -1, sys = ENOMEM;

	for (size_t i = 0; i < count; i++)
		json_array_append_new(list,
			json_pack("{s:s s:s s:i s:i}", "protocol",
				rows[i].protocol, "address", rows[i].address,
				"host-port", rows[i].host_port, "port",
				rows[i].port));
	text = format(list);
	if (text) {
		rc = th_channel_send(
			fd, type, text, strlen(text), fds, (int)count);
		sys = errno;
	}
	free(text);
	errno = sys;
	return rc;
}

size_t th_words_ports(const struct th_message *message,
	struct th_port_row rows[TH_CHANNEL_FDS])
{
	json_t *list = parse(message), *one;
	size_t count = 0, i;

	json_array_foreach(list, i, one)
	{
		if (i == TH_CHANNEL_FDS)
			break;
		memset(&rows[i], 0, sizeof(rows[i]));
		take_text(one, "protocol", rows[i].protocol,
			sizeof(rows[i].protocol));
		take_text(one, "address", rows[i].address,
			sizeof(rows[i].address));
		rows[i].host_port = (int)number(one, "host-port");
		rows[i].port = (int)number(one, "port");
		count = i + 1;
	}
	json_decref(list);
	return count;
}

int th_words_send(int fd, enum th_message_type type, char *text)
{
	int rc = -1, sys = ENOMEM;

	if (text) {
		rc = th_channel_send(fd, type, text, strlen(text), NULL, 0);
		sys = errno;
	}
	free(text);
	errno = sys;
	return rc;
}
