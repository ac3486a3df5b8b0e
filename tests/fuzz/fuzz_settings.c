/* Settings as people type them: a kind's letter, then the text. */
#include <stdlib.h>

#include "model/settings.h"
#include "container/user.h"
#include "fuzz/fuzz.h"

/* What is read means the same after it was written, either way. */
static void come_back(const struct th_settings *settings)
{
	struct th_settings again = {.base = "/elsewhere"};
	struct th_problems problems = {0};
	json_t *doc, *same;
	char limit[TH_LIMIT_TEXT];

	th_ports_format(
		settings->ports, settings->port_count, &again.port_texts);
	for (size_t i = 0; i < settings->mount_count; i++)
		th_strings_take(&again.mount_texts,
			th_mount_format(&settings->mounts[i]));
	for (size_t i = 0; i < settings->network_count; i++)
		th_strings_take(&again.network_texts,
			th_network_use_format(&settings->networks[i]));
	th_limit_format(&settings->limit, limit);
	th_strings_add(&again.limit_texts, limit);
	th_settings_parse(&again, &problems);
	if (problems.count || again.port_count != settings->port_count ||
		again.mount_count != settings->mount_count)
		abort();
	doc = th_ports_to_json(settings->ports, settings->port_count);
	same = th_ports_to_json(again.ports, again.port_count);
	if (!json_equal(doc, same))
		abort();
	json_decref(doc);
	json_decref(same);
	for (size_t i = 0; i < settings->mount_count; i++) {
		doc = th_mount_to_json(&settings->mounts[i]);
		same = th_mount_to_json(&again.mounts[i]);
		/* Text that is not UTF-8 cannot be kept. */
		if (doc && !json_equal(doc, same))
			abort();
		json_decref(doc);
		json_decref(same);
	}
	th_settings_release(&again);
	th_problems_release(&problems);
}

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
	th_settings_parse(&settings, &problems);
	if (!problems.count)
		come_back(&settings);
	th_problems_release(&problems);
	th_settings_release(&settings);
	free(text);
	return 0;
}
