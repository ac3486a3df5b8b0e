#include "registry/headers.h"

#include <string.h>

#include "unit/unit.h"

static void challenges_are_read(void)
{
	static const struct {
		const char *text;
		enum th_scheme scheme;
		const char *realm, *service, *scope;
	} cases[] = {{"Basic realm=\"Port Selwick\"", TH_SCHEME_BASIC,
			     "Port Selwick", "", ""},
		{"Bearer realm=\"https://auth.example/token\","
		 "service=\"charts\",scope=\"repository:a/b:pull,push\"",
			TH_SCHEME_BEARER, "https://auth.example/token",
			"charts", "repository:a/b:pull,push"},
		{"bearer REALM=https://a.example/t , Service = \"x y\"",
			TH_SCHEME_BEARER, "https://a.example/t", "x y", ""},
		/* The stronger of two, in either order. */
		{"Basic realm=\"x\", Bearer realm=\"https://t.example\"",
			TH_SCHEME_BEARER, "https://t.example", "", ""},
		{"Bearer realm=\"https://t.example\", Basic realm=\"x\"",
			TH_SCHEME_BEARER, "https://t.example", "", ""},
		{"Negotiate dG9rZW4=, Basic realm=\"x\"", TH_SCHEME_BASIC, "x",
			"", ""},
		{"Bearer realm=\"https://t.example/\\\"q\\\"\"",
			TH_SCHEME_BEARER, "https://t.example/\"q\"", "", ""},
		{"Bearer", TH_SCHEME_NONE, "", "", ""},
		{"Digest realm=\"x\", nonce=\"y\"", TH_SCHEME_NONE, "", "", ""},
		{"", TH_SCHEME_NONE, "", "", ""},
		{"Basic realm=\"open", TH_SCHEME_BASIC, "open", "", ""},
		{",,,===\"\"", TH_SCHEME_NONE, "", "", ""}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_challenge found;

		th_challenge_parse(cases[i].text, &found);
		CHECK_INT(found.scheme, cases[i].scheme);
		CHECK_TEXT(found.realm, cases[i].realm);
		CHECK_TEXT(found.service, cases[i].service);
		CHECK_TEXT(found.scope, cases[i].scope);
	}
}

static void pauses_are_read(void)
{
	/* 2026-03-01T00:00:00Z */
	const int64_t now = (int64_t)1772323200 * 1000000;
	static const struct {
		const char *text;
		bool valid;
		int64_t seconds;
	} cases[] = {{"0", true, 0}, {"17", true, 17},
		{"99999999", true, 86400},
		{"Sun, 01 Mar 2026 00:00:30 GMT", true, 30},
		{"Sun, 01 Mar 2020 00:00:30 GMT", true, 0},
		{"Sun, 01 Mar 2036 00:00:30 GMT", true, 86400},
		{"Sun, 01 Mor 2026 00:00:30 GMT", false, 0},
		{"Sun, 01 Mar 2026 00:00:30 CET", false, 0}, {"", false, 0},
		{"-1", false, 0}, {"1.5", false, 0},
		{"123456789012345678901", false, 0}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		int64_t wait = 0;

		CHECK_INT(th_retry_after_parse(cases[i].text, now, &wait),
			cases[i].valid);
		CHECK_INT(wait, cases[i].seconds * 1000000);
	}
}

static void ranges_are_read(void)
{
	uint64_t first = 0, last = 0;

	CHECK(th_content_range_parse("bytes 5-9/10", &first, &last));
	CHECK_INT(first, 5);
	CHECK_INT(last, 9);
	CHECK(th_content_range_parse("bytes 0-0/*", &first, &last));
	CHECK(!th_content_range_parse("bytes */10", &first, &last));
	CHECK(!th_content_range_parse("bytes 9-5/10", &first, &last));
	CHECK(!th_content_range_parse("lines 5-9/10", &first, &last));
	CHECK(!th_content_range_parse("", &first, &last));
	CHECK(th_upload_range_parse("0-1023", &last));
	CHECK_INT(last, 1024);
	CHECK(th_upload_range_parse("bytes=0-9", &last));
	CHECK_INT(last, 10);
	CHECK(th_upload_range_parse("0-0", &last));
	CHECK_INT(last, 0);
	CHECK(!th_upload_range_parse("5-9", &last));
	CHECK(!th_upload_range_parse("0-", &last));
}

static void links_and_origins_are_read(void)
{
	char text[64];

	CHECK(th_link_next("</v2/a/tags/list?n=1&last=x>; rel=\"next\"", text,
		sizeof(text)));
	CHECK_TEXT(text, "/v2/a/tags/list?n=1&last=x");
	CHECK(th_link_next(
		"</one>; rel=prev, </two>; rel=next", text, sizeof(text)));
	CHECK_TEXT(text, "/two");
	CHECK(!th_link_next("</one>; rel=\"prev\"", text, sizeof(text)));
	CHECK(!th_link_next("<unclosed", text, sizeof(text)));
	CHECK(!th_link_next("<>; rel=next", text, sizeof(text)));
	CHECK(!th_link_next("</much/too/long>; rel=next", text, 8));
	CHECK(th_url_origin("HTTPS://Charts.example:8/x?y", text, 64));
	CHECK_TEXT(text, "https://charts.example:8");
	CHECK(!th_url_origin("https://pilot@charts.example/", text, 64));
	CHECK(!th_url_origin("/v2/", text, 64));
	CHECK(!th_url_origin("https://long.example/", text, 10));
}

static const CU_TestInfo tests[] = {
	{"challenges are read", challenges_are_read},
	{"pauses are read", pauses_are_read},
	{"ranges are read", ranges_are_read},
	{"links and origins are read", links_and_origins_are_read},
	CU_TEST_INFO_NULL};

const struct suite suite_headers = {"headers", tests};
