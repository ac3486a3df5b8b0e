/* Points in time: microseconds since 1970 (UTC), and their written forms. */
#ifndef TH_BASE_CLOCK_H
#define TH_BASE_CLOCK_H

#include <stddef.h>
#include <stdint.h>

#define TH_TIME_TEXT 40

/* The time of day in microseconds since 1970. */
int64_t th_clock_now_us(void);
/* A clock that never jumps, in milliseconds, for time-outs. */
int64_t th_clock_mono_ms(void);
/* "2026-03-01T05:12:44.123456Z" (RFC 3339). */
void th_clock_format(int64_t time_us, char text[TH_TIME_TEXT]);
/* Reads what th_clock_format wrote, and RFC 3339 in general, with any offset
 * and number of decimals; -1 where it is not a time. */
int th_clock_parse(const char *text, int64_t *time_us);
/* A span as people say it: "4 s", "3 min", "2 h", "5 d". */
void th_clock_span(int64_t span_us, char text[TH_TIME_TEXT]);
/* Reads "500ms", "10s", "5m", "2h", "7d", the same in words ("2 hours") or
 * plain seconds; -1 otherwise. */
int th_clock_parse_span(const char *text, int64_t *span_us);
/* Such a text of so many milliseconds, exactly. */
void th_clock_exact_span(int64_t span_ms, char text[TH_TIME_TEXT]);

#endif
