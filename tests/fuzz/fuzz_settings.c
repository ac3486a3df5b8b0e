/* Settings as people type them: a kind's letter, then the text. */
#include <stdlib.h>

#include "container/settings.h"
#include "container/user.h"
#include "fuzz/fuzz.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	char *text = fuzz_text(data, size);
	struct th_settings settings = {.base = "/base"};
	struct th_problems problems = {0};
	struct th_user user;

	if (size > 1) {
		const char *rest = text + 1;

		switch (text[0]) {
		case 'p':
			th_strings_add(&settings.port_texts, rest);
			break;
		case 'm':
			th_strings_add(&settings.mount_texts, rest);
			break;
		case 's':
			settings.stop_text = rest;
			break;
		case 'c':
			th_strings_add(&settings.capabilities, rest);
			break;
		case 'l':
			th_strings_add(&settings.limit_texts, rest);
			break;
		case 'd':
			th_strings_add(&settings.device_texts, rest);
			settings.share_text = settings.reaper_text = rest;
			th_strings_add(&settings.allow_texts, rest);
			break;
		case 'u':
			/* The text is the user and both files at once. */
			th_user_resolve(rest, rest, rest, &user, NULL);
			break;
		default:
			settings.name = settings.hostname = rest;
			settings.workdir = rest;
			th_strings_add(&settings.network_texts, rest);
		}
	}
	th_settings_check(&settings, &problems);
	th_problems_release(&problems);
	th_settings_release(&settings);
	free(text);
	return 0;
}
