/* Extended attributes between archives and containers. */
#include <endian.h>
#include <errno.h>
#include <linux/capability.h>
#include <stdint.h>
#include <string.h>
#include <sys/xattr.h>

#include "base/file.h"
#include "container/copy.h"
#include "layer/attributes.h"

#define CAPABILITIES "security.capability"

/* In a container with user IDs of its own the file's capabilities hold for its
 * root; an archive has no such number, and where it comes to is another one's
 * (linux/capability.h: the third revision is the second with a root ID). */
bool copy_attribute_inside(
	const struct th_place *from, struct th_tar_attribute *attribute)
{
	struct vfs_ns_cap_data data;
	uint32_t magic;

	if (strcmp(attribute->name, CAPABILITIES) != 0 ||
		attribute->len != sizeof(data))
		return true;
	memcpy(&data, attribute->value, sizeof(data));
	magic = le32toh(data.magic_etc);
	if ((magic & VFS_CAP_REVISION_MASK) != VFS_CAP_REVISION_3)
		return true;
	/* They are somebody else's. */
	if (le32toh(data.rootid) != from->first_id)
		return false;
	magic = htole32((magic & ~VFS_CAP_REVISION_MASK) | VFS_CAP_REVISION_2);
	memcpy((void *)(uintptr_t)attribute->value, &magic, sizeof(magic));
	attribute->len = XATTR_CAPS_SZ_2;
	return true;
}

/* The other way round: 0 where it is none that has a form for the place. */
static size_t capabilities_outside(const struct th_place *to,
	const struct th_tar_attribute *attribute, struct vfs_ns_cap_data *data)
{
	uint32_t magic;

	if (attribute->len != XATTR_CAPS_SZ_2 &&
		attribute->len != XATTR_CAPS_SZ_3)
		return 0;
	memset(data, 0, sizeof(*data));
	memcpy(data, attribute->value, XATTR_CAPS_SZ_2);
	magic = le32toh(data->magic_etc) & ~VFS_CAP_REVISION_MASK;
	if (!to->first_id) {
		data->magic_etc = htole32(magic | VFS_CAP_REVISION_2);
		return XATTR_CAPS_SZ_2;
	}
	data->magic_etc = htole32(magic | VFS_CAP_REVISION_3);
	data->rootid = htole32(to->first_id);
	return XATTR_CAPS_SZ_3;
}

static int set_one(
	const struct th_place *to, int fd, const struct th_tar_attribute *one)
{
	struct vfs_ns_cap_data data;
	const void *value = one->value;
	size_t len = one->len;
	char path[TH_FD_PATH];

	if (strcmp(one->name, CAPABILITIES) == 0) {
		len = capabilities_outside(to, one, &data);
		value = &data;
		if (!len) {
			errno = ENOTSUP;
			return -1;
		}
	}
	return setxattr(th_fd_path(fd, "", path), one->name, value, len, 0);
}

int copy_set_attributes(struct th_copy *copy, const struct th_place *to, int fd,
	const struct th_tar_entry *entry, struct th_error *err)
{
	for (size_t i = 0; i < entry->attribute_count; i++) {
		const struct th_tar_attribute *one = &entry->attributes[i];

		/* As with set-ID bits: rights go with the owner only. */
		if (!th_layer_wants_attribute(one->name) ||
			(strcmp(one->name, CAPABILITIES) == 0 &&
				copy->owner == TH_OWNER_GIVEN))
			continue;
		if (set_one(to, fd, one) == 0)
			continue;
		if (errno != ENOTSUP && errno != EPERM)
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot set the attribute %.100s of %.300s",
				one->name, entry->name);
		copy->attributes_lost++;
	}
	return 0;
}
