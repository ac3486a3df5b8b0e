/* Puts the table of system calls into a file of the docs, between its two
 * marks: call_table FILE. */
#include <fcntl.h>
#include <stdio.h>
#include <string.h>

#include "base/file.h"
#include "lib/calls.h"

#define FIRST "<!-- calls: made by make docs -->\n"
#define LAST "<!-- end of calls -->\n"

static int put_table(const char *path, struct th_error *err)
{
	struct th_buf old, new;
	char *first, *last;
	int rc = -1;

	th_buf_init(&old, 1 << 20);
	th_buf_init(&new, 1 << 20);
	if (th_file_read(AT_FDCWD, path, &old, err) != 1)
		goto out;
	first = strstr(old.data, FIRST);
	last = strstr(old.data, LAST);
	if (!first || !last) {
		th_fail(err, TH_FAILED, "%s has no marks for the table", path);
		goto out;
	}
	th_buf_add(&new, old.data, (size_t)(first - old.data));
	th_buf_addf(&new, FIRST);
	call_table_write(&new);
	th_buf_addf(&new, "%s", last);
	rc = th_file_replace(
		AT_FDCWD, path, new.data, new.len, 0644, false, err);
out:
	th_buf_release(&old);
	th_buf_release(&new);
	return rc;
}

int main(int argc, char **argv)
{
	struct th_error err = {0};

	if (argc != 2) {
		fputs("call_table FILE\n", stderr);
		return 2;
	}
	if (put_table(argv[1], &err)) {
		fprintf(stderr, "call_table: %s\n", err.msg);
		return 1;
	}
	return 0;
}
