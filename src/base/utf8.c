#include "base/utf8.h"

#include <stdbool.h>
#include <stdint.h>
#include <string.h>

size_t th_utf8_length(const unsigned char *at, size_t len)
{
	unsigned char first = at[0];
	size_t need = first >= 0xf0 ? 4 : first >= 0xe0 ? 3 : 2;

	if (first < 0x80)
		return 1;
	if (first < 0xc2 || first > 0xf4 || len < need)
		return 0;
	for (size_t i = 1; i < need; i++) {
		if ((at[i] & 0xc0) != 0x80)
			return 0;
	}
	if ((first == 0xe0 && at[1] < 0xa0) ||
		(first == 0xed && at[1] > 0x9f) ||
		(first == 0xf0 && at[1] < 0x90) ||
		(first == 0xf4 && at[1] > 0x8f))
		return 0;
	return need;
}

static uint32_t decode(const unsigned char *at, size_t length)
{
	static const unsigned char masks[] = {0, 0x7f, 0x1f, 0x0f, 0x07};
	uint32_t code = at[0] & masks[length];

	for (size_t i = 1; i < length; i++)
		code = code << 6 | (at[i] & 0x3f);
	return code;
}

/* C0, DEL and C1 (ECMA-48); the marks, embeddings, overrides and isolates of
 * the bidirectional algorithm (UAX #9); the two separators, which some
 * terminals take for the end of a line. */
static bool is_harmful(uint32_t code)
{
	return (code < 0x20 && code != '\t') ||
		(code >= 0x7f && code <= 0x9f) || code == 0x61c ||
		code == 0x200e || code == 0x200f ||
		(code >= 0x2028 && code <= 0x202e) ||
		(code >= 0x2066 && code <= 0x2069);
}

/* The length of the harmless character at the beginning; 0 where it is not. */
static size_t harmless_length(const char *text, size_t len)
{
	const unsigned char *at = (const unsigned char *)text;
	size_t length = th_utf8_length(at, len);

	return length && !is_harmful(decode(at, length)) ? length : 0;
}

/* Eight at a time. */
size_t th_utf8_plain(const char *at, size_t len)
{
	const uint64_t ones = 0x0101010101010101, highs = ones << 7;
	size_t i = 0;

	for (; i + 8 <= len; i += 8) {
		uint64_t word, quote, slash, del;

		memcpy(&word, at + i, 8);
		quote = word ^ (ones * '"');
		slash = word ^ (ones * '\\');
		del = word ^ (ones * 0x7f);
		if (((word - ones * 0x20) | ((quote - ones) & ~quote) |
			    ((slash - ones) & ~slash) | ((del - ones) & ~del) |
			    word) &
			highs)
			break;
	}
	for (; i < len; i++) {
		unsigned char byte = (unsigned char)at[i];

		if (byte < 0x20 || byte >= 0x7f || byte == '"' || byte == '\\')
			break;
	}
	return i;
}

/* In blocks of a size that compilers make vectors of. */
#define BLOCK 64

static unsigned char is_special(unsigned char byte)
{
	return (unsigned char)(((byte < 0x20) & (byte != '\n')) |
		(byte >= 0x7f) | (byte == '"') | (byte == '\\'));
}

bool th_utf8_plain_lines(const char *text, size_t len)
{
	const unsigned char *at = (const unsigned char *)text;
	unsigned char special = 0;

	for (; len >= BLOCK && !special; at += BLOCK, len -= BLOCK) {
		for (size_t i = 0; i < BLOCK; i++)
			special |= is_special(at[i]);
	}
	for (size_t i = 0; i < len && !special; i++)
		special |= is_special(at[i]);
	return !special;
}

size_t th_utf8_harmless(const char *text, size_t len)
{
	size_t done = 0, length;

	for (; done < len; done += length) {
		length = harmless_length(text + done, len - done);
		if (!length)
			break;
	}
	return done;
}

/* Copies what is harmless, and lets put tell the rest, a character or a byte
 * that is none (length 0) at a time. */
static void make_visible(const char *text, size_t len, struct th_buf *out,
	void (*put)(struct th_buf *out, const unsigned char *at, size_t length))
{
	while (len > 0) {
		const unsigned char *at = (const unsigned char *)text;
		size_t run = th_utf8_harmless(text, len);

		th_buf_add(out, text, run);
		if (run == 0) {
			run = th_utf8_length(at, len);
			put(out, at, run);
			run += run == 0;
		}
		text += run;
		len -= run;
	}
}

static void put_shown(
	struct th_buf *out, const unsigned char *at, size_t length)
{
	if (length)
		th_buf_addf(out, "<U+%04X>", decode(at, length));
	else
		th_buf_addf(out, "<%02X>", *at);
}

static void put_escaped(
	struct th_buf *out, const unsigned char *at, size_t length)
{
	/* What is between the tokens stays. */
	if (length == 1 && *at < 0x20)
		th_buf_add(out, at, 1);
	else
		th_buf_addf(
			out, "\\u%04x", length ? decode(at, length) : 0xfffd);
}

void th_utf8_visible(const char *text, size_t len, struct th_buf *out)
{
	make_visible(text, len, out, put_shown);
}

void th_utf8_visible_json(const char *text, size_t len, struct th_buf *out)
{
	make_visible(text, len, out, put_escaped);
}
