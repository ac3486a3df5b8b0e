/* The operation of "oci" that needs the store. */
#ifndef CLI_OCI_BUNDLE_H
#define CLI_OCI_BUNDLE_H

#include "cli/verb.h"

/* The settings that a bundle can have. */
#define OCI_BUNDLE_OPTIONS                                                     \
	{"mount", "MOUNT",                                                     \
		"bundle: /data=/srv/data, or memory:SIZE; ,ro ,make"},         \
		{"env", "ENV",                                                 \
			"bundle: KEY=VALUE; KEY; KEY=@file:PATH; "             \
			"@file:LINES. create, run: KEY=VALUE; KEY; PREFIX*"},  \
		{"network", "NAME", "bundle: host (the default) or none"},     \
		{"hostname", "NAME",                                           \
			"bundle: a host name of its own; by default the "      \
			"host's"},                                             \
		{"user", "USER", "bundle: the program's user"},                \
		{"workdir", "DIR",                                             \
			"bundle: the folder the program starts in"},           \
		{"entrypoint", "PROGRAM",                                      \
			"bundle: replaces the image's; \"\" for none"},        \
		{"capability", "LIST", "bundle: +NET_ADMIN,-CHOWN"},           \
		{"limit", "LIMIT", "bundle: memory=256M,cpu=1.5"},             \
		{"device", "DEVICE", "bundle: /dev/fuse, or a name"},          \
		{"allow", "LIST", "bundle: syscalls,new-privileges,..."},      \
		{"read-only", NULL, "bundle: the root is read-only"},          \
		{"tty", "WHEN", "bundle: a terminal: yes or no"},              \
	{                                                                      \
		"fetch", "WHEN",                                               \
			"bundle: pull the image: missing, always or never"     \
	}

/* Gives the exit code. */
int oci_bundle(struct invocation *call);

#endif
