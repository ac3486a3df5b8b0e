#include "layer/archive.h"

#include <errno.h>
#include <stdlib.h>
#include <unistd.h>

#include "layer/inflate.h"

#define READ_BYTES (256 * 1024)

struct th_archive {
	struct th_source source; /* first: the two are one */
	struct th_inflate *inflate;
	int fd;
	char data[READ_BYTES];
};

static ssize_t next_of_archive(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct th_archive *archive = (struct th_archive *)(void *)source;
	ssize_t got;

	do
		got = read(archive->fd, archive->data, sizeof(archive->data));
	while (got < 0 && errno == EINTR);
	*data = archive->data;
	return got < 0
		? th_fail_sys(err, TH_FAILED, errno, "cannot read the archive")
		: got;
}

static enum th_compression compression_of(int fd)
{
	unsigned char head[4] = {0};

	if (pread(fd, head, sizeof(head), 0) != (ssize_t)sizeof(head))
		return TH_PLAIN;
	if (head[0] == 0x1f && head[1] == 0x8b)
		return TH_GZIP;
	return head[0] == 0x28 && head[1] == 0xb5 && head[2] == 0x2f &&
			head[3] == 0xfd
		? TH_ZSTD
		: TH_PLAIN;
}

struct th_archive *th_archive_new(int fd)
{
	struct th_archive *archive = calloc(1, sizeof(*archive));

	if (!archive)
		return NULL;
	archive->source.next = next_of_archive;
	archive->fd = fd;
	archive->inflate = th_inflate_new(compression_of(fd), &archive->source);
	if (archive->inflate)
		return archive;
	free(archive);
	return NULL;
}

struct th_source *th_archive_source(struct th_archive *archive)
{
	return th_inflate_source(archive->inflate);
}

void th_archive_free(struct th_archive *archive)
{
	if (!archive)
		return;
	th_inflate_free(archive->inflate);
	free(archive);
}
