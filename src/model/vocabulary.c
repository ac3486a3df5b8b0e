/* The settings by their names: the one place that lists them. */
#include <string.h>

#include "model/settings.h"

#define TEXT(name, member)                                                     \
	{                                                                      \
		name, TH_SETTING_TEXT, TH_JOIN_ONE,                            \
			offsetof(struct th_settings, member)                   \
	}
#define LIST(name, joining, member)                                            \
	{                                                                      \
		name, TH_SETTING_LIST, joining,                                \
			offsetof(struct th_settings, member)                   \
	}
#define FLAG(name, member)                                                     \
	{                                                                      \
		name, TH_SETTING_FLAG, TH_JOIN_ONE,                            \
			offsetof(struct th_settings, member)                   \
	}

const struct th_setting th_settings_all[] = {TEXT("name", name),
	TEXT("image", image), LIST("command", TH_JOIN_APART, command),
	LIST("port", TH_JOIN_PLACES, port_texts),
	LIST("mount", TH_JOIN_PLACES, mount_texts),
	LIST("env", TH_JOIN_APART, env),
	LIST("network", TH_JOIN_LIST, network_texts),
	LIST("alias", TH_JOIN_ALL, aliases),
	LIST("host", TH_JOIN_PLACES, host_texts), TEXT("hostname", hostname),
	TEXT("user", user), TEXT("workdir", workdir),
	TEXT("entrypoint", entrypoint),
	LIST("capability", TH_JOIN_ALL, capabilities),
	LIST("secret", TH_JOIN_APART, secret_files), FLAG("tty", terminal),
	TEXT("stop", stop_text), TEXT("restart", restart_text),
	TEXT("probe", probe_text), TEXT("log", log_text),
	LIST("limit", TH_JOIN_ALL, limit_texts),
	LIST("device", TH_JOIN_ALL, device_texts), TEXT("share", share_text),
	LIST("allow", TH_JOIN_ALL, allow_texts), TEXT("reaper", reaper_text),
	TEXT("users", users_text), FLAG("read-only", read_only),
	{.name = NULL}};

const struct th_setting *th_setting_find(const char *name)
{
	for (const struct th_setting *one = th_settings_all; one->name; one++) {
		if (strcmp(one->name, name) == 0)
			return one;
	}
	return NULL;
}

void *th_setting_place(
	const struct th_setting *setting, struct th_settings *settings)
{
	return (char *)settings + setting->offset;
}
