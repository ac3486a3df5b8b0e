#include "lib/calls.h"

#include <stdio.h>
#include <string.h>

#include "container/calls.h"

/* Newer than the headers of the oldest supported system. All ABIs share these
 * numbers (but for the first two, which x86-64 alone has). */
static const struct abi_call newer[] = {{335, "uretprobe"}, {336, "uprobe"},
	{451, "cachestat"}, {452, "fchmodat2"}, {453, "map_shadow_stack"},
	{454, "futex_wake"}, {455, "futex_wait"}, {456, "futex_requeue"},
	{457, "statmount"}, {458, "listmount"}, {459, "lsm_get_self_attr"},
	{460, "lsm_set_self_attr"}, {461, "lsm_list_modules"}, {462, "mseal"},
	{463, "setxattrat"}, {464, "getxattrat"}, {465, "listxattrat"},
	{466, "removexattrat"}, {467, "open_tree_attr"}, {468, "file_getattr"},
	{469, "file_setattr"}};

static void add(
	struct abi_call *list, size_t *count, int number, const char *name)
{
	for (size_t i = 0; i < *count; i++) {
		if (strcmp(list[i].name, name) == 0)
			return;
	}
	if (*count == ABI_CALLS_MAX)
		return;
	list[*count].number = number;
	snprintf(list[(*count)++].name, sizeof(list->name), "%s", name);
}

size_t abi_calls(enum abi abi, struct abi_call list[ABI_CALLS_MAX])
{
	const char *path = abi == ABI_NATIVE
		? "/usr/include/x86_64-linux-gnu/asm/unistd_64.h"
		: "/usr/include/x86_64-linux-gnu/asm/unistd_32.h";
	FILE *header = fopen(path, "re");
	char line[200], name[40];
	size_t count = 0;
	int number;

	if (!header)
		return 0;
	while (fgets(line, sizeof(line), header)) {
		if (sscanf(line, "#define __NR_%39s %d", name, &number) == 2)
			add(list, &count, number, name);
	}
	fclose(header);
	for (size_t i = abi == ABI_NATIVE ? 0 : 2;
		i < sizeof(newer) / sizeof(*newer); i++)
		add(list, &count, newer[i].number, newer[i].name);
	return count;
}

static void write_answer(struct th_buf *text, const struct th_call_group *group)
{
	switch (group->answer) {
	case TH_CALLS_ALLOWED:
		th_buf_addf(text, "allowed");
		return;
	case TH_CALLS_EXAMINED:
		th_buf_addf(text, "by arguments");
		return;
	case TH_CALLS_GRANTED:
		th_buf_addf(text, "with `%s`, else EPERM", group->capability);
		return;
	case TH_CALLS_REFUSED:
		th_buf_addf(text, "EPERM");
		return;
	case TH_CALLS_ABSENT:
		th_buf_addf(text, "ENOSYS");
		return;
	}
}

void call_table_write(struct th_buf *text)
{
	th_buf_addf(text,
		"| purpose | answer | reason | calls |\n"
		"|---|---|---|---|\n");
	for (size_t i = 0; i < th_call_group_count; i++) {
		const struct th_call_group *group = &th_call_groups[i];

		th_buf_addf(text, "| %s | ", group->purpose);
		write_answer(text, group);
		th_buf_addf(
			text, " | %s | %s |\n", group->reason, group->calls);
	}
}
