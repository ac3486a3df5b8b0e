#include "oci/seccomp.h"

#include <errno.h>
#include <linux/seccomp.h>
#include <stdlib.h>
#include <string.h>

#include "oci/read.h"

#define COUNT(list) (sizeof(list) / sizeof(*(list)))

const char *const th_seccomp_actions[] = {"SCMP_ACT_KILL",
	"SCMP_ACT_KILL_PROCESS", "SCMP_ACT_KILL_THREAD", "SCMP_ACT_TRAP",
	"SCMP_ACT_ERRNO", "SCMP_ACT_TRACE", "SCMP_ACT_ALLOW", "SCMP_ACT_LOG",
	"SCMP_ACT_NOTIFY", NULL};
const char *const th_seccomp_operators[] = {"SCMP_CMP_NE", "SCMP_CMP_LT",
	"SCMP_CMP_LE", "SCMP_CMP_EQ", "SCMP_CMP_GE", "SCMP_CMP_GT",
	"SCMP_CMP_MASKED_EQ", NULL};

static const struct {
	const char *name;
	unsigned int flag;
} known_flags[] = {{"SECCOMP_FILTER_FLAG_TSYNC", SECCOMP_FILTER_FLAG_TSYNC},
	{"SECCOMP_FILTER_FLAG_LOG", SECCOMP_FILTER_FLAG_LOG},
	{"SECCOMP_FILTER_FLAG_SPEC_ALLOW", SECCOMP_FILTER_FLAG_SPEC_ALLOW},
	{"SECCOMP_FILTER_FLAG_WAIT_KILLABLE_RECV", 1u << 5}};

const char *th_seccomp_flag(size_t number)
{
	return number < COUNT(known_flags) ? known_flags[number].name : NULL;
}

unsigned int th_seccomp_flag_value(size_t number)
{
	return known_flags[number].flag;
}

static int read_action(const json_t *object, const char *key, const char *where,
	enum th_call_action *action, struct th_error *err)
{
	const char *text = NULL;
	int index;

	if (th_json_string(object, key, where, &text, err) < 0)
		return -1;
	if (!text)
		return th_fail(
			err, TH_FAILED, "%s does not have %s", where, key);
	index = word_index(text, th_seccomp_actions);
	if (index < 0)
		return th_fail(err, TH_FAILED,
			"\"%.60s\" in %s is not an action of a system-call "
			"filter",
			text, where);
	*action = (enum th_call_action)index;
	return 0;
}

/* "When the action doesn't support an errno, the runtime MUST print an error
 * and fail" (config-linux.md, "Seccomp"). */
static int read_code(const json_t *object, const char *key, const char *where,
	enum th_call_action action, unsigned int *code, struct th_error *err)
{
	int64_t number = EPERM;
	int rc = read_number(object, key, where, 0, 65535, &number, err);

	if (rc < 0)
		return -1;
	if (rc == 1 && action != TH_CALL_ERRNO && action != TH_CALL_TRACE)
		return th_fail(err, TH_FAILED,
			"%s has %s for %s, which gives no error code", where,
			key, th_seccomp_actions[action]);
	*code = (unsigned int)number;
	return 0;
}

static int read_argument(const json_t *item, struct th_call_argument *argument,
	struct th_error *err)
{
	static const char *const done[] = {
		"index", "value", "valueTwo", "op", NULL};
	static const struct shape shape = {
		"an argument of linux.seccomp", done, NULL};
	int64_t index = -1, value = 0, value_two = 0;
	const char *op = NULL;

	if (!json_is_object(item))
		return th_fail(
			err, TH_FAILED, "%s is not an object", shape.where);
	if (shape_check(item, &shape, err) ||
		read_number(item, "index", shape.where, 0, 5, &index, err) <
			0 ||
		th_json_int(item, "value", shape.where, &value, err) < 0 ||
		th_json_int(item, "valueTwo", shape.where, &value_two, err) <
			0 ||
		th_json_string(item, "op", shape.where, &op, err) < 0)
		return -1;
	if (index < 0 || word_index(op, th_seccomp_operators) < 0)
		return th_fail(err, TH_FAILED,
			"%s needs an index and a known op, not \"%.30s\"",
			shape.where, op ? op : "");
	argument->index = (unsigned int)index;
	argument->op =
		(enum th_call_operator)word_index(op, th_seccomp_operators);
	argument->value = (uint64_t)value;
	argument->value_two = (uint64_t)value_two;
	return 0;
}

