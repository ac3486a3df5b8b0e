#include "base/late_bus.h"

#ifdef TH_HAVE_BUS
#include "base/late.h"

struct late_bus late_bus;

#define FUNCTION(name)                                                         \
	{                                                                      \
		"sd_bus_" #name, &late_bus.name                                \
	}

int th_late_bus(struct th_error *err)
{
	static const struct late_function functions[] = {FUNCTION(call_method),
		FUNCTION(error_free), FUNCTION(flush_close_unref),
		FUNCTION(open_user), FUNCTION(open_system),
		FUNCTION(message_read), FUNCTION(message_unref),
		FUNCTION(get_property_string), {NULL, NULL}};
	static struct late_library library = {"libsystemd.so.0", functions, 0};

	return late_load(&library, err);
}
#endif
