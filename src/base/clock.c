#include "base/clock.h"

#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

int64_t th_clock_now_us(void)
{
	struct timespec now;

	clock_gettime(CLOCK_REALTIME, &now);
	return (int64_t)now.tv_sec * 1000000 + now.tv_nsec / 1000;
}

int64_t th_clock_mono_ms(void)
{
	struct timespec now;

	clock_gettime(CLOCK_MONOTONIC, &now);
	return (int64_t)now.tv_sec * 1000 + now.tv_nsec / 1000000;
}

void th_clock_format(int64_t time_us, char text[TH_TIME_TEXT])
{
	time_t seconds = (time_t)(time_us / 1000000);
	struct tm tm;
	size_t len;

	if (!gmtime_r(&seconds, &tm)) {
		snprintf(text, TH_TIME_TEXT, "?");
		return;
	}
	len = strftime(text, TH_TIME_TEXT, "%Y-%m-%dT%H:%M:%S", &tm);
	snprintf(text + len, TH_TIME_TEXT - len, ".%06dZ",
		(int)(time_us % 1000000));
}

/* The fraction of a second behind the dot, as microseconds. */
static const char *parse_fraction(const char *at, int64_t *micros)
{
	int64_t unit = 100000;

	*micros = 0;
	if (*at != '.')
		return at;
	for (at++; *at >= '0' && *at <= '9'; at++) {
		*micros += (*at - '0') * unit;
		unit /= 10;
	}
	return at;
}

int th_clock_parse(const char *text, int64_t *time_us)
{
	struct tm tm = {0};
	int64_t micros = 0, offset = 0;
	int hours, minutes, used = 0;
	const char *at;

	at = strptime(text, "%Y-%m-%d", &tm);
	if (!at)
		return -1;
	if (*at == 'T' || *at == 't' || *at == ' ') {
		const char *time = at + 1;

		at = strptime(time, "%H:%M:%S", &tm);
		if (!at)
			at = strptime(time, "%H:%M", &tm);
		if (!at)
			return -1;
		at = parse_fraction(at, &micros);
	}
	if ((*at == '+' || *at == '-') &&
		sscanf(at + 1, "%2d:%2d%n", &hours, &minutes, &used) == 2 &&
		used == 5) {
		offset = (int64_t)(hours * 60 + minutes) * 60;
		if (*at == '-')
			offset = -offset;
		at += 6;
	} else if (*at == 'Z' || *at == 'z') {
		at++;
	}
	if (*at)
		return -1;
	*time_us = ((int64_t)timegm(&tm) - offset) * 1000000 + micros;
	return 0;
}

void th_clock_span(int64_t span_us, char text[TH_TIME_TEXT])
{
	int64_t seconds = span_us / 1000000;

	if (span_us < 0)
		seconds = 0;
	if (seconds < 1)
		snprintf(text, TH_TIME_TEXT, "%d ms",
			span_us > 0 ? (int)(span_us / 1000) : 0);
	else if (seconds < 120)
		snprintf(text, TH_TIME_TEXT, "%" PRId64 " s", seconds);
	else if (seconds < 2 * 3600)
		snprintf(text, TH_TIME_TEXT, "%" PRId64 " min", seconds / 60);
	else if (seconds < 2 * 86400)
		snprintf(text, TH_TIME_TEXT, "%" PRId64 " h", seconds / 3600);
	else
		snprintf(text, TH_TIME_TEXT, "%" PRId64 " d", seconds / 86400);
}

int th_clock_parse_span(const char *text, int64_t *span_us)
{
	static const struct {
		const char *unit;
		int64_t us;
	} units[] = {{"ms", 1000}, {"s", 1000000}, {"", 1000000},
		{"m", 60000000}, {"min", 60000000}, {"h", 3600000000},
		{"d", 86400000000},
		/* As they are said. */
		{"sec", 1000000}, {"secs", 1000000}, {"second", 1000000},
		{"seconds", 1000000}, {"mins", 60000000}, {"minute", 60000000},
		{"minutes", 60000000}, {"hour", 3600000000},
		{"hours", 3600000000}, {"day", 86400000000},
		{"days", 86400000000}};
	char *end;
	double value;

	if (*text < '0' || *text > '9')
		return -1;
	value = strtod(text, &end);
	if (value > 1e9)
		return -1;
	while (*end == ' ')
		end++;
	for (size_t i = 0; i < sizeof(units) / sizeof(*units); i++) {
		if (strcmp(end, units[i].unit) == 0) {
			*span_us = (int64_t)(value * (double)units[i].us);
			return 0;
		}
	}
	return -1;
}

void th_clock_exact_span(int64_t span_ms, char text[TH_TIME_TEXT])
{
	if (span_ms % 1000)
		snprintf(text, TH_TIME_TEXT, "%" PRId64 "ms", span_ms);
	else if (span_ms % 60000 || !span_ms)
		snprintf(text, TH_TIME_TEXT, "%" PRId64 "s", span_ms / 1000);
	else
		snprintf(text, TH_TIME_TEXT, "%" PRId64 "m", span_ms / 60000);
}
