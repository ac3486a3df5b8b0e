#include "store/file_system.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/vfs.h>

const char *th_network_file_system(long type)
{
	/* linux/magic.h, and the file systems' own sources for those that are
	 * not part of the kernel. */
	static const struct {
		unsigned int type;
		const char *name;
	} known[] = {{0x6969, "NFS"}, {0x517b, "SMB"}, {0xff534d42, "CIFS"},
		{0xfe534d42, "SMB"}, {0x5346414f, "AFS"}, {0x73757245, "Coda"},
		{0x00c36400, "CephFS"}, {0x01021997, "9P"}, {0x564c, "NCP"},
		{0x0bd00bd0, "Lustre"}, {0x47504653, "GPFS"},
		{0x19830326, "BeeGFS"}, {0x20030528, "OrangeFS"},
		{0xaad7aaea, "PanFS"}};

	for (size_t i = 0; i < sizeof(known) / sizeof(*known); i++) {
		if ((unsigned int)type == known[i].type)
			return known[i].name;
	}
	return NULL;
}

const char *th_on_network(const char *path)
{
	char *at = strdup(path), *slash;
	struct statfs fs;
	int rc = at ? statfs(at, &fs) : -1;

	/* Not made yet: it will be where the folder above it is. */
	while (rc && at && errno == ENOENT && (slash = strrchr(at, '/'))) {
		slash[slash == at] = '\0';
		rc = statfs(at, &fs);
		if (slash == at)
			break;
	}
	free(at);
	return rc ? NULL : th_network_file_system((long)fs.f_type);
}

int th_store_check_place(
	const char *path, const char *local, struct th_error *err)
{
	const char *name = th_on_network(path);

	if (!name)
		return 0;
	th_fail(err, TH_NOT_POSSIBLE,
		"the store %.300s would be on a network file system (%s), "
		"where its database and its layers do not work",
		path, name);
	return th_hint(err, "use a folder of this host: --root %s", local);
}
