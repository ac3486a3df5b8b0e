/* Whether the state and the files of a store say the same. Nothing that dies
 * parts them; a disk that loses files, or a person who takes some away, does.
 */
#ifndef TH_STORE_AGREE_H
#define TH_STORE_AGREE_H

#include "store/store.h"

enum th_disagreement {
	TH_ROW_WITHOUT_FOLDER, /* a container; its removal was not finished */
	TH_FOLDER_WITHOUT_ROW, /* a container that the state does not know */
	TH_VOLUME_WITHOUT_FOLDER,
	TH_VOLUME_WITHOUT_ROW
};

/* What is found: id is the container's, or the volume's name. */
struct th_disagreement_found {
	enum th_disagreement kind;
	const char *id;
	bool mended;
};

typedef void th_agree_fn(
	void *owner, const struct th_disagreement_found *found);

/* Looks for all of them, and mends what can be where mend says so: rows without
 * folders go, volumes are known again, or get an empty folder where they are in
 * use. Folders of containers stay: what is in them is told to found. The store
 * must be held. */
int th_store_agree(struct th_store *store, bool mend, th_agree_fn *found,
	void *owner, struct th_error *err);

#endif
