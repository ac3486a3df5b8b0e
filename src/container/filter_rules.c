#include "base/json.h"
#include "container/filter_rules.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/netlink.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/personality.h>
#include <sys/socket.h>
#include <unistd.h>

#include "base/file.h"
#include "container/calls.h"
#include "oci/bundle.h"
#include "sandbox/filter.h"
#include "sandbox/filter_file.h"

/* A change of the compiler makes what was compiled before worthless. */
#define COMPILER_VERSION 3
/* As does a change of the rules; a unit test knows which rules this is. */
#define RULES_VERSION 1

#define COUNT(list) (sizeof(list) / sizeof(*(list)))

/* New namespaces in the flags of clone(2): the 0x80 of CLONE_NEWTIME is a part
 * of the signal's number there. */
static const unsigned int namespaces_of_clone[] = {CLONE_NEWNS, CLONE_NEWCGROUP,
	CLONE_NEWUTS, CLONE_NEWIPC, CLONE_NEWUSER, CLONE_NEWPID, CLONE_NEWNET};
static const unsigned int namespaces_of_unshare[] = {CLONE_NEWNS,
	CLONE_NEWCGROUP, CLONE_NEWUTS, CLONE_NEWIPC, CLONE_NEWUSER,
	CLONE_NEWPID, CLONE_NEWNET, CLONE_NEWTIME};

/* Not among them: READ_IMPLIES_EXEC and MMAP_PAGE_ZERO, which weaken the
 * protection of memory, and the execution domains of other systems. */
#define PERSONALITY_HARMLESS                                                   \
	(PER_LINUX32 | UNAME26 | ADDR_NO_RANDOMIZE | ADDR_COMPAT_LAYOUT |      \
		ADDR_LIMIT_3GB)
/* personality(2): all bits set is the question which one is in force. */
#define PERSONALITY_ASK 0xffffffffu

struct condition {
	int index;
	const char *op;
	json_int_t value, two; /* two: of a masked comparison */
};

#define IS(at, wanted)                                                         \
	{                                                                      \
		at, "SCMP_CMP_EQ", wanted, 0                                   \
	}
#define ABOVE(at, bound)                                                       \
	{                                                                      \
		at, "SCMP_CMP_GT", bound, 0                                    \
	}
#define MASKED(at, mask, wanted)                                               \
	{                                                                      \
		at, "SCMP_CMP_MASKED_EQ", mask, wanted                         \
	}

static json_t *rule(json_t *names, int code)
{
	json_t *one = json_pack("{s:o s:s}", "names", names, "action",
		code ? "SCMP_ACT_ERRNO" : "SCMP_ACT_ALLOW");

	if (code)
		json_object_set_new(one, "errnoRet", json_integer(code));
	return one;
}

/* Adds the answer (an errno, or 0: allowed) to a call where all of the one or
 * two conditions hold. */
static void answer(json_t *rules, const char *name, int code,
	const struct condition *conditions, size_t count)
{
	json_t *one = rule(json_pack("[s]", name), code);
	json_t *arguments = json_array();

	for (size_t i = 0; i < count; i++) {
		const struct condition *condition = &conditions[i];
		json_t *argument =
			json_pack("{s:i s:I s:s}", "index", condition->index,
				"value", condition->value, "op", condition->op);

		if (strcmp(condition->op, "SCMP_CMP_MASKED_EQ") == 0)
			json_object_set_new(argument, "valueTwo",
				json_integer(condition->two));
		json_array_append_new(arguments, argument);
	}
	json_object_set_new(one, "args", arguments);
	json_array_append_new(rules, one);
}

static bool has(uint64_t capabilities, const char *name)
{
	return capabilities >> th_capability_number(name) & 1;
}

/* Allowed where none of the flags is set, EPERM where one is. A rule can
 * compare an argument once, so that "any of them" is a rule for each. */
static void add_flags(json_t *rules, const char *name,
	const unsigned int *flags, size_t count)
{
	struct condition none = MASKED(0, 0, 0);

	for (size_t i = 0; i < count; i++) {
		struct condition set = MASKED(0, flags[i], flags[i]);

		answer(rules, name, EPERM, &set, 1);
		none.value |= flags[i];
	}
	answer(rules, name, 0, &none, 1);
}

/* Which netlink protocols there are: those for addresses, routes and lists of
 * sockets. Programs that try another one (useradd looks for the audit system)
 * go on without it where they hear EPROTONOSUPPORT, and end at ENOSYS. */
static void add_netlink(json_t *rules, uint64_t capabilities)
{
	static const struct condition every = IS(0, AF_NETLINK);

	if (has(capabilities, "CAP_NET_ADMIN")) {
		answer(rules, "socket", 0, &every, 1);
		return;
	}
	for (int i = 0; i <= NETLINK_SOCK_DIAG + 1; i++) {
		struct condition both[] = {IS(0, AF_NETLINK), IS(2, i)};
		struct condition rest[] = {
			IS(0, AF_NETLINK), ABOVE(2, NETLINK_SOCK_DIAG)};
		bool there = i == NETLINK_ROUTE || i == NETLINK_SOCK_DIAG;

		answer(rules, "socket", there ? 0 : EPROTONOSUPPORT,
			i > NETLINK_SOCK_DIAG ? rest : both, 2);
	}
}

