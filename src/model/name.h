/* Names of containers, volumes, networks and hosts, and of signals. */
#ifndef TH_MODEL_NAME_H
#define TH_MODEL_NAME_H

#include "base/error.h"
#include <stdbool.h>
#include <stddef.h>

#define TH_NAME_MAX 64

/* True for names of containers, volumes and networks: 1 to 63 letters,
 * digits, dots, dashes and underscores, beginning with a letter or digit. */
bool th_name_valid(const char *name);
/* True for the name of a host: 1 to 63 letters, digits, dots and dashes. */
bool th_host_name_valid(const char *name);
/* True for the name of a device that a description has: "VENDOR/CLASS=NAME"
 * (Container Device Interface Specification, "Kind" and "Device naming"). */
bool th_device_name_valid(const char *text);
/* True where the text, of so many bytes, is a "VENDOR/CLASS" of that. */
bool th_device_kind_valid(const char *text, size_t len);
/* True where it is the part behind "=". */
bool th_device_valid(const char *text);

/* A signal by number or name ("INT", "SIGINT", "2"); -1 where it is none. */
int th_signal_parse(const char *text);
/* Where a mistyped name of a signal is near to one, err gets it as its hint. */
void th_signal_hint(const char *text, struct th_error *err);
/* Its name without SIG, or NULL. */
const char *th_signal_name(int number);

/* The bit of a capability by its name ("CAP_CHOWN"); -1 where unknown. */
int th_capability_number(const char *name);
/* Its name; NULL beyond the known ones. */
const char *th_capability_name(int number);
/* The capability, without CAP_, that is meant by another spelling: "net-admin",
 * "+CAP_CHOWN", "NETRAW"; NULL. */
const char *th_capability_meant(const char *text);

#endif
