#include "registry/token.h"

#include <string.h>

#include "unit/unit.h"

static void tokens_are_read(void)
{
	static const struct {
		const char *text, *token;
		int64_t seconds;
	} cases[] = {{"{\"token\":\"abc\",\"expires_in\":100}", "abc", 90},
		{"{\"access_token\":\"def\"}", "def", 54},
		{"{\"token\":\"\",\"access_token\":\"g\"}", "g", 54},
		{"{\"token\":\"h\",\"expires_in\":-5}", "h", 54},
		{"{\"token\":\"i\",\"expires_in\":99999999}", "i", 77760},
		{"{\"token\":\"j\",\"issued_at\":7,\"more\":[]}", "j", 54}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_token token;
		struct th_error err = {0};

		CHECK_INT(th_token_parse(cases[i].text, strlen(cases[i].text),
				  1000000, &token, &err),
			0);
		CHECK_TEXT(token.text ? token.text : "", cases[i].token);
		CHECK_INT(token.expires_us, (1 + cases[i].seconds) * 1000000);
		th_token_release(&token);
	}
}

static void others_are_refused(void)
{
	static const char *const cases[] = {"", "[]", "{}", "{\"token\":7}",
		"{\"token\":\"a\\r\\nEvil: 1\"}", "{\"token\":\"a b\"}",
		"{\"token\":\"f\u00fcr\"}",
		"{\"token\":\"x\",\"expires_in\":\"soon\"}"};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_token token;
		struct th_error err = {0};

		CHECK_INT(th_token_parse(
				  cases[i], strlen(cases[i]), 0, &token, &err),
			-1);
		CHECK(err.msg[0] != '\0');
		CHECK(token.text == NULL);
	}
}

static const CU_TestInfo tests[] = {{"tokens are read", tokens_are_read},
	{"others are refused", others_are_refused}, CU_TEST_INFO_NULL};

const struct suite suite_token = {"token", tests};
