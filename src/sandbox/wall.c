#include "sandbox/wall.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/filter.h>
#include <linux/landlock.h>
#include <linux/seccomp.h>
#include <stddef.h>
#include <stdint.h>
#include <sys/mman.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "base/architecture.h"
#include "base/file.h"
#include "sandbox/rights.h"

#define CALLS_MAX 120

/* ---- files ---- */

/* What later versions of Landlock can hold back besides; headers may be older
 * than the kernel. */
#define FS_FIRST_13 ((1u << 13) - 1)
#define FS_REFER (1u << 13)
#define FS_TRUNCATE (1u << 14)
#define FS_IOCTL_DEV (1u << 15)

static uint64_t all_access(long version)
{
	return FS_FIRST_13 | (version >= 2 ? FS_REFER : 0) |
		(version >= 3 ? FS_TRUNCATE : 0) |
		(version >= 5 ? FS_IOCTL_DEV : 0);
}

static uint64_t access_to(
	const struct th_wall_folder *folder, int fd, uint64_t all)
{
	const uint64_t read =
		LANDLOCK_ACCESS_FS_READ_FILE | LANDLOCK_ACCESS_FS_READ_DIR;
	const uint64_t files = LANDLOCK_ACCESS_FS_WRITE_FILE |
		LANDLOCK_ACCESS_FS_REMOVE_FILE | LANDLOCK_ACCESS_FS_MAKE_REG;
	struct stat st;

	/* Of a file nothing else is accepted. */
	if (fstat(fd, &st) || !S_ISDIR(st.st_mode))
		return LANDLOCK_ACCESS_FS_READ_FILE;
	switch (folder->access) {
	case TH_WALL_FILES:
		return (read | files) & all;
	case TH_WALL_ALL:
		return all & ~(uint64_t)LANDLOCK_ACCESS_FS_EXECUTE;
	default:
		return read;
	}
}

static int add_folder(
	int ruleset, const struct th_wall_folder *folder, uint64_t all)
{
	struct landlock_path_beneath_attr rule = {.parent_fd = folder->fd};
	int opened = -1;
	long rc;

	if (folder->fd < 0) {
		opened = open(folder->path, O_PATH | O_CLOEXEC);
		if (opened < 0)
			return 0;
		rule.parent_fd = opened;
	}
	rule.allowed_access = access_to(folder, rule.parent_fd, all);
	rc = syscall(SYS_landlock_add_rule, ruleset, LANDLOCK_RULE_PATH_BENEATH,
		&rule, 0);
	th_close(&opened);
	return rc ? -1 : 0;
}

int th_wall_files(const struct th_wall_folder *folders, size_t count,
	struct th_error *err)
{
	struct landlock_ruleset_attr attr = {0};
	long version = syscall(SYS_landlock_create_ruleset, NULL, 0,
		LANDLOCK_CREATE_RULESET_VERSION);
	int ruleset, rc = 0;

	/* The first version cannot be told to let links and files be moved from
	 * folder to folder. */
	for (size_t i = 0; version == 1 && i < count; i++) {
		if (folders[i].access == TH_WALL_ALL)
			version = 0;
	}
	if (version < 1)
		return 0;
	attr.handled_access_fs = all_access(version);
	/* Only the first member, which every version has. */
	ruleset = (int)syscall(SYS_landlock_create_ruleset, &attr,
		sizeof(attr.handled_access_fs), 0);
	for (size_t i = 0; ruleset >= 0 && rc == 0 && i < count; i++)
		rc = add_folder(ruleset, &folders[i], attr.handled_access_fs);
	if (ruleset < 0 || rc ||
		syscall(SYS_landlock_restrict_self, ruleset, 0))
		rc = th_fail_sys(err, TH_FAILED, errno,
			"cannot give up the host's files");
	th_close(&ruleset);
	return rc;
}

/* ---- ports ---- */

/* As the kernel has them (Documentation/userspace-api/landlock.rst). */
#define NET_VERSION 4
#define NET_BIND_TCP 1u
#define NET_CONNECT_TCP 2u
#define RULE_NET_PORT 2

int th_wall_ports(const uint16_t *ports, size_t count, struct th_error *err)
{
	const struct {
		uint64_t files, net;
	} attr = {0, NET_BIND_TCP | NET_CONNECT_TCP};
	long version = syscall(SYS_landlock_create_ruleset, NULL, 0,
		LANDLOCK_CREATE_RULESET_VERSION);
	int ruleset, rc = 0;

	if (version < NET_VERSION)
		return 0;
	ruleset = (int)syscall(
		SYS_landlock_create_ruleset, &attr, sizeof(attr), 0);
	for (size_t i = 0; ruleset >= 0 && rc == 0 && i < count; i++) {
		const struct {
			uint64_t access, port;
		} rule = {NET_CONNECT_TCP, ports[i]};

		rc = (int)syscall(SYS_landlock_add_rule, ruleset, RULE_NET_PORT,
			&rule, 0);
	}
	if (ruleset < 0 || rc ||
		syscall(SYS_landlock_restrict_self, ruleset, 0))
		rc = th_fail_sys(
			err, TH_FAILED, errno, "cannot give up other ports");
	th_close(&ruleset);
	return rc;
}

