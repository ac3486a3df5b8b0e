/* OCI bundles for tests: a root with busybox, and a config.json that is changed
 * by patches. */
#ifndef TESTS_BUNDLES_H
#define TESTS_BUNDLES_H

/* Makes bundle/ in the test's folder; bundle_rootfs is its root. */
void bundle_make(void);
extern char bundle_rootfs[300];
/* Writes its config.json: the plain one, which runs the command by a shell,
 * with the patch (JSON) merged into it: members are set, objects gone into,
 * and "+NAME" appends to an array. @ is the test's folder, ~ the tag. */
void bundle_write(const char *patch, const char *command);

/* A name that no other run of the tests has: control groups are the host's. */
const char *bundle_tag(void);

#endif