static int read_rule(const json_t *item, void *out, struct th_error *err)
{
	static const char where[] = "linux.seccomp.syscalls";
	struct th_call_rule *rule = out;
	json_t *arguments, *argument;
	size_t i;

	if (th_json_strings(item, "names", where, &rule->names, err) < 0 ||
		read_action(item, "action", where, &rule->action, err) ||
		read_code(item, "errnoRet", where, rule->action,
			&rule->error_code, err) ||
		th_json_array(item, "args", where, &arguments, err) < 0)
		return -1;
	if (!rule->names.count)
		return th_fail(
			err, TH_FAILED, "%s has a rule without names", where);
	if (json_array_size(arguments) > COUNT(rule->arguments))
		return th_fail(err, TH_FAILED,
			"%s has a rule with more than %zu arguments", where,
			COUNT(rule->arguments));
	json_array_foreach(arguments, i, argument)
	{
		if (read_argument(argument, &rule->arguments[i], err))
			return -1;
		rule->argument_count++;
	}
	return 0;
}

static int read_flags(
	const json_t *object, struct th_seccomp *seccomp, struct th_error *err)
{
	struct th_strings names = {0};
	int rc = th_json_strings(object, "flags", "linux.seccomp", &names, err);

	for (size_t i = 0; rc == 1 && i < names.count; i++) {
		unsigned int flag = 0;

		for (size_t k = 0; k < COUNT(known_flags); k++) {
			if (strcmp(names.items[i], known_flags[k].name) == 0)
				flag = known_flags[k].flag;
		}
		if (!flag)
			rc = th_fail(err, TH_NOT_POSSIBLE,
				"linux.seccomp has the unknown flag \"%.60s\"",
				names.items[i]);
		seccomp->flags |= flag;
	}
	th_strings_release(&names);
	return rc < 0 ? -1 : 0;
}

static bool uses_listener(const struct th_seccomp *seccomp)
{
	bool uses = seccomp->default_action == TH_CALL_NOTIFY;

	for (size_t i = 0; i < seccomp->rule_count; i++)
		uses |= seccomp->rules[i].action == TH_CALL_NOTIFY;
	return uses;
}

int th_seccomp_parse(const json_t *linux_part, struct th_seccomp *seccomp,
	struct th_error *err)
{
	static const char *const done[] = {"defaultAction", "defaultErrnoRet",
		"flags", "listenerPath", "listenerMetadata", "architectures",
		"syscalls", NULL};
	static const char *const rule[] = {
		"names", "action", "errnoRet", "args", NULL};
	static const struct shape shape = {"linux.seccomp", done, NULL};
	static const struct shape rules = {
		"linux.seccomp.syscalls", rule, NULL};
	void *items = NULL;
	json_t *object;
	int rc = th_json_object(linux_part, "seccomp", "linux", &object, err);

	if (rc != 1)
		return rc;
	seccomp->given = true;
	if (shape_check(object, &shape, err) ||
		read_action(object, "defaultAction", shape.where,
			&seccomp->default_action, err) ||
		read_code(object, "defaultErrnoRet", shape.where,
			seccomp->default_action, &seccomp->default_code, err) ||
		read_flags(object, seccomp, err) ||
		th_json_strings(object, "architectures", shape.where,
			&seccomp->architectures, err) < 0 ||
		read_copy(object, "listenerPath", shape.where,
			&seccomp->listener_path, err) < 0 ||
		read_copy(object, "listenerMetadata", shape.where,
			&seccomp->listener_metadata, err) < 0)
		return -1;
	rc = read_items(object, "syscalls", &rules, sizeof(struct th_call_rule),
		&items, &seccomp->rule_count, read_rule, err);
	seccomp->rules = items;
	if (rc < 0)
		return -1;
	if (seccomp->listener_metadata && !seccomp->listener_path)
		return th_fail(err, TH_FAILED,
			"linux.seccomp has listenerMetadata without a "
			"listenerPath");
	if (uses_listener(seccomp) && !seccomp->listener_path)
		return th_fail(err, TH_FAILED,
			"linux.seccomp uses SCMP_ACT_NOTIFY without a "
			"listenerPath");
	return 1;
}

void th_seccomp_release(struct th_seccomp *seccomp)
{
	th_strings_release(&seccomp->architectures);
	free(seccomp->listener_path);
	free(seccomp->listener_metadata);
	for (size_t i = 0; i < seccomp->rule_count; i++)
		th_strings_release(&seccomp->rules[i].names);
	free(seccomp->rules);
	memset(seccomp, 0, sizeof(*seccomp));
}
