/* Settings files of one container and of groups, with values from outside. */
#include <stdlib.h>
#include <string.h>

#include "fuzz/fuzz.h"
#include "group/settings_file.h"
#include "service/unit.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	static const struct th_file_word words[] = {{"name", false},
		{"port", false}, {"mount", false}, {"env", false},
		{"network", false}, {"alias", false}, {"probe", false},
		{"read-only", true}, {NULL, false}};
	char *text = fuzz_text(data, size);
	struct th_problems problems = {0};
	struct th_settings_file file;
	struct th_strings given = {0};
	struct th_buf body;

	th_buf_init(&body, size + 1);
	th_buf_add(&body, data, size);
	th_strings_add(&given, "WATCH=south");
	/* Of files to read values from there are none. */
	if (th_settings_file_read("file", "/nosuch", &body, &given, words,
		    &file, &problems) == 0) {
		for (size_t i = 0; i < file.container_count; i++) {
			const struct th_file_container *one =
				&file.containers[i];

			/* A group's containers can be told apart, and have
			 * something to run. */
			if (file.group &&
				(!one->name[0] || (!one->image && !one->build)))
				abort();
			for (size_t k = 0; k < i; k++) {
				if (file.group &&
					strcmp(file.containers[k].name,
						one->name) == 0)
					abort();
			}
		}
	} else if (!problems.count) {
		abort(); /* a failure without a word */
	}
	th_unit_look(text);
	th_settings_file_release(&file);
	th_problems_release(&problems);
	th_strings_release(&given);
	th_buf_release(&body);
	free(text);
	return 0;
}
