#include "base/late_curl.h"

#include "base/late.h"

struct late_curl late_curl;

#define FUNCTION(name)                                                         \
	{                                                                      \
		"curl_" #name, &late_curl.name                                 \
	}

int th_late_curl(struct th_error *err)
{
	static const struct late_function functions[] = {FUNCTION(easy_cleanup),
		FUNCTION(easy_getinfo), FUNCTION(easy_header),
		FUNCTION(easy_init), FUNCTION(easy_pause), FUNCTION(easy_reset),
		FUNCTION(easy_setopt), FUNCTION(easy_strerror),
		FUNCTION(global_init), FUNCTION(multi_add_handle),
		FUNCTION(multi_cleanup), FUNCTION(multi_info_read),
		FUNCTION(multi_init), FUNCTION(multi_perform),
		FUNCTION(multi_poll), FUNCTION(multi_remove_handle),
		FUNCTION(slist_append), FUNCTION(slist_free_all), {NULL, NULL}};
	static struct late_library library = {"libcurl.so.4", functions, 0};

	return late_load(&library, err);
}
