/* What registries say in HTTP headers, read strictly: challenges, waiting
 * times, ranges, and links to a next page. */
#ifndef TH_REGISTRY_HEADERS_H
#define TH_REGISTRY_HEADERS_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

enum th_scheme { TH_SCHEME_NONE, TH_SCHEME_BASIC, TH_SCHEME_BEARER };

struct th_challenge {
	enum th_scheme scheme;
	char realm[1024];
	char service[256];
	char scope[512];
};

/* Reads the values of WWW-Authenticate (RFC 9110, section 11.6.1) and takes
 * the strongest scheme that is known: Bearer (RFC 6750, with the parameters
 * that registries use), then Basic (RFC 7617). scheme stays TH_SCHEME_NONE
 * where there is neither. */
void th_challenge_parse(const char *text, struct th_challenge *challenge);

/* Reads Retry-After (RFC 9110, section 10.2.3): seconds, or a date that is
 * held against now_us. False where it is neither. */
bool th_retry_after_parse(const char *text, int64_t now_us, int64_t *wait_us);

/* Reads Content-Range of a part (RFC 9110, section 14.4): "bytes 5-9/10". */
bool th_content_range_parse(const char *text, uint64_t *first, uint64_t *last);

/* Reads Range of an upload (distribution spec.md, "Pushing a blob in
 * chunks"): "0-1023". What has arrived, in bytes. */
bool th_upload_range_parse(const char *text, uint64_t *arrived);

/* The target of the link to the next page (RFC 8288), as it stands there. */
bool th_link_next(const char *text, char *target, size_t size);

/* A whole number without sign; false where it is none or too large. */
bool th_number_parse(const char *text, uint64_t *number);

/* "scheme://host:port" of a URL; false where it has none or is too long. */
bool th_url_origin(const char *url, char *origin, size_t size);

#endif
