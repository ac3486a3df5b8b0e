/* Mounts of a container: folders, volumes and memory. */
#ifndef TH_MODEL_MOUNT_H
#define TH_MODEL_MOUNT_H

#include <jansson.h>
#include <stdbool.h>
#include <stdint.h>

#include "base/error.h"

enum th_mount_kind { TH_MOUNT_FOLDER, TH_MOUNT_MEMORY, TH_MOUNT_VOLUME };

/* The security label that the files of a mount get (SELinux): one for this
 * container alone, or one that all containers may use. */
enum th_mount_label { TH_LABEL_NONE, TH_LABEL_MINE, TH_LABEL_ALL };

struct th_mount_setting {
	enum th_mount_kind kind;
	char *target; /* inside, absolute; owned */
	char *source; /* outside, absolute; owned; NULL for memory, and for a
			 volume until it is made */
	char *volume; /* its name; owned; NULL where it is none */
	bool own; /* made up, and gone with the container */
	uint64_t size_bytes; /* of memory; 0: half of the host's */
	bool readonly;
	bool make; /* make the source folder where it is missing */
	bool map_owner; /* the source's owner is the program's user inside */
	enum th_mount_label label;
	const char *propagation; /* an option of mount(8), or NULL; static */
};

/* Reads the forms of docs/settings.md: "/data=./ledger,ro", "/data=volume:log",
 * "/tmp=memory:64M"; base is the folder that relative sources start from.
 * TH_USAGE otherwise; the mount is to be released in either case. */
int th_mount_parse(const char *text, const char *base,
	struct th_mount_setting *mount, struct th_error *err);
/* Such a text with absolute paths, to be freed; NULL without memory. */
char *th_mount_format(const struct th_mount_setting *mount);
void th_mount_release(struct th_mount_setting *mount);

/* The source of a volume is the store's matter, and left out. */
json_t *th_mount_to_json(const struct th_mount_setting *mount);
int th_mount_from_json(const json_t *doc, struct th_mount_setting *mount,
	struct th_error *err);

#endif
