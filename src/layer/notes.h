/* What a layer's archive leaves to the layers below it. A layer is unpacked
 * without them, as several are unpacked at once and images share them; what
 * these notes say is settled when all are there (image/stack.h). */
#ifndef TH_LAYER_NOTES_H
#define TH_LAYER_NOTES_H

#include <stdbool.h>
#include <stddef.h>

#include "base/buffer.h"
#include "base/error.h"

enum th_layer_note {
	/* A folder that no entry names, but others lie in: what it is like is
	 * for a lower layer to say. */
	TH_NOTE_IMPLIED,
	/* One in which only deletions were seen: it is none where no lower
	 * layer has it. */
	TH_NOTE_BARE,
	/* What it deletes; its mark is wrong where no lower layer has that. */
	TH_NOTE_DELETED,
	/* A device node that this user cannot make: what is below must go. */
	TH_NOTE_NODE,
	TH_NOTE_KINDS
};

struct th_layer_notes {
	struct th_strings paths[TH_NOTE_KINDS]; /* sorted, of folders */
	/* A hard link leads to a lower layer's file, or deletions and entries
	 * meet: it has to be read once more in any case. */
	bool again;
	bool opaque; /* it hides all that is below */
	bool root; /* it has an entry for the root itself */
};

void th_layer_notes_release(struct th_layer_notes *notes);

/* True where there is nothing to note. */
bool th_layer_notes_are_empty(const struct th_layer_notes *notes);

/* Writes the file name in folder; it must not be there. */
int th_layer_notes_write(int folder, const char *name,
	const struct th_layer_notes *notes, struct th_error *err);

/* Reads it; empty notes where there is none. */
int th_layer_notes_read(int folder, const char *name,
	struct th_layer_notes *notes, struct th_error *err);

/* Whether the folder (by its path in the tree) is one that no entry names. */
bool th_layer_notes_imply(const struct th_layer_notes *notes, const char *path);

#endif
