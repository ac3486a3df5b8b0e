/* libsystemd's D-Bus client, loaded when it is first needed (base/late_curl.h
 * says why). Optional: without its header at build time, or the library at run
 * time, there is none. */
#ifndef TH_BASE_LATE_BUS_H
#define TH_BASE_LATE_BUS_H

#include "base/error.h"

#if defined(__has_include)
#if __has_include(<systemd/sd-bus.h>)
#define TH_HAVE_BUS 1
#endif
#endif

#ifdef TH_HAVE_BUS
#include <systemd/sd-bus.h>

struct late_bus {
	int (*call_method)(sd_bus *, const char *, const char *, const char *,
		const char *, sd_bus_error *, sd_bus_message **, const char *,
		...);
	void (*error_free)(sd_bus_error *);
	sd_bus *(*flush_close_unref)(sd_bus *);
	int (*open_user)(sd_bus **);
	int (*open_system)(sd_bus **);
	int (*message_read)(sd_bus_message *, const char *, ...);
	sd_bus_message *(*message_unref)(sd_bus_message *);
	int (*get_property_string)(sd_bus *, const char *, const char *,
		const char *, const char *, sd_bus_error *, char **);
};
extern struct late_bus late_bus;

/* As th_late_curl. */
int th_late_bus(struct th_error *err);

#undef sd_bus_call_method
#define sd_bus_call_method late_bus.call_method
#undef sd_bus_error_free
#define sd_bus_error_free late_bus.error_free
#undef sd_bus_flush_close_unref
#define sd_bus_flush_close_unref late_bus.flush_close_unref
#undef sd_bus_open_user
#define sd_bus_open_user late_bus.open_user
#undef sd_bus_open_system
#define sd_bus_open_system late_bus.open_system
#undef sd_bus_message_read
#define sd_bus_message_read late_bus.message_read
#undef sd_bus_message_unref
#define sd_bus_message_unref late_bus.message_unref
#undef sd_bus_get_property_string
#define sd_bus_get_property_string late_bus.get_property_string
#endif

#endif
