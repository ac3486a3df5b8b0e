/* What create, run and launch have in common: the settings as options. */
#ifndef CLI_MAKING_H
#define CLI_MAKING_H

#include "cli/verb.h"

/* The options themselves, to stand in a verb's table. */
#define MAKING_OPTIONS                                                         \
	{"settings", "FILE", "settings from a YAML file; options win"},        \
		{"name", "NAME",                                               \
			"the container's name; otherwise one is made up"},     \
		{"port", "PORT",                                               \
			"80=8080: inside 80, outside 8080; 80: a free one"},   \
		{"mount", "MOUNT",                                             \
			"/data=./ledger; volume:NAME; memory:SIZE; ,ro "       \
			",make"},                                              \
		{"env", "ENV",                                                 \
			"KEY=VALUE; KEY; KEY=@file:PATH; @ask; @stdin"},       \
		{"env-from", "FILE",                                           \
			"lines KEY=VALUE, export and quotes as needed"},       \
		{"secret", "SECRET",                                           \
			"NAME=@file:PATH; @ask; @stdin: a file inside"},       \
		{"network", "NAME",                                            \
			"quayside; NAME,address=10.20.0.9; with:NAME; host"},  \
		{"alias", "NAME", "another name on its network"},              \
		{"host", "NAME=ADDRESS", "a name that it knows"},              \
		{"hostname", "NAME",                                           \
			"the host name inside; otherwise the name"},           \
		{"user", "USER",                                               \
			"who runs the program: name or number, :group"},       \
		{"workdir", "DIR", "the folder in which the program starts"},  \
		{"entrypoint", "PROGRAM",                                      \
			"instead of the image's; \"\" for none"},              \
		{"capability", "LIST", "+NET_ADMIN,-CHOWN: more, or fewer"},   \
		{"stop", "STOP", "signal=INT,grace=30s"},                      \
		{"restart", "POLICY",                                          \
			"never, always, or on-failure,tries=5,delay=1s"},      \
		{"probe", "PROBE",                                             \
			"http:80/health, tcp:3306, exec:CMD; ,every=10s"},     \
		{"log", "LOG", "size=64M,files=256,journal"},                  \
		{"limit", "LIMIT",                                             \
			"memory=256M,swap=1G,cpu=1.5,processes=200,io=300"},   \
		{"device", "DEVICE",                                           \
			"/dev/fuse, or a name: vendor.com/class=name"},        \
		{"share", "LIST",                                              \
			"home,cwd,user: what is the caller's inside as well"}, \
		{"allow", "LIST",                                              \
			"syscalls,new-privileges,kernel-paths,devices"},       \
		{"reaper", "WHEN",                                             \
			"a first process that reaps: auto, yes or no"},        \
		{"read-only", NULL,                                            \
			"nothing may be written to the container's root"},     \
		{"tty", "WHEN", "a terminal inside: auto, yes or no"},         \
		{"fetch", "WHEN", "pull the image: missing, always or never"}, \
	{                                                                      \
		"plan", NULL,                                                  \
			"check everything, say what would be done, and stop"   \
	}

struct making {
	struct th_settings settings;
	struct th_strings values; /* what the settings' texts point into */
	bool plan;
};

/* Reads options, object and command into settings. terminal: what "auto"
 * comes to. Returns 0, or -1 with an error. */
int making_read(struct invocation *call, struct making *making, bool terminal,
	struct th_error *err);
void making_release(struct making *making);

/* Checks, and makes the container; errors and problems are printed. Returns
 * EXIT_DONE with the row; another exit code; or -1 where --plan has ended
 * it well. */
int making_create(struct invocation *call, struct making *making,
	struct th_container_row *row);

#endif
