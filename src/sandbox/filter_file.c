#include "sandbox/filter_file.h"

#include <fcntl.h>
#include <linux/filter.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "base/sha256.h"
#include "sandbox/filter.h"

#define SEAL_BYTES 32
#define NAME_BYTES 64
#define PATH_BYTES (NAME_BYTES + 16)

/* The name goes in at its full length, so that no program can stand in for a
 * part of it. */
static bool digest_of(const char *name, const char *program, size_t len,
	unsigned char digest[SEAL_BYTES])
{
	char head[NAME_BYTES] = {0};
	struct th_buf text;
	bool done;

	snprintf(head, sizeof(head), "%s", name);
	th_buf_init(&text, sizeof(head) + TH_FILTER_MAX);
	th_buf_add(&text, head, sizeof(head));
	th_buf_add(&text, program, len);
	done = !text.failed;
	if (done)
		th_sha256(text.data, text.len, digest);
	th_buf_release(&text);
	return done;
}

static void path_of(const char *name, char path[PATH_BYTES])
{
	snprintf(path, PATH_BYTES, "filters/%.63s", name);
}

int th_filter_seal(int folder, const char *name, const struct th_buf *program,
	struct th_error *err)
{
	unsigned char digest[SEAL_BYTES];
	char path[PATH_BYTES];
	struct th_buf text;
	int rc;

	th_buf_init(&text, SEAL_BYTES + TH_FILTER_MAX);
	if (!digest_of(name, program->data, program->len, digest))
		return th_fail_memory(err);
	th_buf_add(&text, digest, SEAL_BYTES);
	th_buf_add(&text, program->data, program->len);
	path_of(name, path);
	rc = text.failed ? th_fail_memory(err)
			 : th_file_replace(folder, path, text.data, text.len,
				   0600, true, err);
	th_buf_release(&text);
	return rc;
}

bool th_filter_is_sealed(int folder, const char *name)
{
	char path[PATH_BYTES];

	path_of(name, path);
	return faccessat(folder, path, F_OK, 0) == 0;
}

int th_filter_open(int folder, const char *name)
{
	char path[PATH_BYTES];

	path_of(name, path);
	return openat(
		folder, path, O_RDONLY | O_NOFOLLOW | O_CLOEXEC | O_NONBLOCK);
}

bool th_filter_unseal(int fd, const char *name, struct th_buf *bytes)
{
	unsigned char digest[SEAL_BYTES];
	struct th_error ignored = {0}; /* then it is none */
	struct th_buf text;
	bool fits;

	th_buf_init(&text, SEAL_BYTES + TH_FILTER_MAX);
	fits = lseek(fd, 0, SEEK_SET) == 0 &&
		th_fd_read(fd, name, &text, &ignored) == 1 &&
		text.len > SEAL_BYTES &&
		digest_of(name, text.data + SEAL_BYTES, text.len - SEAL_BYTES,
			digest) &&
		memcmp(digest, text.data, SEAL_BYTES) == 0;
	if (fits)
		th_buf_add(
			bytes, text.data + SEAL_BYTES, text.len - SEAL_BYTES);
	th_buf_release(&text);
	return fits && !bytes->failed;
}

bool th_filter_unseal_file(int fd, const char *name, struct th_buf *program)
{
	if (!th_filter_unseal(fd, name, program))
		return false;
	if (program->len % sizeof(struct sock_filter) == 0)
		return true;
	th_buf_release(program);
	return false;
}
