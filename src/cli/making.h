/* What create, run and launch have in common: the settings as options. */
#ifndef CLI_MAKING_H
#define CLI_MAKING_H

#include "cli/verb.h"

/* The options themselves, to stand in a verb's table. */
#define MAKING_OPTIONS                                                         \
	{"settings", "FILE", "settings from a YAML file, or -; options win"},  \
		{"given", "NAME=VALUE",                                        \
			"a value that the file lists under \"given\""},        \
		{"name", "NAME",                                               \
			"the container's name; generated if not given"},       \
		LAYERS_FROM, MAKING_SETTINGS, MAKING_PLAN
#define MAKING_PLAN                                                            \
	{                                                                      \
		"plan", NULL,                                                  \
			"check everything and show the result; change nothing" \
	}
/* Those that a container can be made anew with. */
#define MAKING_SETTINGS                                                        \
	{"port", "PORT",                                                       \
		"80=8080: port 80 inside, 8080 outside; 80: any free "         \
		"port"},                                                       \
		{"mount", "MOUNT",                                             \
			"/data=./ledger, /data=volume:NAME or "                \
			"/data=memory:SIZE; ,ro "                              \
			",make ,map=me ,label=mine or all, "                   \
			",propagate=private, "                                 \
			"slave or shared"},                                    \
		{"env", "ENV", "KEY=VALUE; KEY; KEY=@file:PATH; @file:LINES"}, \
		{"secret", "SECRET",                                           \
			"NAME=@file:PATH, @ask or @stdin: a file inside"},     \
		{"network", "NAME",                                            \
			"quayside; NAME,address=10.20.0.9; with:NAME; host"},  \
		{"alias", "NAME", "an additional name on its networks"},       \
		{"host", "NAME=ADDRESS",                                       \
			"an additional line in its hosts file"},               \
		{"hostname", "NAME",                                           \
			"the host name inside; by default the container's "    \
			"name"},                                               \
		{"user", "USER",                                               \
			"the program's user: name or number, then :group"},    \
		{"workdir", "DIR", "the folder the program starts in"},        \
		{"entrypoint", "PROGRAM",                                      \
			"replaces the image's; \"\" for none"},                \
		{"capability", "LIST", "+NET_ADMIN,-CHOWN: add or drop"},      \
		{"stop", "STOP", "signal=INT,grace=30s"},                      \
		{"restart", "POLICY",                                          \
			"never, always, or on-failure,tries=5,delay=1s"},      \
		{"probe", "PROBE",                                             \
			"http:80/health, tcp:7070, exec:CMD; ,every=15s"},     \
		{"log", "LOG", "size=64M,files=16,journal"},                   \
		{"limit", "LIMIT",                                             \
			"memory=256M,swap=1G,cpu=1.5,processes=200,io=300"},   \
		{"device", "DEVICE",                                           \
			"/dev/fuse; selwick.example/gauge=north, or "          \
			"=@env:KEY"},                                          \
		{"share", "LIST",                                              \
			"home,cwd,user,env,scratch,shm,ipc,pmix: the "         \
			"caller's"},                                           \
		{"allow", "LIST",                                              \
			"syscalls,new-privileges,kernel-paths,devices,old-"    \
			"sockets,addresses"},                                  \
		{"reaper", "WHEN",                                             \
			"a first process that reaps orphans: auto, yes or "    \
			"no"},                                                 \
		{"users", "WHOSE",                                             \
			"user IDs on the host: own (a range of its own) or "   \
			"host"},                                               \
		{"read-only", NULL, "mount the container's root read-only"},   \
		{"tty", "WHEN", "a terminal inside: auto, yes or no"},         \
	{                                                                      \
		"fetch", "WHEN", "pull the image: missing, always or never"    \
	}

struct making {
	json_t *settings; /* for the library; owned */
	bool terminal; /* it gets one */
	bool plan;
};

/* Reads options, object and command into settings. terminal: what "auto"
 * comes to. Returns 0, or -1 with an error. To be released in any case. */
int making_read(struct invocation *call, struct making *making, bool terminal,
	struct th_error *err);
void making_release(struct making *making);

/* Checks, and makes the container; errors and problems are printed. Returns
 * EXIT_DONE with the container, which is the caller's; another exit code; or -1
 * where --plan has ended it well. */
int making_create(struct invocation *call, const struct making *making,
	json_t **container);

/* What the plan of such a call says; call has all options, plan is the
 * library's. */
void making_print_plan(const struct invocation *call,
	const struct making *making, const json_t *plan);
/* Tells what people should know of one that was made, and takes that out of the
 * document. */
void making_note(const struct invocation *call, json_t *container);

#endif
