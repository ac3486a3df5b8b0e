/* What the options of a mount come to (OCI Runtime Specification, config.md,
 * "Linux mount options"). For the sandbox module only. */
#ifndef TH_SANDBOX_MOUNT_OPTIONS_H
#define TH_SANDBOX_MOUNT_OPTIONS_H

#include <stdbool.h>
#include <stdint.h>

#include "base/libc.h"
#include "oci/bundle.h"

struct mount_attributes {
	uint64_t set, clear; /* MOUNT_ATTR_... */
};

struct mount_plan {
	bool bind; /* of something that is there */
	bool recursive; /* rbind */
	bool remount; /* only changes what is mounted there */
	bool copy_up; /* a tmpfs begins with what it covers */
	bool id_mapped, id_mapped_all;
	struct mount_attributes top, all; /* of the mount; of all below it */
	uint64_t propagation; /* MS_..., or 0 */
	bool propagation_all;
	struct th_strings rest; /* for the file system; borrowed texts */
};

/* -1 without memory, or where an option is impossible. rest holds copies:
 * release with th_strings_release(&plan->rest). */
int mount_plan_read(const struct th_mount *mount, struct mount_plan *plan,
	struct th_error *err);

#endif
