/* libcurl, loaded when it is first needed: most commands have no use for it,
 * and loading it with all that it brings takes longer than they do. The names
 * are the library's own, so that its manual applies. */
#ifndef TH_BASE_LATE_CURL_H
#define TH_BASE_LATE_CURL_H

#include <curl/curl.h>

#include "base/error.h"

struct late_curl {
	void (*easy_cleanup)(CURL *);
	CURLcode (*easy_getinfo)(CURL *, CURLINFO, ...);
	CURLHcode (*easy_header)(CURL *, const char *, size_t, unsigned int,
		int, struct curl_header **);
	CURL *(*easy_init)(void);
	CURLcode (*easy_pause)(CURL *, int);
	void (*easy_reset)(CURL *);
	CURLcode (*easy_setopt)(CURL *, CURLoption, ...);
	const char *(*easy_strerror)(CURLcode);
	CURLcode (*global_init)(long int);
	CURLMcode (*multi_add_handle)(CURLM *, CURL *);
	CURLMcode (*multi_cleanup)(CURLM *);
	CURLMsg *(*multi_info_read)(CURLM *, int *);
	CURLM *(*multi_init)(void);
	CURLMcode (*multi_perform)(CURLM *, int *);
	CURLMcode (*multi_poll)(
		CURLM *, struct curl_waitfd *, unsigned int, int, int *);
	CURLMcode (*multi_remove_handle)(CURLM *, CURL *);
	struct curl_slist *(*slist_append)(struct curl_slist *, const char *);
	void (*slist_free_all)(struct curl_slist *);
};
extern struct late_curl late_curl;

/* Loads it, once; -1 with TH_NOT_POSSIBLE where it is not installed. To be
 * called before any of its functions. */
int th_late_curl(struct th_error *err);

#undef curl_easy_cleanup
#define curl_easy_cleanup late_curl.easy_cleanup
#undef curl_easy_getinfo
#define curl_easy_getinfo late_curl.easy_getinfo
#undef curl_easy_header
#define curl_easy_header late_curl.easy_header
#undef curl_easy_init
#define curl_easy_init late_curl.easy_init
#undef curl_easy_pause
#define curl_easy_pause late_curl.easy_pause
#undef curl_easy_reset
#define curl_easy_reset late_curl.easy_reset
#undef curl_easy_setopt
#define curl_easy_setopt late_curl.easy_setopt
#undef curl_easy_strerror
#define curl_easy_strerror late_curl.easy_strerror
#undef curl_global_init
#define curl_global_init late_curl.global_init
#undef curl_multi_add_handle
#define curl_multi_add_handle late_curl.multi_add_handle
#undef curl_multi_cleanup
#define curl_multi_cleanup late_curl.multi_cleanup
#undef curl_multi_info_read
#define curl_multi_info_read late_curl.multi_info_read
#undef curl_multi_init
#define curl_multi_init late_curl.multi_init
#undef curl_multi_perform
#define curl_multi_perform late_curl.multi_perform
#undef curl_multi_poll
#define curl_multi_poll late_curl.multi_poll
#undef curl_multi_remove_handle
#define curl_multi_remove_handle late_curl.multi_remove_handle
#undef curl_slist_append
#define curl_slist_append late_curl.slist_append
#undef curl_slist_free_all
#define curl_slist_free_all late_curl.slist_free_all

#endif
