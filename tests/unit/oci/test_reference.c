#include "oci/reference.h"

#include <string.h>

#include "unit/unit.h"

#define D64 "0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef"

static void parts_are_found(void)
{
	static const char *const cases[][5] = {
		{"gauge", "", "gauge", "latest", ""},
		{"selwick/gauge", "", "selwick/gauge", "latest", ""},
		{"selwick/gauge:2", "", "selwick/gauge", "2", ""},
		{"localhost/gauge", "localhost", "gauge", "latest", ""},
		{"localhost:5000/gauge:1.0", "localhost:5000", "gauge", "1.0",
			""},
		{"reg.example/a/b/c", "reg.example", "a/b/c", "latest", ""},
		{"[::1]:5000/gauge", "[::1]:5000", "gauge", "latest", ""},
		{"127.0.0.1:80/x:y", "127.0.0.1:80", "x", "y", ""},
		{"gauge@sha256:" D64, "", "gauge", "", "sha256:" D64},
		{"h.example/g:t@sha256:" D64, "h.example", "g", "t",
			"sha256:" D64},
		{"a__b/c-d/e---f.g", "", "a__b/c-d/e---f.g", "latest", ""},
		{"gauge:Tag_1.0-x", "", "gauge", "Tag_1.0-x", ""}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_reference ref;
		struct th_error err = {0};

		CHECK_INT(th_reference_parse(cases[i][0], &ref, &err), 0);
		CHECK_TEXT(ref.host, cases[i][1]);
		CHECK_TEXT(ref.path, cases[i][2]);
		CHECK_TEXT(ref.tag, cases[i][3]);
		CHECK_TEXT(ref.digest, cases[i][4]);
	}
}

static void nonsense_is_refused(void)
{
	static const char *const bad[] = {"", "/", "Gauge",
		"http://a.example/x", "gauge:", "gauge:-a", "gauge:.a", "a//b",
		"/a", "a/", "a..b", "a___b", "-a", "a-", "gauge@",
		"gauge@sha256:12", "gauge@sha512:" D64, "gauge@sha256:" D64 "0",
		"host.example:/x", "host.example:999999/x", "ho st.example/x",
		"[::1/x", "a b", "a:b:c", "\xc3\xa4/b"};
	char longest[600];
	struct th_reference ref;

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct th_error err = {0};

		CHECK_INT(th_reference_parse(bad[i], &ref, &err), -1);
		CHECK_INT(err.code, TH_USAGE);
		CHECK(err.msg[0] != '\0');
	}
	memset(longest, 'a', sizeof(longest) - 1);
	longest[sizeof(longest) - 1] = '\0';
	CHECK_INT(th_reference_parse(longest, &ref, NULL), -1);
	longest[300] = '\0';
	CHECK_INT(th_reference_parse(longest, &ref, NULL), -1);
}

static void written_as_read(void)
{
	static const char *const full[] = {"localhost:5000/selwick/gauge:2",
		"reg.example/gauge@sha256:" D64,
		"reg.example/gauge:3@sha256:" D64, "gauge:latest"};
	char text[TH_REFERENCE_MAX + 256];

	for (size_t i = 0; i < COUNT_OF(full); i++) {
		struct th_reference ref;

		CHECK_INT(th_reference_parse(full[i], &ref, NULL), 0);
		th_reference_format(&ref, text);
		CHECK_TEXT(text, full[i]);
	}
}

static const CU_TestInfo tests[] = {{"parts are found", parts_are_found},
	{"nonsense is refused", nonsense_is_refused},
	{"written as read", written_as_read}, CU_TEST_INFO_NULL};

const struct suite suite_reference = {"reference", tests};
