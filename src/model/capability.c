/* The kernel's capabilities by name (capabilities(7)). */
#include <ctype.h>
#include <stddef.h>
#include <stdio.h>
#include <string.h>
#include <strings.h>

#include "base/choice.h"
#include "base/distance.h"
#include "model/name.h"

static const char *const names[] = {"CAP_CHOWN", "CAP_DAC_OVERRIDE",
	"CAP_DAC_READ_SEARCH", "CAP_FOWNER", "CAP_FSETID", "CAP_KILL",
	"CAP_SETGID", "CAP_SETUID", "CAP_SETPCAP", "CAP_LINUX_IMMUTABLE",
	"CAP_NET_BIND_SERVICE", "CAP_NET_BROADCAST", "CAP_NET_ADMIN",
	"CAP_NET_RAW", "CAP_IPC_LOCK", "CAP_IPC_OWNER", "CAP_SYS_MODULE",
	"CAP_SYS_RAWIO", "CAP_SYS_CHROOT", "CAP_SYS_PTRACE", "CAP_SYS_PACCT",
	"CAP_SYS_ADMIN", "CAP_SYS_BOOT", "CAP_SYS_NICE", "CAP_SYS_RESOURCE",
	"CAP_SYS_TIME", "CAP_SYS_TTY_CONFIG", "CAP_MKNOD", "CAP_LEASE",
	"CAP_AUDIT_WRITE", "CAP_AUDIT_CONTROL", "CAP_SETFCAP",
	"CAP_MAC_OVERRIDE", "CAP_MAC_ADMIN", "CAP_SYSLOG", "CAP_WAKE_ALARM",
	"CAP_BLOCK_SUSPEND", "CAP_AUDIT_READ", "CAP_PERFMON", "CAP_BPF",
	"CAP_CHECKPOINT_RESTORE", NULL};

#define COUNT ((int)(sizeof(names) / sizeof(*names)) - 1)

int th_capability_number(const char *name)
{
	return th_choice(name, names, COUNT);
}

const char *th_capability_name(int number)
{
	return number >= 0 && number < COUNT ? names[number] : NULL;
}

const char *th_capability_meant(const char *text)
{
	const char *plain[COUNT + 1];
	char name[64];
	size_t len = 0;

	text += *text == '+' || *text == '-';
	text += strncasecmp(text, "CAP_", 4) == 0 ? 4 : 0;
	for (; *text && len + 1 < sizeof(name); text++)
		name[len++] = *text == '-'
			? '_'
			: (char)toupper((unsigned char)*text);
	name[len] = '\0';
	for (int i = 0; i < COUNT; i++)
		plain[i] = names[i] + 4;
	plain[COUNT] = NULL;
	return th_nearest(name, plain);
}
