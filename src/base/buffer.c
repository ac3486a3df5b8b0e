#include "base/buffer.h"

#include <stdarg.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static char nothing[1];

void th_buf_init(struct th_buf *buf, size_t limit)
{
	memset(buf, 0, sizeof(*buf));
	buf->data = nothing;
	buf->limit = limit;
}

void th_buf_release(struct th_buf *buf)
{
	if (buf->cap)
		free(buf->data);
	th_buf_init(buf, buf->limit);
}

void th_buf_base64(struct th_buf *buf, const void *data, size_t len)
{
	static const char digits[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
				     "abcdefghijklmnopqrstuvwxyz0123456789+/";
	const unsigned char *at = data;

	for (size_t i = 0; i < len; i += 3) {
		uint32_t three = (uint32_t)at[i] << 16;
		char four[4];

		if (i + 1 < len)
			three |= (uint32_t)at[i + 1] << 8;
		if (i + 2 < len)
			three |= at[i + 2];
		four[0] = digits[three >> 18];
		four[1] = digits[three >> 12 & 63];
		four[2] = i + 1 < len ? digits[three >> 6 & 63] : '=';
		four[3] = i + 2 < len ? digits[three & 63] : '=';
		th_buf_add(buf, four, 4);
	}
}

static int base64_digit(char c)
{
	static const char digits[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmno"
				     "pqrstuvwxyz0123456789+/";
	const char *at = c ? strchr(digits, c) : NULL;

	return at ? (int)(at - digits) : -1;
}

bool th_buf_unbase64(struct th_buf *buf, const char *text, size_t len)
{
	unsigned int bits = 0;
	int have = 0;

	for (int i = 0; i < 2 && len > 0 && text[len - 1] == '='; i++)
		len--;
	if (len % 4 == 1)
		return false;
	for (size_t i = 0; i < len; i++) {
		int digit = base64_digit(text[i]);
		char byte;

		if (digit < 0)
			return false;
		bits = bits << 6 | (unsigned int)digit;
		have += 6;
		if (have < 8)
			continue;
		have -= 8;
		byte = (char)(bits >> have & 0xff);
		th_buf_add(buf, &byte, 1);
	}
	return !buf->failed;
}

char *th_buf_room(struct th_buf *buf, size_t len)
{
	size_t cap;
	char *data;

	if (buf->failed || len > buf->limit || buf->len > buf->limit - len) {
		buf->failed = true;
		return NULL;
	}
	if (buf->len + len < buf->cap)
		return buf->data + buf->len;
	cap = buf->cap ? buf->cap : 64;
	while (cap <= buf->len + len)
		cap *= 2;
	data = realloc(buf->cap ? buf->data : NULL, cap);
	if (!data) {
		buf->failed = true;
		return NULL;
	}
	data[buf->len] = '\0';
	buf->data = data;
	buf->cap = cap;
	return data + buf->len;
}

void th_buf_add(struct th_buf *buf, const void *data, size_t len)
{
	char *room = th_buf_room(buf, len);

	if (!room)
		return;
	memcpy(room, data, len);
	buf->len += len;
	buf->data[buf->len] = '\0';
}

void th_buf_adds(struct th_buf *buf, const char *text)
{
	th_buf_add(buf, text, strlen(text));
}

void th_buf_addf(struct th_buf *buf, const char *fmt, ...)
{
	va_list args;
	char *room;
	int len;

	va_start(args, fmt);
	len = vsnprintf(NULL, 0, fmt, args);
	va_end(args);
	room = len < 0 ? NULL : th_buf_room(buf, (size_t)len);
	if (!room) {
		buf->failed = true;
		return;
	}
	va_start(args, fmt);
	vsnprintf(room, (size_t)len + 1, fmt, args);
	va_end(args);
	buf->len += (size_t)len;
}

char *th_buf_take(struct th_buf *buf)
{
	char *data = NULL;

	if (!buf->failed && th_buf_room(buf, 0) && buf->cap) {
		data = buf->data;
		buf->cap = 0;
	}
	th_buf_release(buf);
	return data;
}

void th_buf_fit(struct th_buf *buf)
{
	char *data = buf->cap ? realloc(buf->data, buf->len + 1) : NULL;

	if (!data)
		return;
	buf->data = data;
	buf->cap = buf->len + 1;
}

void th_buf_drop(struct th_buf *buf, size_t len)
{
	if (len >= buf->len) {
		buf->len = 0;
	} else {
		memmove(buf->data, buf->data + len, buf->len - len);
		buf->len -= len;
	}
	if (buf->cap)
		buf->data[buf->len] = '\0';
}

int th_strings_take(struct th_strings *list, char *text)
{
	char **items;

	if (!text)
		return -1;
	items = realloc(list->items, (list->count + 2) * sizeof(*items));
	if (!items) {
		free(text);
		return -1;
	}
	items[list->count++] = text;
	items[list->count] = NULL;
	list->items = items;
	return 0;
}

int th_strings_add(struct th_strings *list, const char *text)
{
	return th_strings_take(list, strdup(text));
}

int th_strings_set(struct th_strings *list, const char *pair)
{
	size_t key = strcspn(pair, "=") + 1;
	char *copy = strdup(pair);

	for (size_t i = 0; copy && i < list->count; i++) {
		if (strncmp(list->items[i], pair, key) != 0)
			continue;
		free(list->items[i]);
		list->items[i] = copy;
		return 0;
	}
	return th_strings_take(list, copy);
}

void th_strings_release(struct th_strings *list)
{
	for (size_t i = 0; i < list->count; i++)
		free(list->items[i]);
	free(list->items);
	list->items = NULL;
	list->count = 0;
}

char *th_format(const char *fmt, ...)
{
	va_list args;
	char *text = NULL;
	int len;

	va_start(args, fmt);
	len = vasprintf(&text, fmt, args);
	va_end(args);
	return len < 0 ? NULL : text;
}

void *th_grow(void **list, size_t count, size_t size)
{
	bool full = !count || (count >= 8 && (count & (count - 1)) == 0);
	void *bigger = *list;

	if (full)
		bigger = realloc(*list, (count ? count * 2 : 8) * size);
	if (!bigger)
		return NULL;
	*list = bigger;
	return (char *)bigger + count * size;
}
