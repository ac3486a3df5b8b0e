/* What a text may do to a terminal. */
#include <stdlib.h>
#include <string.h>

#include <jansson.h>

#include "base/utf8.h"
#include "unit/unit.h"

static const char *visible(const char *text, size_t len)
{
	static struct th_buf out;

	th_buf_release(&out);
	th_buf_init(&out, 1 << 20);
	th_utf8_visible(text, len, &out);
	CHECK(!out.failed);
	return out.data;
}

static void what_steers_is_made_visible(void)
{
	static const struct {
		const char *text, *shown;
	} cases[] = {{"", ""}, {"the mole, 3\ttugs", "the mole, 3\ttugs"},
		{"Möwe \xe2\x9a\x93 \xf0\x9f\x9a\xa2",
			"Möwe \xe2\x9a\x93 \xf0\x9f\x9a\xa2"},
		{"\033[2Jx", "<U+001B>[2Jx"}, {"a\r\nb", "a<U+000D><U+000A>b"},
		{"\x7f", "<U+007F>"},
		/* C1, as a character and as a byte alone. */
		{"\xc2\x9b"
		 "31m",
			"<U+009B>31m"},
		{"\x9b"
		 "31m",
			"<9B>31m"},
		/* Directions: override, isolate, mark. */
		{"gnp.\xe2\x80\xae", "gnp.<U+202E>"},
		{"\xe2\x81\xa6x\xe2\x81\xa9", "<U+2066>x<U+2069>"},
		{"\xd8\x9c\xe2\x80\x8f", "<U+061C><U+200F>"},
		{"\xe2\x80\xa8", "<U+2028>"},
		/* No UTF-8: overlong, a surrogate, cut off, too large. */
		{"\xc0\x9b", "<C0><9B>"}, {"\xed\xa0\x80", "<ED><A0><80>"},
		{"\xe2\x80", "<E2><80>"},
		{"\xf5\x80\x80\x80", "<F5><80><80><80>"}};

	for (size_t i = 0; i < COUNT_OF(cases); i++)
		CHECK_TEXT(visible(cases[i].text, strlen(cases[i].text)),
			cases[i].shown);
	CHECK_TEXT(visible("a\0b", 3), "a<U+0000>b");
}

/* Whatever goes in: nothing that steers comes out, and all of it is told. */
static void nothing_harmful_comes_through(void)
{
	unsigned int seed = 12;
	char text[64];

	for (int round = 0; round < 20000; round++) {
		size_t len = (size_t)rand_r(&seed) % sizeof(text);
		const char *out;

		for (size_t i = 0; i < len; i++) {
			/* Most are of the kind that matters. */
			static const unsigned char often[] = {
				0xe2, 0x80, 0x81, 0xae, 0xc2, 0x9b, 0x1b};
			int pick = rand_r(&seed) % 16;

			text[i] = pick < 7 ? (char)often[pick]
					   : (char)rand_r(&seed);
		}
		out = visible(text, len);
		CHECK(strpbrk(out, "\033\r\n\x7f") == NULL);
		CHECK(strstr(out, "\xe2\x80\xae") == NULL);
		CHECK(strstr(out, "\xc2\x9b") == NULL);
		CHECK_INT(th_utf8_harmless(out, strlen(out)), strlen(out));
		CHECK(strlen(out) >= th_utf8_harmless(text, len));
	}
}

static void json_means_the_same(void)
{
	const char *word = "\x7f \xc2\x9b \xe2\x80\xae \xf0\x9f\x9a\xa2 \033";
	json_t *doc = json_pack("{s:s}", "name", word), *again;
	char *text = json_dumps(doc, JSON_INDENT(2));
	struct th_buf out;

	th_buf_init(&out, 4096);
	th_utf8_visible_json(text, strlen(text), &out);
	CHECK(strstr(out.data, "\x7f") == NULL);
	CHECK(strstr(out.data, "\xc2\x9b") == NULL);
	CHECK(strstr(out.data, "\xe2\x80\xae") == NULL);
	CHECK(strstr(out.data, "\n  \"name\"") != NULL);
	again = json_loads(out.data, 0, NULL);
	CHECK(json_equal(doc, again));
	json_decref(again);
	json_decref(doc);
	th_buf_release(&out);
	free(text);
}

/* Every byte, at every place of a block. */
static void plain_text_is_told(void)
{
	char text[150];

	memset(text, 'a', sizeof(text));
	CHECK(th_utf8_plain_lines("", 0));
	CHECK_INT(th_utf8_plain(text, sizeof(text)), sizeof(text));
	for (size_t at = 0; at < sizeof(text); at++) {
		for (int byte = 0; byte < 256; byte++) {
			bool plain = byte >= 0x20 && byte < 0x7f &&
				byte != '"' && byte != '\\';

			text[at] = (char)byte;
			CHECK_INT(th_utf8_plain_lines(text, sizeof(text)),
				plain || byte == '\n');
			CHECK_INT(th_utf8_plain(text, sizeof(text)),
				plain ? sizeof(text) : at);
		}
		text[at] = 'a';
	}
}

static const CU_TestInfo tests[] = {{"plain text is told", plain_text_is_told},
	{"what steers is made visible", what_steers_is_made_visible},
	{"nothing harmful comes through", nothing_harmful_comes_through},
	{"JSON means the same", json_means_the_same}, CU_TEST_INFO_NULL};

const struct suite suite_utf8 = {"utf8", tests};
