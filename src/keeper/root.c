#include "keeper/root.h"

#include <stdlib.h>

#include "oci/digest.h"
#include "sandbox/overlay.h"

int th_plan_open_root(const struct th_plan *plan, const struct th_store *store,
	const char *id, bool discard, int *mount_fd, struct th_error *err)
{
	struct th_strings lowers = {0};
	struct th_overlay overlay = {0};
	char *upper = NULL, *work = NULL;
	int rc = -1;

	for (size_t i = plan->layers.count; i > 0; i--) {
		const char *diff_id = plan->layers.items[i - 1];

		if (th_strings_take(&lowers,
			    th_format("%s/trees/%s", store->root,
				    th_digest_hex(diff_id)))) {
			th_fail_memory(err);
			goto out;
		}
	}
	upper = th_format("%s/containers/%s/upper", store->root, id);
	work = th_format("%s/containers/%s/work", store->root, id);
	if (!upper || !work) {
		th_fail_memory(err);
		goto out;
	}
	overlay.lowers = &lowers;
	overlay.upper = upper;
	overlay.work = work;
	overlay.discard = discard;
	overlay.user_attributes = plan->unprivileged;
	rc = th_overlay_open(&overlay, mount_fd, err);
out:
	free(upper);
	free(work);
	th_strings_release(&lowers);
	return rc;
}
