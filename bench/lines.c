/* The writer of the log measurements, and what a log costs at least:
 *
 *   lines write MEGABYTES     lines of 64 bytes, 4 KB at once
 *   lines stamp               each line of a pipe as JSON, a time for each read
 *   lines tick COUNT          the time in nanoseconds, each ten milliseconds
 *   lines delay               reads such lines; the middle delay of them, in us
 */
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#define LINE 64
#define BLOCK 4096
#define READ_BYTES (64 * 1024)

static char in[READ_BYTES + LINE], out[4 * READ_BYTES];

static void put(const char *data, size_t len)
{
	while (len > 0) {
		ssize_t done = write(1, data, len);

		if (done <= 0)
			exit(1);
		data += done;
		len -= (size_t)done;
	}
}

static void write_lines(long megabytes)
{
	for (int i = 0; i < BLOCK; i++)
		in[i] = (char)(i % LINE == LINE - 1 ? '\n' : 'a' + i % 26);
	for (long i = 0; i < megabytes * 1000000 / BLOCK; i++)
		put(in, BLOCK);
}

/* True where nothing needs an escape; eight bytes at a time. */
static int is_plain(const char *at, size_t len)
{
	const uint64_t ones = 0x0101010101010101, highs = ones << 7;
	uint64_t bad = 0, word, quote, slash;

	for (; len >= 8; at += 8, len -= 8) {
		memcpy(&word, at, 8);
		quote = word ^ (ones * '"');
		slash = word ^ (ones * '\\');
		bad |= (word - ones * 0x20) | ((quote - ones) & ~quote) |
			((slash - ones) & ~slash) | word;
	}
	for (; len > 0; at++, len--) {
		if ((unsigned char)*at < 0x20 || *at == '"' || *at == '\\')
			return 0;
	}
	return !(bad & highs);
}

static void stamp(void)
{
	size_t have = 0;
	ssize_t got;

	while ((got = read(0, in + have, READ_BYTES)) > 0) {
		struct timespec now;
		char head[48], *at = in, *end;
		size_t used = 0;
		int len;

		have += (size_t)got;
		clock_gettime(CLOCK_REALTIME, &now);
		len = snprintf(head, sizeof(head), "{\"at\":%lld,\"out\":\"",
			(long long)now.tv_sec * 1000000 + now.tv_nsec / 1000);
		while ((end = memchr(at, '\n', have))) {
			size_t line = (size_t)(end - at);

			if (!is_plain(at, line))
				exit(2);
			memcpy(out + used, head, (size_t)len);
			memcpy(out + used + len, at, line);
			memcpy(out + used + len + (int)line, "\"}\n", 3);
			used += (size_t)len + line + 3;
			have -= line + 1;
			at = end + 1;
		}
		put(out, used);
		memmove(in, at, have);
	}
}

/* ---- how long a line takes ---- */

#define TICK_NS 10000000
#define TICKS_MAX 10000

static long long now_ns(void)
{
	struct timespec now;

	clock_gettime(CLOCK_MONOTONIC, &now);
	return (long long)now.tv_sec * 1000000000 + now.tv_nsec;
}

static void tick(long count)
{
	const struct timespec step = {.tv_nsec = TICK_NS};

	for (long i = 0; i < count; i++) {
		char line[32];

		nanosleep(&step, NULL);
		put(line,
			(size_t)snprintf(
				line, sizeof(line), "%lld\n", now_ns()));
	}
}

static int compare(const void *one, const void *other)
{
	double left = *(const double *)one, right = *(const double *)other;

	return (left > right) - (left < right);
}

static void tell_delay(void)
{
	static double delays[TICKS_MAX];
	size_t count = 0;
	char line[64];

	while (count < TICKS_MAX && fgets(line, sizeof(line), stdin))
		delays[count++] = (double)(now_ns() - atoll(line)) / 1e3;
	qsort(delays, count, sizeof(*delays), compare);
	printf("%.1f\n", count ? delays[count / 2] : -1.0);
}

int main(int argc, char **argv)
{
	if (argc == 3 && strcmp(argv[1], "write") == 0)
		write_lines(atol(argv[2]));
	else if (argc == 2 && strcmp(argv[1], "stamp") == 0)
		stamp();
	else if (argc == 3 && strcmp(argv[1], "tick") == 0)
		tick(atol(argv[2]));
	else if (argc == 2 && strcmp(argv[1], "delay") == 0)
		tell_delay();
	else
		return 2;
	return 0;
}