/* ---- calls ---- */

static struct sock_filter load(uint32_t offset)
{
	return (struct sock_filter)BPF_STMT(BPF_LD | BPF_W | BPF_ABS, offset);
}

static struct sock_filter answer(uint32_t value)
{
	return (struct sock_filter)BPF_STMT(BPF_RET | BPF_K, value);
}

/* Where it is equal, on; else as many steps further. */
static struct sock_filter skip_unless(uint32_t value, uint8_t steps)
{
	return (struct sock_filter)BPF_JUMP(
		BPF_JMP | BPF_JEQ | BPF_K, value, 0, steps);
}

/* Low half of an argument. */
static struct sock_filter load_argument(unsigned int number)
{
	const uint32_t low = __BYTE_ORDER__ == __ORDER_BIG_ENDIAN__ ? 4 : 0;

	return load(offsetof(struct seccomp_data, args) + 8 * number + low);
}

/* The calls that are looked into. */
static unsigned short put_examined(struct sock_filter *steps, int number)
{
	unsigned short n = 0;

	if (number == TH_WALL_STREAM_SOCKET || number == SYS_socket) {
		bool streams = number == TH_WALL_STREAM_SOCKET;

		steps[n++] = skip_unless(SYS_socket, streams ? 9 : 6);
		if (streams) {
			/* The type stands in the lowest bits, flags above it.
			 */
			steps[n++] = load_argument(1);
			steps[n++] = (struct sock_filter)BPF_STMT(
				BPF_ALU | BPF_AND | BPF_K, 0xf);
			steps[n++] = skip_unless(SOCK_STREAM, 5);
		}
		/* A unix socket would lead to the servers of the host. */
		steps[n++] = load_argument(0);
		steps[n++] = skip_unless(AF_INET, 1);
		steps[n++] = answer(SECCOMP_RET_ALLOW);
		steps[n++] = skip_unless(AF_INET6, 1);
		steps[n++] = answer(SECCOMP_RET_ALLOW);
		steps[n++] = answer(SECCOMP_RET_ERRNO | EPERM);
		return n;
	}
	steps[n++] = skip_unless((uint32_t)number, 4);
	steps[n++] = load_argument(2);
	steps[n++] = (struct sock_filter)BPF_JUMP(
		BPF_JMP | BPF_JSET | BPF_K, PROT_EXEC, 1, 0);
	steps[n++] = answer(SECCOMP_RET_ALLOW);
	steps[n++] = answer(SECCOMP_RET_ERRNO | EPERM);
	return n;
}

int th_wall_calls(const int *numbers, size_t count, struct th_error *err)
{
	struct sock_filter steps[2 * CALLS_MAX + 40];
	struct sock_fprog program = {.filter = steps};
	unsigned short n = 0;

	if (count > CALLS_MAX)
		return th_fail(err, TH_FAILED, "too many system calls");
	steps[n++] = load(offsetof(struct seccomp_data, arch));
	steps[n++] = (struct sock_filter)BPF_JUMP(
		BPF_JMP | BPF_JEQ | BPF_K, TH_AUDIT_ARCH, 1, 0);
	steps[n++] = answer(SECCOMP_RET_KILL_PROCESS);
	steps[n++] = load(offsetof(struct seccomp_data, nr));
	for (size_t i = 0; i < count; i++) {
		if (numbers[i] == TH_WALL_STREAM_SOCKET ||
			numbers[i] == SYS_socket || numbers[i] == SYS_mmap ||
			numbers[i] == SYS_mprotect) {
			n = (unsigned short)(n +
				put_examined(steps + n, numbers[i]));
			continue;
		}
		steps[n++] = skip_unless((uint32_t)numbers[i], 1);
		steps[n++] = answer(SECCOMP_RET_ALLOW);
	}
	steps[n++] = answer(SECCOMP_RET_ERRNO | EPERM);
	program.len = n;
	if (syscall(SYS_seccomp, SECCOMP_SET_MODE_FILTER, 0, &program))
		return th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot restrict the system calls");
	return 0;
}

int th_wall(uint64_t keep, const struct th_wall_folder *folders,
	size_t folder_count, const int *numbers, size_t count,
	struct th_error *err)
{
	if (th_rights_bound(keep, true, err) ||
		(folder_count && th_wall_files(folders, folder_count, err)))
		return -1;
	return th_wall_calls(numbers, count, err);
}
