#include "layer/inflate.h"

#include <isa-l/igzip_lib.h>
#include <stdlib.h>
#include <string.h>
#include <zstd.h>

#define OUT_BYTES (256 * 1024)
/* A frame may ask for a window; RFC 8878 wants 8 MiB to be supported. */
#define ZSTD_WINDOW_LOG 27

struct th_inflate {
	struct th_source source; /* first: the two are one */
	struct th_source *from;
	const char *in; /* what is left of the last piece */
	size_t in_len;
	bool from_ended;
	bool inside; /* a member or frame is not complete */
	bool members; /* one was complete */
	struct inflate_state gzip;
	ZSTD_DCtx *zstd;
	char out[OUT_BYTES];
};

static int refill(struct th_inflate *inflate, struct th_error *err)
{
	const void *data;
	ssize_t got;

	if (inflate->in_len || inflate->from_ended)
		return 0;
	got = inflate->from->next(inflate->from, &data, err);
	if (got < 0)
		return -1;
	inflate->from_ended = got == 0;
	inflate->in = data;
	inflate->in_len = (size_t)got;
	return 0;
}

static int fail(const struct th_inflate *inflate, struct th_error *err)
{
	return th_fail(err, TH_FAILED, "the %s data is damaged%s",
		inflate->zstd ? "zstd" : "gzip",
		inflate->from_ended ? " or cut off" : "");
}

/* Archives are written in blocks, and some end in zeros behind the last member.
 * True where they are all that is there. */
static bool skip_padding(struct th_inflate *inflate)
{
	if (!inflate->members)
		return false;
	while (inflate->in_len && *inflate->in == '\0') {
		inflate->in++;
		inflate->in_len--;
	}
	return inflate->in_len == 0;
}

static ssize_t next_gzip(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct th_inflate *inflate = (struct th_inflate *)(void *)source;
	struct inflate_state *state = &inflate->gzip;

	state->next_out = (uint8_t *)inflate->out;
	state->avail_out = OUT_BYTES;
	while (state->avail_out == OUT_BYTES) {
		if (refill(inflate, err))
			return -1;
		if (inflate->from_ended && !inflate->in_len) {
			if (inflate->inside)
				return fail(inflate, err);
			return 0;
		}
		if (!inflate->inside) {
			if (skip_padding(inflate))
				continue;
			isal_inflate_reset(state);
			state->crc_flag = ISAL_GZIP;
			inflate->inside = true;
		}
		state->next_in = (uint8_t *)(uintptr_t)inflate->in;
		state->avail_in = (uint32_t)inflate->in_len;
		if (isal_inflate(state) != ISAL_DECOMP_OK)
			return fail(inflate, err);
		inflate->in += inflate->in_len - state->avail_in;
		inflate->in_len = state->avail_in;
		if (state->block_state == ISAL_BLOCK_FINISH) {
			inflate->inside = false;
			inflate->members = true;
		}
	}
	*data = inflate->out;
	return OUT_BYTES - (ssize_t)state->avail_out;
}

static ssize_t next_zstd(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct th_inflate *inflate = (struct th_inflate *)(void *)source;
	ZSTD_outBuffer out = {inflate->out, OUT_BYTES, 0};

	while (out.pos == 0) {
		ZSTD_inBuffer in;
		size_t rc;

		if (refill(inflate, err))
			return -1;
		if (inflate->from_ended && !inflate->in_len && !inflate->inside)
			return 0;
		in = (ZSTD_inBuffer){inflate->in, inflate->in_len, 0};
		rc = ZSTD_decompressStream(inflate->zstd, &out, &in);
		if (ZSTD_isError(rc) ||
			(inflate->from_ended && rc && out.pos == 0))
			return fail(inflate, err);
		inflate->inside = rc != 0;
		inflate->in += in.pos;
		inflate->in_len -= in.pos;
	}
	*data = inflate->out;
	return (ssize_t)out.pos;
}

static ssize_t next_plain(
	struct th_source *source, const void **data, struct th_error *err)
{
	struct th_inflate *inflate = (struct th_inflate *)(void *)source;

	return inflate->from->next(inflate->from, data, err);
}

struct th_inflate *th_inflate_new(
	enum th_compression compression, struct th_source *from)
{
	struct th_inflate *inflate = malloc(sizeof(*inflate));

	if (!inflate)
		return NULL;
	inflate->from = from;
	inflate->in = NULL;
	inflate->in_len = 0;
	inflate->from_ended = inflate->inside = inflate->members = false;
	inflate->zstd = NULL;
	switch (compression) {
	case TH_PLAIN:
		inflate->source.next = next_plain;
		break;
	case TH_GZIP:
		isal_inflate_init(&inflate->gzip);
		inflate->source.next = next_gzip;
		break;
	case TH_ZSTD:
		inflate->zstd = ZSTD_createDCtx();
		if (!inflate->zstd) {
			free(inflate);
			return NULL;
		}
		ZSTD_DCtx_setParameter(
			inflate->zstd, ZSTD_d_windowLogMax, ZSTD_WINDOW_LOG);
		inflate->source.next = next_zstd;
		break;
	}
	return inflate;
}

struct th_source *th_inflate_source(struct th_inflate *inflate)
{
	return &inflate->source;
}

void th_inflate_free(struct th_inflate *inflate)
{
	if (!inflate)
		return;
	ZSTD_freeDCtx(inflate->zstd);
	free(inflate);
}
