#include "base/clock.h"

#include "unit/unit.h"

static void times_are_read_as_written(void)
{
	static const int64_t times[] = {
		0, 1, 999999, 1772341964123456, 4102444799999999};
	char text[TH_TIME_TEXT];
	int64_t back;

	for (size_t i = 0; i < COUNT_OF(times); i++) {
		th_clock_format(times[i], text);
		CHECK_INT(th_clock_parse(text, &back), 0);
		CHECK_INT(back, times[i]);
	}
	th_clock_format(1772341964123456, text);
	CHECK_TEXT(text, "2026-03-01T05:12:44.123456Z");
}

static void rfc_3339_is_understood(void)
{
	static const struct {
		const char *text;
		int64_t seconds;
	} good[] = {{"2026-03-01T05:12:44Z", 1772341964},
		{"2026-03-01t05:12:44z", 1772341964},
		{"2026-03-01T07:12:44+02:00", 1772341964},
		{"2026-03-01T01:42:44-03:30", 1772341964},
		{"2026-03-01 05:12:44", 1772341964},
		{"2026-03-01", 1772323200}};
	static const char *const bad[] = {"", "yesterday", "2026-03",
		"2026-03-01T", "2026-03-01T05:12:44+2",
		"2026-03-01T05:12:44Zx"};
	int64_t time_us;

	for (size_t i = 0; i < COUNT_OF(good); i++) {
		CHECK_INT(th_clock_parse(good[i].text, &time_us), 0);
		CHECK_INT(time_us, good[i].seconds * 1000000);
	}
	for (size_t i = 0; i < COUNT_OF(bad); i++)
		CHECK_INT(th_clock_parse(bad[i], &time_us), -1);
}

static void spans_are_understood(void)
{
	static const struct {
		const char *text;
		int64_t us;
	} good[] = {{"10", 10000000}, {"10s", 10000000}, {"500ms", 500000},
		{"1.5s", 1500000}, {"5m", 300000000}, {"5min", 300000000},
		{"2h", 7200000000}, {"7d", 604800000000}};
	static const char *const bad[] = {"", "-1s", "s", "10 parsecs", "1e99"};
	int64_t us;

	for (size_t i = 0; i < COUNT_OF(good); i++) {
		CHECK_INT(th_clock_parse_span(good[i].text, &us), 0);
		CHECK_INT(us, good[i].us);
	}
	for (size_t i = 0; i < COUNT_OF(bad); i++)
		CHECK_INT(th_clock_parse_span(bad[i], &us), -1);
}

static void spans_are_said_as_people_do(void)
{
	static const struct {
		int64_t us;
		const char *text;
	} cases[] = {{-5, "0 ms"}, {0, "0 ms"}, {20000, "20 ms"},
		{1000000, "1 s"}, {119000000, "119 s"}, {120000000, "2 min"},
		{7200000000, "2 h"}, {172800000000, "2 d"}};
	char text[TH_TIME_TEXT];

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		th_clock_span(cases[i].us, text);
		CHECK_TEXT(text, cases[i].text);
	}
}

static const CU_TestInfo tests[] = {
	{"times are read as written", times_are_read_as_written},
	{"RFC 3339 is understood", rfc_3339_is_understood},
	{"spans are understood", spans_are_understood},
	{"spans are said as people do", spans_are_said_as_people_do},
	CU_TEST_INFO_NULL};

const struct suite suite_clock = {"clock", tests};
