/* Files of environment settings. */
#include <stdlib.h>
#include <string.h>

#include "base/env_file.h"
#include "fuzz.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	char *text = strndup((const char *)data, size);
	struct th_strings env = {0};
	struct th_error err = {0};

	if (!text)
		return 0;
	if (th_env_parse(text, "fuzz", NULL, &env, &err) == 0) {
		for (size_t i = 0; i < env.count; i++) {
			if (!strchr(env.items[i], '='))
				abort();
		}
	} else if (!err.msg[0]) {
		abort();
	}
	th_strings_release(&env);
	free(text);
	return 0;
}
