#include "container/own_users.h"

#include <linux/capability.h>
#include <string.h>

#include "container/bundle_linux.h"
#include "network/network.h"

#define BIT(capability) ((uint64_t)1 << (capability))
/* The kernel wants them in the host's user namespace: with IDs of its own a
 * container has them in vain. */
#define OF_THE_HOST                                                            \
	(BIT(CAP_DAC_READ_SEARCH) | BIT(CAP_LINUX_IMMUTABLE) |                 \
		BIT(CAP_IPC_LOCK) | BIT(CAP_SYS_MODULE) | BIT(CAP_SYS_RAWIO) | \
		BIT(CAP_SYS_PACCT) | BIT(CAP_SYS_BOOT) | BIT(CAP_SYS_NICE) |   \
		BIT(CAP_SYS_RESOURCE) | BIT(CAP_SYS_TIME) |                    \
		BIT(CAP_SYS_TTY_CONFIG) | BIT(CAP_AUDIT_WRITE) |               \
		BIT(CAP_AUDIT_CONTROL) | BIT(CAP_MAC_OVERRIDE) |               \
		BIT(CAP_MAC_ADMIN) | BIT(CAP_SYSLOG) | BIT(CAP_WAKE_ALARM) |   \
		BIT(CAP_BLOCK_SUSPEND) | BIT(CAP_AUDIT_READ) | BIT(38) |       \
		/* CAP_PERFMON */ BIT(39) | /* CAP_BPF */                      \
		BIT(40)) /* CAP_CHECKPOINT_RESTORE */

/* What has no owner inside, or belongs to other namespaces; or NULL. */
static const char *foreign_part(const struct th_settings *settings)
{
	if (settings->caller.unprivileged)
		return "containers of an unprivileged user";
	if (settings->device_texts.count || settings->allow & TH_ALLOW_DEVICES)
		return "a container with devices of the host";
	if (strcmp(settings->network, "host") == 0)
		return "a container on the host's network";
	if (th_network_is_with(settings->network))
		return "a container on the network of another one";
	return NULL;
}

static int choose(struct th_settings *settings, struct th_error *err)
{
	const char *text = settings->users_text, *part = foreign_part(settings);

	settings->users = TH_USERS_HOST;
	if (!text) {
		if (!part && !(th_default_capabilities(settings) & OF_THE_HOST))
			settings->users = TH_USERS_AUTO;
		return 0;
	}
	if (strcmp(text, "host") == 0)
		return 0;
	if (strcmp(text, "own") != 0)
		return th_fail(err, TH_USAGE,
			"\"%.50s\" is not a value of --users; use own or host",
			text);
	settings->users = TH_USERS_OWN;
	if (!part)
		return 0;
	th_fail(err, TH_NOT_POSSIBLE, "%s cannot have user IDs of its own",
		part);
	return th_hint(err, "leave out --users own");
}

void th_settings_check(
	struct th_settings *settings, struct th_problems *problems)
{
	struct th_error err = {0};

	th_settings_parse(settings, problems);
	/* Last: it depends on the others. */
	if (choose(settings, &err))
		th_problems_add(problems, &err);
}
