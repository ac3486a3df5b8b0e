/* How much an image may take of what the disk has. */
#ifndef TH_IMAGE_ROOM_H
#define TH_IMAGE_ROOM_H

#include "base/error.h"

/* An error where the file system of the folder has hardly any bytes or inodes
 * left: what remains belongs to everything else on the host. A file system that
 * does not tell is no error. */
int th_room_check(int folder_fd, struct th_error *err);

#endif
