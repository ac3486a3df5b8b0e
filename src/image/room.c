#include "image/room.h"

#include <stdint.h>
#include <sys/statvfs.h>

#define BYTES_LEFT ((uint64_t)64 << 20)
/* A twentieth of the inodes: of a small disk 50,000 would be most. */
#define INODES_PART 20
#define INODES_LEFT 50000

int th_room_check(int folder_fd, struct th_error *err)
{
	struct statvfs disk;
	uint64_t inodes, bytes;

	if (fstatvfs(folder_fd, &disk))
		return 0;
	bytes = (uint64_t)disk.f_bavail * disk.f_frsize;
	if (bytes < BYTES_LEFT) {
		th_fail(err, TH_FAILED,
			"the disk is full but for %.1f MB, which are left to "
			"others",
			(double)bytes / 1e6);
		return th_hint(err, "to free space: tidyhull sweep");
	}
	inodes = (uint64_t)disk.f_files / INODES_PART;
	if (inodes > INODES_LEFT)
		inodes = INODES_LEFT;
	/* File systems without a fixed number of inodes say that it is 0. */
	if ((uint64_t)disk.f_favail >= inodes)
		return 0;
	th_fail(err, TH_FAILED,
		"it has so many files that only %llu of the disk's %llu "
		"inodes are free, which are left to others",
		(unsigned long long)disk.f_favail,
		(unsigned long long)disk.f_files);
	return th_hint(err,
		"to free inodes: tidyhull sweep; to see them: df --inodes");
}
