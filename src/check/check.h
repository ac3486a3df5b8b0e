/* Looks whether all that a store consists of is whole and fits together, and
 * mends what can be mended. */
#ifndef TH_CHECK_CHECK_H
#define TH_CHECK_CHECK_H

#include "container/container.h"

enum th_part {
	TH_PART_DATABASE,
	TH_PART_IMAGE,
	TH_PART_CONTAINER,
	TH_PART_VOLUME,
	TH_PART_RUN, /* locks, sockets, keepers */
	TH_PART_HOST /* devices, rules, control groups */
};

struct th_finding {
	enum th_part part;
	char what[TH_REFERENCE_MAX]; /* a name, an ID, a file */
	char text[256]; /* what is wrong with it */
	char mended[128]; /* how it was mended; "" where it was not */
};

struct th_findings {
	struct th_finding *list; /* owned */
	size_t count;
	/* What was looked at, for people who see no finding. */
	size_t images, blobs, trees, containers, volumes;
};

const char *th_part_word(enum th_part part);

/* Before anything of the store is opened or locked: its own files, which may
 * have become something else. */
void th_check_files(const char *root, bool mend, struct th_findings *findings);
/* Opens the store for th_check: where its database is damaged and mend says so,
 * that is put aside, and a new one is made, which th_check fills from what is
 * on the disk. Findings are added. */
int th_check_open(const char *root, const char *run, bool mend,
	struct th_store **store, struct th_findings *findings,
	struct th_error *err);

/* All parts. Blobs are read and their digests compared, so it takes its time.
 * mend: what can be mended is; nothing that a person has written is removed. */
int th_check(const struct th_context *context, bool mend,
	struct th_findings *findings, struct th_error *err);
void th_findings_release(struct th_findings *findings);

#endif
