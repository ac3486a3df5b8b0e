/* Every system call, made from inside a container, gets the answer that the
 * list gives it (container/calls.h). What a permitted call says is compared
 * with the same call in a container without a filter. */
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "container/calls.h"
#include "e2e/harness.h"
#include "lib/calls.h"

#define LAST_CALL 480

static char filtered[LAST_CALL + 1][16], open_[LAST_CALL + 1][16];

static void make_calls(
	const char *abi, const char *option, char answers[LAST_CALL + 1][16])
{
	struct result *result =
		hull("run selwick/base --network none %s --mount /inside=%s/"
		     "inside,ro -- /inside/calls %s %d",
			option, world_build, abi, LAST_CALL);
	char *line = result->out, answer[16];
	int number, used;

	memset(answers, 0, (LAST_CALL + 1) * sizeof(*answers));
	CODE(result, 0);
	while (sscanf(line, "%d %15s\n%n", &number, answer, &used) == 2) {
		if (number >= 0 && number <= LAST_CALL)
			snprintf(answers[number], sizeof(*answers), "%s",
				answer);
		line += used;
	}
	CHECK_TEXT(line, "");
}

static const struct th_call_group *group_of(const char *wanted)
{
	for (size_t i = 0; i < th_call_group_count; i++) {
		const char *at = th_call_groups[i].calls;
		char name[TH_CALL_NAME];

		while (th_call_next(&at, name)) {
			if (strcmp(name, wanted) == 0)
				return &th_call_groups[i];
		}
	}
	return NULL;
}

/* What a default container must get, or NULL where arguments decide. */
static const char *wanted_of(const struct abi_call *call)
{
	static char code[16];
	const struct th_call_group *group = group_of(call->name);
	int number = 0;

	if (!group || group->answer == TH_CALLS_EXAMINED)
		return NULL;
	if (group->answer == TH_CALLS_REFUSED ||
		(group->answer == TH_CALLS_GRANTED &&
			strcmp(group->capability, "CAP_SYS_CHROOT") != 0))
		number = EPERM;
	if (group->answer == TH_CALLS_ABSENT)
		number = ENOSYS;
	if (!number)
		return open_[call->number];
	snprintf(code, sizeof(code), "%d", number);
	return code;
}

static void check_abi(enum abi abi, const char *name)
{
	static struct abi_call calls[ABI_CALLS_MAX];
	size_t count = abi_calls(abi, calls), compared = 0;

	make_calls(name, "", filtered);
	make_calls(name, "--allow syscalls", open_);
	for (size_t i = 0; i < count; i++) {
		const char *wanted = wanted_of(&calls[i]);
		const char *got = filtered[calls[i].number];

		if (!wanted)
			continue;
		compared++;
		if (strcmp(got, wanted) != 0)
			printf("\n    %s %s: %s, wanted %s\n", name,
				calls[i].name, got, wanted);
		CHECK_TEXT(got, wanted);
	}
	CHECK(compared > 340);
	/* Numbers that no kernel has yet. */
	CHECK_TEXT(filtered[LAST_CALL], "38");
}

static void native_calls_get_their_answers(void)
{
	check_abi(ABI_NATIVE, "native");
}

static void calls_of_32_bits_get_their_answers(void)
{
	check_abi(ABI_32, "32");
}

/* With their capability the granted ones are no longer refused as such. */
static void capabilities_bring_their_calls(void)
{
	struct abi_call calls[ABI_CALLS_MAX];
	size_t count = abi_calls(ABI_NATIVE, calls), moved = 0;

	make_calls("native", "--capability +SYS_ADMIN,+SYS_PTRACE", filtered);
	make_calls("native",
		"--allow syscalls --capability +SYS_ADMIN,+SYS_PTRACE", open_);
	for (size_t i = 0; i < count; i++) {
		const struct th_call_group *group = group_of(calls[i].name);

		if (!group || group->answer != TH_CALLS_GRANTED ||
			(strcmp(group->capability, "CAP_SYS_ADMIN") != 0 &&
				strcmp(group->capability, "CAP_SYS_PTRACE") !=
					0))
			continue;
		moved++;
		CHECK_TEXT(filtered[calls[i].number], open_[calls[i].number]);
	}
	CHECK(moved > 15);
	CHECK(strcmp(filtered[165], "1") != 0); /* mount */
}

static const CU_TestInfo tests[] = {
	{"native calls get their answers", native_calls_get_their_answers},
	{"calls of 32 bits get their answers",
		calls_of_32_bits_get_their_answers},
	{"capabilities bring their calls", capabilities_bring_their_calls},
	CU_TEST_INFO_NULL};

const struct suite suite_calls = {"calls", tests};
