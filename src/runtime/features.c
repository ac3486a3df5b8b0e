/* What this runtime can do (OCI Runtime Specification, features.md). */
#include <errno.h>
#include <sys/prctl.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <linux/seccomp.h>

#include "base/json.h"
#include "oci/bundle.h"
#include "oci/hooks.h"
#include "oci/seccomp.h"
#include "runtime/runtime.h"
#include "sandbox/call_numbers.h"
#include "sandbox/mounts.h"

/* The versions of the specification whose configurations are taken. */
#define VERSION_LEAST "1.0.0"
#define VERSION_MOST "1.2.1"

static json_t *list_words(const char *const *words)
{
	json_t *list = json_array();

	for (; *words; words++)
		json_array_append_new(list, json_string(*words));
	return list;
}

static json_t *list_hooks(void)
{
	json_t *list = json_array();

	for (int i = 0; i < TH_HOOK_KINDS; i++)
		json_array_append_new(
			list, json_string(th_hook_name((enum th_hook_kind)i)));
	return list;
}

static json_t *list_mount_options(void)
{
	struct th_strings words = {0};
	json_t *list = NULL;

	if (th_mount_options(&words) == 0)
		list = th_json_from_strings(&words);
	th_strings_release(&words);
	return list;
}

/* Those that the running kernel has. */
static json_t *list_capabilities(void)
{
	json_t *list = json_array();

	for (int i = 0; th_capability_name(i) &&
		prctl(PR_CAPBSET_READ, i, 0, 0, 0) >= 0;
		i++)
		json_array_append_new(list, json_string(th_capability_name(i)));
	return list;
}

static json_t *list_architectures(void)
{
	static const char *const all[] = {"SCMP_ARCH_X86", "SCMP_ARCH_X86_64",
		"SCMP_ARCH_X32", "SCMP_ARCH_ARM", "SCMP_ARCH_AARCH64",
		"SCMP_ARCH_MIPS", "SCMP_ARCH_MIPS64", "SCMP_ARCH_MIPS64N32",
		"SCMP_ARCH_MIPSEL", "SCMP_ARCH_MIPSEL64",
		"SCMP_ARCH_MIPSEL64N32", "SCMP_ARCH_PPC", "SCMP_ARCH_PPC64",
		"SCMP_ARCH_PPC64LE", "SCMP_ARCH_S390", "SCMP_ARCH_S390X",
		"SCMP_ARCH_PARISC", "SCMP_ARCH_PARISC64", "SCMP_ARCH_RISCV64",
		"SCMP_ARCH_LOONGARCH64", "SCMP_ARCH_M68K", "SCMP_ARCH_SH",
		"SCMP_ARCH_SHEB"};
	json_t *list = json_array();

	for (size_t i = 0; i < sizeof(all) / sizeof(*all); i++) {
		if (th_architecture_find(all[i]) ||
			th_architecture_is_foreign(all[i]))
			json_array_append_new(list, json_string(all[i]));
	}
	return list;
}

/* The known flags; only those that this kernel takes where supported is asked
 * for: it says EFAULT to a good flag without a program, EINVAL to a bad one
 * (seccomp(2)). */
static json_t *list_flags(bool supported)
{
	json_t *list = json_array();
	const char *name;

	for (size_t i = 0; (name = th_seccomp_flag(i)); i++) {
		unsigned int flag = th_seccomp_flag_value(i);

		/* This one wants a listener to wait for. */
		if (flag == 1u << 5)
			flag |= SECCOMP_FILTER_FLAG_NEW_LISTENER;
		if (!supported ||
			syscall(SYS_seccomp, SECCOMP_SET_MODE_FILTER, flag,
				NULL) == 0 ||
			errno == EFAULT)
			json_array_append_new(list, json_string(name));
	}
	return list;
}

static json_t *describe_seccomp(void)
{
	return json_pack("{s:b s:o s:o s:o s:o s:o}", "enabled", 1, "actions",
		list_words(th_seccomp_actions), "operators",
		list_words(th_seccomp_operators), "archs", list_architectures(),
		"knownFlags", list_flags(false), "supportedFlags",
		list_flags(true));
}

static json_t *describe_linux(void)
{
	return json_pack(
		"{s:o s:o s:{s:b s:b s:b s:b s:b} s:o s:{s:b} s:{s:b} s:{s:b} "
		"s:{s:{s:b}} s:{s:b}}",
		"namespaces", list_words(th_namespace_types), "capabilities",
		list_capabilities(), "cgroup", "v1", 1, "v2", 1, "systemd", 0,
		"systemdUser", 0, "rdma", 1, "seccomp", describe_seccomp(),
		"apparmor", "enabled", 1, "selinux", "enabled", 1, "intelRdt",
		"enabled", 0, "mountExtensions", "idmap", "enabled", 1,
		"netDevices", "enabled", 0);
}

json_t *th_runtime_features(void)
{
	return json_pack("{s:s s:s s:o s:o s:o s:{} s:[]}", "ociVersionMin",
		VERSION_LEAST, "ociVersionMax", VERSION_MOST, "hooks",
		list_hooks(), "mountOptions", list_mount_options(), "linux",
		describe_linux(), "annotations",
		"potentiallyUnsafeConfigAnnotations");
}
