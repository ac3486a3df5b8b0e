#include "image/remove_image.h"

#include "image/reclaim.h"

int th_image_remove(struct th_store *store, const char *digest,
	const char *name, bool *gone, struct th_error *err)
{
	int rc;

	*gone = false;
	rc = name ? th_image_state_untag(store, name, err)
		  : th_image_state_remove(store, digest, err);
	if (rc < 0)
		return -1;
	*gone = !name || rc == 1;
	th_image_reclaim_due(store);
	return 0;
}
