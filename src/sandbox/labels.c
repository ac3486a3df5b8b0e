/* Security labels of hosts that have them (OCI Runtime Specification,
 * config.md, "apparmorProfile" and "selinuxLabel"). */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "base/libc.h"
#include "sandbox/inside.h"

static bool apparmor_works(void)
{
	char answer = 'N';
	int fd = open("/sys/module/apparmor/parameters/enabled",
		O_RDONLY | O_CLOEXEC);

	if (fd >= 0 && read(fd, &answer, 1) != 1)
		answer = 'N';
	th_close(&fd);
	return answer == 'Y';
}

static bool selinux_works(void)
{
	return access("/sys/fs/selinux/status", F_OK) == 0;
}

int th_labels_check(const struct th_bundle *bundle, struct th_error *err)
{
	const struct th_process *process = &bundle->process;

	if (process->apparmor && process->apparmor[0] && !apparmor_works())
		return th_fail(err, TH_NOT_POSSIBLE,
			"config.json asks for the AppArmor profile \"%.100s\", "
			"but this host does not have AppArmor",
			process->apparmor);
	if (((process->selinux && process->selinux[0]) ||
		    (bundle->mount_label && bundle->mount_label[0])) &&
		!selinux_works())
		return th_fail(err, TH_NOT_POSSIBLE,
			"config.json asks for the SELinux label \"%.100s\", "
			"but this host does not have SELinux",
			process->selinux && process->selinux[0]
				? process->selinux
				: bundle->mount_label);
	return 0;
}

int th_inside_proc(struct th_error *err)
{
	int fs = fsopen("proc", FSOPEN_CLOEXEC);
	int fd =
		fs >= 0 && fsconfig(fs, FSCONFIG_CMD_CREATE, NULL, NULL, 0) == 0
		? fsmount(fs, FSMOUNT_CLOEXEC, 0)
		: -1;

	if (fd < 0)
		th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot open the kernel's view of the container");
	th_close(&fs);
	return fd;
}

static int write_label(int proc, const char *file, const char *prefix,
	const char *label, struct th_error *err)
{
	char text[512];
	int fd = openat(proc, file, O_WRONLY | O_CLOEXEC);
	int len = snprintf(text, sizeof(text), "%s%s", prefix, label);
	int rc = 0;

	if (fd < 0 || len >= (int)sizeof(text) ||
		write(fd, text, (size_t)len) != len)
		rc = th_fail_sys(err, TH_NOT_POSSIBLE, errno,
			"cannot apply the label \"%.100s\"", label);
	th_close(&fd);
	return rc;
}

int th_inside_labels(const struct th_process *process, struct th_error *err)
{
	bool apparmor = process->apparmor && process->apparmor[0];
	bool selinux = process->selinux && process->selinux[0];
	int proc, rc = 0;

	if (!apparmor && !selinux)
		return 0;
	proc = th_inside_proc(err);
	if (proc < 0)
		return -1;
	if (apparmor)
		rc = write_label(proc, "thread-self/attr/exec", "exec ",
			process->apparmor, err);
	if (rc == 0 && selinux)
		rc = write_label(proc, "thread-self/attr/exec", "",
			process->selinux, err);
	th_close(&proc);
	return rc;
}

int th_inside_sysctls(const struct th_bundle *bundle, struct th_error *err)
{
	int proc = -1, rc = 0;

	if (bundle->sysctls.count) {
		proc = th_inside_proc(err);
		if (proc < 0)
			return -1;
	}
	for (size_t i = 0; rc == 0 && i < bundle->sysctls.count; i++) {
		const char *entry = bundle->sysctls.items[i];
		size_t len = strcspn(entry, "=");
		const char *value = entry + len + 1;
		char path[160];
		int fd;

		snprintf(path, sizeof(path), "sys/%.*s", (int)len, entry);
		/* With slashes in it dots are part of names (sysctl(8)). */
		for (char *at = path + 4; !memchr(entry, '/', len) && *at; at++)
			*at = *at == '.' ? '/' : *at;
		fd = openat(proc, path, O_WRONLY | O_CLOEXEC);
		if (fd < 0 ||
			write(fd, value, strlen(value)) !=
				(ssize_t)strlen(value))
			rc = th_fail_sys(err, TH_NOT_POSSIBLE, errno,
				"cannot set the sysctl %.*s to \"%.60s\"",
				(int)len, entry, value);
		th_close(&fd);
	}
	th_close(&proc);
	return rc;
}
