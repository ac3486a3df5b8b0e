/* One file to a pipe or a terminal of the host, by its name: /dev/stdout, a
 * named pipe, what a shell makes for >(...). A file in its place would be no
 * help, and harm: in place of /dev/null, of all the host. */
#include <errno.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "container/copy.h"

struct stream {
	struct th_copy *copy;
	const char *path; /* of the source, for messages */
	int source, to;
};

bool copy_is_stream(const struct th_place *to)
{
	return to->root < 0 && th_file_is_stream(to->path);
}

static int pass(const struct stream *stream, int in, struct th_error *err)
{
	struct th_copy *copy = stream->copy;
	char data[65536];

	for (;;) {
		ssize_t got = read(in, data, sizeof(data));

		if (th_cancelled(copy->cancel))
			return copy_interrupted(err);
		if (got < 0 && errno == EINTR)
			continue;
		if (got < 0)
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot read %.300s", stream->path);
		if (got == 0)
			return 0;
		if (th_write_all(stream->to, data, (size_t)got))
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot write what was copied");
		copy->bytes += (uint64_t)got;
		th_work_add(copy->cancel.work, (uint64_t)got);
	}
}

static int write_stream(void *arg, struct th_buf *reply, struct th_error *err)
{
	const struct stream *stream = arg;
	char name[TH_FD_PATH];
	int in = open(
		th_fd_path(stream->source, "", name), O_RDONLY | O_CLOEXEC);
	int rc;

	if (in < 0)
		return th_fail_sys(err, TH_FAILED, errno, "cannot read %.300s",
			stream->path);
	rc = pass(stream, in, err);
	th_close(&in);
	stream->copy->files = rc == 0;
	th_buf_add(reply, (const char *)stream->copy, sizeof(*stream->copy));
	return rc;
}

int copy_to_stream(int source, const struct th_place *from,
	const struct th_place *to, struct th_copy *copy, struct th_error *err)
{
	const struct th_wall_folder folder = {.fd = source};
	struct stream stream = {
		.copy = copy, .path = from->path, .source = source, .to = -1};
	struct stat st;
	int rc;

	if (fstat(source, &st) || !S_ISREG(st.st_mode))
		return th_fail(err, TH_NOT_POSSIBLE,
			"%.200s is no file: only what is in one can go to "
			"%.200s",
			from->path, to->path);
	stream.to = open(to->path, O_WRONLY | O_NOCTTY | O_CLOEXEC);
	if (stream.to < 0)
		return th_fail_write(
			err, errno, "cannot write to %.300s", to->path);
	rc = copy_apart(&folder, 1, write_stream, &stream, 0, copy, err);
	th_close(&stream.to);
	return rc;
}
