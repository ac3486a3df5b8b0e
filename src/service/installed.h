/* Unit files where systemd looks for them. */
#ifndef TH_SERVICE_INSTALLED_H
#define TH_SERVICE_INSTALLED_H

#include "service/unit.h"

/* Puts the text into folder/name. One that was edited by hand, or that somebody
 * else has written, is refused (TH_IN_USE) unless anyway. */
int th_unit_install(const char *folder, const char *name, const char *text,
	bool anyway, struct th_error *err);
/* Takes it away; the same. TH_NOT_FOUND where there is none. */
int th_unit_uninstall(const char *folder, const char *name, bool anyway,
	struct th_error *err);

struct th_unit_file {
	char name[TH_UNIT_NAME];
	bool edited;
};
/* All that were written by us, by name; to be freed. */
int th_unit_files(const char *folder, struct th_unit_file **files,
	size_t *count, struct th_error *err);

#endif