static void add_sockets(json_t *rules, uint64_t capabilities)
{
	static const struct condition newer = ABOVE(0, AF_PACKET);

	for (int family = 0; family <= AF_PACKET; family++) {
		struct condition one = IS(0, family);
		int code = EAFNOSUPPORT;

		if (family == AF_UNIX || family == AF_INET ||
			family == AF_INET6)
			code = 0;
		else if (family == AF_PACKET)
			code = has(capabilities, "CAP_NET_RAW") ? 0 : EPERM;
		if (family != AF_NETLINK)
			answer(rules, "socket", code, &one, 1);
	}
	answer(rules, "socket", EAFNOSUPPORT, &newer, 1);
	add_netlink(rules, capabilities);
}

static void add_personality(json_t *rules)
{
	/* The kernel reads 32 bits of the register: so do these. */
	static const struct condition harmless = MASKED(
		0, PERSONALITY_ASK & ~(unsigned int)PERSONALITY_HARMLESS, 0);
	static const struct condition ask =
		MASKED(0, PERSONALITY_ASK, PERSONALITY_ASK);

	answer(rules, "personality", 0, &harmless, 1);
	answer(rules, "personality", 0, &ask, 1);
}

/* The calls that are looked into, but where the capability takes all. */
static void add_examined(json_t *rules, json_t *allowed, uint64_t capabilities)
{
	static const char *const all[] = {"clone", "clone3", "unshare"};

	add_sockets(rules, capabilities);
	add_personality(rules);
	if (has(capabilities, "CAP_SYS_ADMIN")) {
		for (size_t i = 0; i < COUNT(all); i++)
			json_array_append_new(allowed, json_string(all[i]));
		return;
	}
	add_flags(rules, "clone", namespaces_of_clone,
		COUNT(namespaces_of_clone));
	add_flags(rules, "unshare", namespaces_of_unshare,
		COUNT(namespaces_of_unshare));
}

static void add_group(const struct th_call_group *group, uint64_t capabilities,
	json_t *allowed, json_t *denied)
{
	json_t *list = denied;
	const char *at = group->calls;
	char name[TH_CALL_NAME];

	/* Absent ones are left to the default. */
	if (group->answer == TH_CALLS_EXAMINED ||
		group->answer == TH_CALLS_ABSENT)
		return;
	if (group->answer == TH_CALLS_ALLOWED ||
		(group->answer == TH_CALLS_GRANTED &&
			has(capabilities, group->capability)))
		list = allowed;
	while (th_call_next(&at, name))
		json_array_append_new(list, json_string(name));
}

json_t *th_filter_rules(uint64_t capabilities, bool old_sockets)
{
	json_t *allowed = json_array(), *denied = json_array();
	json_t *rules = json_array();

	for (size_t i = 0; i < th_call_group_count; i++)
		add_group(&th_call_groups[i], capabilities, allowed, denied);
	add_examined(rules, allowed, capabilities);
	if (old_sockets)
		json_array_append_new(allowed, json_string("socketcall"));
	json_array_append_new(rules, rule(allowed, 0));
	json_array_append_new(rules, rule(denied, EPERM));
	return json_pack("{s:s s:i s:[ss] s:o}", "defaultAction",
		"SCMP_ACT_ERRNO", "defaultErrnoRet", ENOSYS, "architectures",
		"SCMP_ARCH_X86_64", "SCMP_ARCH_X86", "syscalls", rules);
}

static int compile(
	const json_t *rules, struct th_buf *program, struct th_error *err)
{
	json_t *part = json_pack("{s:O}", "seccomp", rules);
	struct th_seccomp seccomp = {0};
	int rc = part ? th_seccomp_parse(part, &seccomp, err)
		      : th_fail_memory(err);

	if (rc == 1)
		rc = th_filter_compile(&seccomp, program, err);
	th_seccomp_release(&seccomp);
	json_decref(part);
	return rc;
}

/* All that the rules are made from, but the code. */
static void name_of(
	uint64_t capabilities, bool old_sockets, char name[TH_FILTER_NAME])
{
	snprintf(name, TH_FILTER_NAME, "%d.%d-%llx%s", COMPILER_VERSION,
		RULES_VERSION, (unsigned long long)capabilities,
		old_sockets ? "-old" : "");
}

static bool have(struct th_store *store, const char *name,
	const char *rules_name, struct th_buf *text)
{
	bool done;
	int fd;

	if (!th_filter_is_sealed(store->root_fd, name))
		return false;
	fd = th_filter_open(store->root_fd, rules_name);
	done = fd >= 0 && th_filter_unseal(fd, rules_name, text);
	th_close(&fd);
	return done;
}

int th_filter_keep(struct th_store *store, uint64_t capabilities,
	bool old_sockets, char name[TH_FILTER_NAME], struct th_buf *text,
	struct th_error *err)
{
	char rules_name[TH_FILTER_NAME + 8], *made;
	struct th_buf program;
	json_t *rules;
	int rc;

	name_of(capabilities, old_sockets, name);
	snprintf(rules_name, sizeof(rules_name), "%s.rules", name);
	if (have(store, name, rules_name, text))
		return 0;
	th_buf_init(&program, TH_FILTER_MAX);
	rules = th_filter_rules(capabilities, old_sockets);
	made = rules ? th_json_text(rules, JSON_COMPACT) : NULL;
	if (made)
		th_buf_adds(text, made);
	rc = made && !text->failed ? compile(rules, &program, err)
				   : th_fail_memory(err);
	/* The compiled form last: where it lies, the text does. */
	if (rc == 0)
		rc = th_filter_seal(store->root_fd, rules_name, text, err);
	if (rc == 0)
		rc = th_filter_seal(store->root_fd, name, &program, err);
	th_buf_release(&program);
	json_decref(rules);
	free(made);
	return rc;
}
