/* How much a YAML file may hold. */
#include <string.h>

#include "base/yaml_bounds.h"
#include "unit/unit.h"

static struct th_buf text;

static void repeat(const char *part, size_t count)
{
	for (size_t i = 0; i < count; i++)
		th_buf_adds(&text, part);
}

/* Checks what was put together, and begins anew. */
static const char *verdict(void)
{
	static struct th_error err;

	th_error_clear(&err);
	CHECK(!text.failed);
	if (th_yaml_check("berths.yaml", &text, &err)) {
		CHECK_INT(err.code, TH_USAGE);
	} else {
		CHECK_TEXT(err.msg, "");
	}
	th_buf_release(&text);
	th_buf_init(&text, 4 << 20);
	return err.msg;
}

static void levels_are_counted(void)
{
	th_buf_init(&text, 4 << 20);
	repeat("[", 16);
	repeat("]", 16);
	CHECK_TEXT(verdict(), "");
	repeat("\n", 2);
	repeat("[", 17);
	repeat("]", 17);
	CHECK_TEXT(verdict(), "berths.yaml, line 3: it is nested too deeply");
	/* Not read to its end, which it does not have. */
	th_buf_adds(&text, "tide: ");
	repeat("[", 900000);
	CHECK(strstr(verdict(), "nested too deeply") != NULL);
	th_buf_adds(&text, "tide: ");
	repeat("{a: ", 200000);
	CHECK(strstr(verdict(), "nested too deeply") != NULL);
	/* One after the other is no nesting. */
	repeat("- [a]\n", 3000);
	CHECK_TEXT(verdict(), "");
	th_buf_release(&text);
}

static void values_are_counted(void)
{
	th_buf_init(&text, 4 << 20);
	repeat("- a\n", 9999);
	CHECK_TEXT(verdict(), "");
	repeat("- a\n", 10000);
	CHECK(strstr(verdict(), "more than 10,000 values") != NULL);
	th_buf_adds(&text, "- &tide high\n");
	repeat("- *tide\n", 100);
	CHECK_TEXT(verdict(), "");
	th_buf_adds(&text, "- &tide high\n");
	repeat("- *tide\n", 101);
	CHECK(strstr(verdict(), "more than 100 aliases") != NULL);
	th_buf_release(&text);
}

static void others_say_what_is_wrong(void)
{
	static const char *const texts[] = {
		"", "tide: [", "\t- x", "]", "\x80", "a: b: c", "*nobody"};

	th_buf_init(&text, 4 << 20);
	for (size_t i = 0; i < COUNT_OF(texts); i++) {
		th_buf_adds(&text, texts[i]);
		CHECK_TEXT(verdict(), "");
	}
	th_buf_release(&text);
}

static const CU_TestInfo tests[] = {{"levels are counted", levels_are_counted},
	{"values are counted", values_are_counted},
	{"others say what is wrong", others_say_what_is_wrong},
	CU_TEST_INFO_NULL};

const struct suite suite_yaml_bounds = {"yaml bounds", tests};
