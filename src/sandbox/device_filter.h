/* The device rules of a version 2 control group: a small program that the
 * kernel asks at every open and mknod (BPF_PROG_TYPE_CGROUP_DEVICE). For the
 * sandbox module only. */
#ifndef TH_SANDBOX_DEVICE_FILTER_H
#define TH_SANDBOX_DEVICE_FILTER_H

#include "oci/resources.h"

/* Attaches a program with the rules, of which the last that fits decides, in
 * place of an earlier one. Where none fits the access is refused. -1 with
 * errno. */
int device_filter_attach(
	int group, const struct th_device_rule *rules, size_t count);

#endif
