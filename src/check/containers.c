/* Containers and volumes: the state and the files of each. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/file.h"
#include "check/parts.h"
#include "container/plan.h"
#include "oci/bundle.h"
#include "store/agree.h"

static void found(void *owner, const struct th_disagreement_found *one)
{
	struct checking *checking = owner;
	struct th_error err = {0};
	bool restored;

	switch (one->kind) {
	case TH_ROW_WITHOUT_FOLDER:
		check_found(checking, TH_PART_CONTAINER, one->id,
			one->mended ? "forgotten" : "", "its folder is gone");
		break;
	case TH_FOLDER_WITHOUT_ROW:
		restored = checking->mend &&
			check_restore(checking, one->id, &err) == 0;
		check_found(checking, TH_PART_CONTAINER, one->id,
			restored ? "taken up again" : "",
			"it has a folder, and the state does not know it%s"
			"%.150s",
			err.code ? ": " : "", err.msg);
		break;
	case TH_VOLUME_WITHOUT_FOLDER:
		check_found(checking, TH_PART_VOLUME, one->id,
			one->mended ? "forgotten, or empty if in use" : "",
			"its folder is gone");
		break;
	case TH_VOLUME_WITHOUT_ROW:
		check_found(checking, TH_PART_VOLUME, one->id,
			one->mended ? "taken up again" : "",
			"it has files, and the state does not know it");
		break;
	}
}

static void check_files(
	struct checking *checking, const struct th_container_row *row)
{
	struct th_error err = {0};
	struct th_bundle bundle;
	struct th_plan plan;
	int folder = th_container_folder(checking->context, row, &err);

	/* Without a folder it was told already. */
	if (folder < 0)
		return;
	if (th_bundle_read(folder, &bundle, &err) == 0)
		th_bundle_release(&bundle);
	else
		check_found(checking, TH_PART_CONTAINER, row->name, "",
			"its config.json cannot be used: %.180s", err.msg);
	th_error_clear(&err);
	if (th_plan_read(folder, &plan, &err) == 0)
		th_plan_release(&plan);
	else
		check_found(checking, TH_PART_CONTAINER, row->name, "",
			"its plan.json cannot be used: %.180s", err.msg);
	th_close(&folder);
}

int check_containers(struct checking *checking, struct th_error *err)
{
	struct th_store *store = checking->context->store;
	struct th_container_row *rows = NULL;
	struct th_volume_row *volumes = NULL;
	size_t count = 0, volume_count = 0;
	int rc;

	if (th_store_hold(store, err))
		return -1;
	rc = th_store_agree(store, checking->mend, found, checking, err);
	th_store_let_go(store);
	if (rc || th_state_list(store->db, NULL, &rows, &count, err))
		return -1;
	for (size_t i = 0; i < count; i++)
		check_files(checking, &rows[i]);
	free(rows);
	checking->findings->containers = count;
	rc = th_volume_list(store, NULL, &volumes, &volume_count, err);
	free(volumes);
	checking->findings->volumes = volume_count;
	return rc;
}
