#include "base/choice.h"
#include "base/json.h"
#include "base/json_cut.h"

#include <string.h>

#include "unit/unit.h"

static void only_objects_without_tricks(void)
{
	static const char *const bad[] = {"", "[]", "1", "{",
		"{\"a\":1,\"a\":2}", "{\"a\":1} x", "{\"a\":\"\xff\"}"};
	json_t *doc;

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct th_error err = {0};

		CHECK_INT(th_json_parse(bad[i], strlen(bad[i]), "the chart",
				  &doc, &err),
			-1);
		CHECK(strstr(err.msg, "the chart") != NULL);
	}
}

static void depth_is_bounded(void)
{
	struct th_error err = {0};
	char text[4096];
	json_t *doc;
	size_t len = 0;

	for (int i = 0; i < 200; i++)
		len += (size_t)sprintf(text + len, "{\"a\":");
	CHECK_INT(th_json_parse(text, len, "the chart", &doc, &err), -1);
	CHECK(strstr(err.msg, "levels deep") != NULL);
}

static void wrong_types_are_named(void)
{
	static const char text[] =
		"{\"s\":1,\"i\":\"x\",\"b\":0,\"o\":[],\"a\":{},\"l\":[1],"
		"\"z\":\"a\\u0000b\",\"n\":null}";
	struct th_strings list = {0};
	struct th_error err = {0};
	const char *value;
	json_t *doc = NULL, *part;
	int64_t number;
	bool flag;

	CHECK_INT(th_json_parse(text, strlen(text), "it", &doc, &err), -1);
	th_error_clear(&err);
	doc = json_loads(text, JSON_ALLOW_NUL, NULL);
	CHECK_INT(th_json_string(doc, "s", "it", &value, &err), -1);
	CHECK_TEXT(err.msg, "\"s\" in it is not a string");
	CHECK_INT(th_json_int(doc, "i", "it", &number, NULL), -1);
	CHECK_INT(th_json_bool(doc, "b", "it", &flag, NULL), -1);
	CHECK_INT(th_json_object(doc, "o", "it", &part, NULL), -1);
	CHECK_INT(th_json_array(doc, "a", "it", &part, NULL), -1);
	CHECK_INT(th_json_strings(doc, "l", "it", &list, NULL), -1);
	CHECK_INT(th_json_string(doc, "z", "it", &value, NULL), -1);
	CHECK_INT(th_json_string(doc, "n", "it", &value, NULL), 0);
	CHECK_INT(th_json_string(doc, "none", "it", &value, NULL), 0);
	CHECK(value == NULL);
	th_strings_release(&list);
	json_decref(doc);
}

static bool is_short(const json_t *item, const void *with)
{
	return json_string_length(item) < *(const size_t *)with;
}

static void what_is_unwanted_goes(void)
{
	json_t *list = json_pack("[s,s,s,s]", "ebb", "x", "", "flood");
	const size_t least = 2;

	th_json_filter(list, is_short, &least);
	CHECK_INT(json_array_size(list), 2);
	CHECK_TEXT(json_string_value(json_array_get(list, 0)), "ebb");
	CHECK_TEXT(json_string_value(json_array_get(list, 1)), "flood");
	th_json_filter(NULL, is_short, &least);
	json_decref(list);
}

static void one_of_a_few_words(void)
{
	static const char *const words[] = {"ebb", "flood", "slack"};

	CHECK_INT(th_choice("flood", words, 3), 1);
	CHECK_INT(th_choice("slack", words, 2), -1);
	CHECK_INT(th_choice("", words, 3), -1);
	CHECK_INT(th_choice(NULL, words, 3), -1);
}

static void a_part_can_be_cut_out(void)
{
	static const struct {
		const char *text, *cut;
	} cases[] = {
		{"{\"a\":1,\"outer\":{\"b\":[1,{\"inner\":2}],\"inner\":{\"c"
		 "\":\"}\\\"]\",\"d\":[[],{}]},\"e\":3},\"f\":{\"inner\":[7]"
		 "}}",
			"{\"a\":1,\"outer\":{\"b\":[1,{\"inner\":2}],\"inner\""
			":null,\"e\":3},\"f\":{\"inner\":[7]}}"},
		{" { \"outer\" : { \"inner\" : \"long text\" } } ",
			" { \"outer\" : { \"inner\" :null} } "},
		/* Nothing to cut: as it was. */
		{"{\"inner\":{\"outer\":{}}}", NULL}, {"{\"outer\":7}", NULL},
		{"{\"outer\":{\"inner\":1}}", NULL}, {"", NULL}, {"[]", NULL},
		{"{\"outer", NULL}, {"{\"outer\":{\"inner\"", NULL},
		{"{\"outer\":{\"x\":\"\\", NULL}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		char *text = strdup(cases[i].text);
		size_t len = th_json_cut(text, strlen(text), "outer", "inner");

		text[len] = '\0';
		CHECK_TEXT(text, cases[i].cut ? cases[i].cut : cases[i].text);
		free(text);
	}
}

static const CU_TestInfo tests[] = {
	{"a part can be cut out", a_part_can_be_cut_out},
	{"only objects without tricks", only_objects_without_tricks},
	{"depth is bounded", depth_is_bounded},
	{"wrong types are named", wrong_types_are_named},
	{"what is unwanted goes", what_is_unwanted_goes},
	{"one of a few words", one_of_a_few_words}, CU_TEST_INFO_NULL};

const struct suite suite_json = {"json", tests};
