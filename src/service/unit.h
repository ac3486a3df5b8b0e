/* Units for systemd: what brings containers up at boot, or when their user's
 * manager starts (systemd.unit(5), systemd.service(5)). */
#ifndef TH_SERVICE_UNIT_H
#define TH_SERVICE_UNIT_H

#include "container/container.h"

enum th_unit_of {
	TH_UNIT_CONTAINER,
	TH_UNIT_GROUP,
	TH_UNIT_ALL_DUE /* everything with a restart policy */
};

#define TH_UNIT_NAME 128

struct th_unit {
	enum th_unit_of of;
	/* The caller's: */
	const char *name; /* of the container, or the group */
	const char *program; /* of the command, an absolute path */
	const char *root, *config; /* its options; config may be NULL */
	bool user; /* for a user's own manager */
	bool recreate; /* the container is made anew at each start */
	const char *fetch; /* then the image's policy, or NULL */
	bool restarts; /* systemd restarts it, and not the keeper */
	/* By th_unit_describe, from the container; to be released. */
	int grace_ms;
	bool networked; /* it needs the host's network */
	struct th_strings folders; /* of the host, that it has mounted */
	char restart[TH_POLICY_TEXT]; /* its own policy; "never" without */
	int64_t probe_us; /* the time in which a probe is answered, or 0 */
	int64_t ready_us; /* the time that it may take to be ready, or 0 */
};

/* Reads what the unit has to know of the container. TH_USAGE where both systemd
 * and its own policy would restart it. */
int th_unit_describe(const struct th_context *context,
	const struct th_container_row *row, struct th_unit *unit,
	struct th_error *err);
void th_unit_release(struct th_unit *unit);

/* "tidyhull-container-gauge.service". */
void th_unit_name(const struct th_unit *unit, char name[TH_UNIT_NAME]);
/* The text of the file; to be freed, NULL without memory. Its first lines say
 * who has written it, with a digest of the rest. */
char *th_unit_text(const struct th_unit *unit);

enum th_unit_text_is { TH_UNIT_OURS, TH_UNIT_EDITED, TH_UNIT_FOREIGN };
/* Whether such a text is still what was written. */
enum th_unit_text_is th_unit_look(const char *text);

#endif
