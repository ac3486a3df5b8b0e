#include "container/root.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "oci/digest.h"

int th_plan_layers(const struct th_plan *plan, const char *root, const char *id,
	bool discard, struct th_root_layers *layers, struct th_error *err)
{
	const char *slash = *root ? "/" : "";

	memset(layers, 0, sizeof(*layers));
	for (size_t i = plan->layers.count; i > 0; i--) {
		const char *diff_id = plan->layers.items[i - 1];

		if (th_strings_take(&layers->lowers,
			    th_format("%s%strees/%s", root, slash,
				    th_digest_hex(diff_id))))
			return th_fail_memory(err);
	}
	layers->upper = th_format("%s%scontainers/%s/upper", root, slash, id);
	layers->work = th_format("%s%scontainers/%s/work", root, slash, id);
	if (!layers->upper || !layers->work)
		return th_fail_memory(err);
	layers->overlay.lowers = &layers->lowers;
	layers->overlay.upper = layers->upper;
	layers->overlay.work = layers->work;
	layers->overlay.discard = discard;
	/* What is written in a user namespace has the marks of users. */
	layers->overlay.user_attributes = plan->unprivileged || plan->own_users;
	return 0;
}

void th_root_layers_release(struct th_root_layers *layers)
{
	th_strings_release(&layers->lowers);
	free(layers->upper);
	free(layers->work);
	memset(layers, 0, sizeof(*layers));
}

/* A lender's folder that is gone explains more than that a layer is. */
static void explain(const struct th_root_layers *layers, struct th_error *err)
{
	char target[400];

	for (size_t i = 0; i < layers->lowers.count; i++) {
		const char *lower = layers->lowers.items[i];
		ssize_t len = readlink(lower, target, sizeof(target) - 1);

		if (len <= 0 || access(lower, F_OK) == 0)
			continue;
		target[len] = '\0';
		th_error_clear(err);
		th_fail(err, TH_NOT_FOUND,
			"an unpacked layer of its image is borrowed, and is no "
			"longer there: %s",
			target);
		th_hint(err,
			"to have layers of its own: tidyhull pull IMAGE, "
			"without that folder");
		return;
	}
}

int th_plan_open_root(const struct th_plan *plan, const struct th_store *store,
	const char *id, bool discard, int *mount_fd, struct th_error *err)
{
	struct th_root_layers layers;
	int rc = th_plan_layers(plan, store->root, id, discard, &layers, err);

	if (rc == 0) {
		rc = th_overlay_open(&layers.overlay, mount_fd, err);
		if (rc)
			explain(&layers, err);
	}
	th_root_layers_release(&layers);
	return rc;
}
