#include "keeper/free_ports.h"

#include <fcntl.h>
#include <stdlib.h>
#include <string.h>

#include "base/buffer.h"
#include "base/file.h"

#define NAME "ports"
#define FILE_MAX 65536

void free_ports_read(int folder, uint16_t *last, size_t count)
{
	struct th_error ignored = {0}; /* then any will do again */
	struct th_buf text;
	char *rest = NULL;
	size_t at = 0;

	memset(last, 0, count * sizeof(*last));
	th_buf_init(&text, FILE_MAX);
	if (th_file_read_regular(folder, NAME, &text, &ignored) == 1) {
		for (char *line = strtok_r(text.data, "\n", &rest);
			line && at < count;
			line = strtok_r(NULL, "\n", &rest)) {
			long port = strtol(line, NULL, 10);

			last[at++] = port > 0 && port <= UINT16_MAX
				? (uint16_t)port
				: 0;
		}
	}
	th_buf_release(&text);
}

void free_ports_write(int folder, const struct th_port *ports, size_t count)
{
	struct th_error ignored = {0}; /* any will do again */
	struct th_buf text;

	th_buf_init(&text, FILE_MAX);
	for (size_t i = 0; i < count; i++)
		th_buf_addf(&text, "%u\n", (unsigned int)ports[i].host_port);
	if (!text.failed)
		th_file_replace(folder, NAME, text.data, text.len, 0600, false,
			&ignored);
	th_buf_release(&text);
}
