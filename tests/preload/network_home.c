/* For LD_PRELOAD: what lies below $NETWORK_HOME says that it is on NFS, as on a
 * cluster. */
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <sys/vfs.h>
#include <unistd.h>

#define NFS 0x6969

int statfs(const char *path, struct statfs *fs)
{
	const char *home = getenv("NETWORK_HOME");
	long rc = syscall(SYS_statfs, path, fs);

	if (rc == 0 && home && strncmp(path, home, strlen(home)) == 0)
		fs->f_type = NFS;
	return (int)rc;
}
