/* The member "process" of config.json (config.md, "Process"). */
#include <stdlib.h>
#include <string.h>

#include "oci/parts.h"

static int read_user(
	const json_t *process, struct th_process *out, struct th_error *err)
{
	static const char *const done[] = {
		"uid", "gid", "umask", "additionalGids", NULL};
	static const char *const refused[] = {"username", NULL};
	static const struct shape shape = {"process.user", done, refused};
	json_t *user, *groups, *item;
	uint32_t mask = 0;
	size_t i;
	int rc;

	rc = th_json_object(process, "user", "process", &user, err);
	if (rc != 1)
		return rc;
	if (shape_check(user, &shape, err) ||
		read_id(user, "uid", shape.where, &out->uid, err) < 0 ||
		read_id(user, "gid", shape.where, &out->gid, err) < 0)
		return -1;
	rc = read_id(user, "umask", shape.where, &mask, err);
	if (rc < 0)
		return -1;
	out->has_umask = rc == 1;
	out->umask = mask & 0777;
	rc = th_json_array(user, "additionalGids", shape.where, &groups, err);
	if (rc != 1)
		return rc;
	if (json_array_size(groups) > 65536)
		return th_fail(err, TH_FAILED, "too many additionalGids");
	out->groups = calloc(json_array_size(groups) + 1, sizeof(gid_t));
	if (!out->groups)
		return th_fail_memory(err);
	json_array_foreach(groups, i, item)
	{
		json_int_t gid = json_integer_value(item);

		if (!json_is_integer(item) || gid < 0 || gid >= UINT32_MAX)
			return th_fail(err, TH_FAILED,
				"item %zu of additionalGids is not a group ID",
				i);
		out->groups[out->group_count++] = (gid_t)gid;
	}
	return 1;
}

/* "Any value which cannot be mapped to a relevant kernel interface ... MUST be
 * logged as a warning" (config.md, "Linux Process"). */
static int warn_of_capability(
	struct th_process *out, const char *name, struct th_error *err)
{
	char *text = th_format("process.capabilities names \"%.60s\", which "
			       "this kernel does not have",
		name);

	for (size_t i = 0; text && i < out->warnings.count; i++) {
		if (strcmp(out->warnings.items[i], text) == 0) {
			free(text);
			return 0;
		}
	}
	return th_strings_take(&out->warnings, text) ? th_fail_memory(err) : 0;
}

static int read_capability_set(const json_t *object, const char *key,
	struct th_process *out, uint64_t *set, struct th_error *err)
{
	struct th_strings names = {0};
	int rc;

	rc = th_json_strings(object, key, "process.capabilities", &names, err);
	for (size_t i = 0; rc == 1 && i < names.count; i++) {
		int number = th_capability_number(names.items[i]);

		if (number < 0)
			rc = warn_of_capability(out, names.items[i], err) ? -1
									  : 1;
		else
			*set |= (uint64_t)1 << number;
	}
	th_strings_release(&names);
	return rc;
}

static int read_capabilities(
	const json_t *process, struct th_process *out, struct th_error *err)
{
	static const char *const done[] = {"bounding", "effective",
		"inheritable", "permitted", "ambient", NULL};
	static const struct shape shape = {"process.capabilities", done, NULL};
	json_t *sets;
	int rc;

	rc = th_json_object(process, "capabilities", "process", &sets, err);
	if (rc != 1)
		return rc;
	if (shape_check(sets, &shape, err) ||
		read_capability_set(
			sets, "bounding", out, &out->bounding, err) < 0 ||
		read_capability_set(
			sets, "effective", out, &out->effective, err) < 0 ||
		read_capability_set(
			sets, "inheritable", out, &out->inheritable, err) < 0 ||
		read_capability_set(
			sets, "permitted", out, &out->permitted, err) < 0 ||
		read_capability_set(sets, "ambient", out, &out->ambient, err) <
			0)
		return -1;
	return 1;
}

static int rlimit_number(const char *name)
{
	static const struct {
		const char *name;
		int number;
	} limits[] = {{"RLIMIT_AS", RLIMIT_AS}, {"RLIMIT_CORE", RLIMIT_CORE},
		{"RLIMIT_CPU", RLIMIT_CPU}, {"RLIMIT_DATA", RLIMIT_DATA},
		{"RLIMIT_FSIZE", RLIMIT_FSIZE}, {"RLIMIT_LOCKS", RLIMIT_LOCKS},
		{"RLIMIT_MEMLOCK", RLIMIT_MEMLOCK},
		{"RLIMIT_MSGQUEUE", RLIMIT_MSGQUEUE},
		{"RLIMIT_NICE", RLIMIT_NICE}, {"RLIMIT_NOFILE", RLIMIT_NOFILE},
		{"RLIMIT_NPROC", RLIMIT_NPROC}, {"RLIMIT_RSS", RLIMIT_RSS},
		{"RLIMIT_RTPRIO", RLIMIT_RTPRIO},
		{"RLIMIT_RTTIME", RLIMIT_RTTIME},
		{"RLIMIT_SIGPENDING", RLIMIT_SIGPENDING},
		{"RLIMIT_STACK", RLIMIT_STACK}};

	for (size_t i = 0; i < sizeof(limits) / sizeof(*limits); i++) {
		if (strcmp(limits[i].name, name) == 0)
			return limits[i].number;
	}
	return -1;
}

static int read_rlimits(
	const json_t *process, struct th_process *out, struct th_error *err)
{
	static const char *const done[] = {"type", "hard", "soft", NULL};
	static const struct shape shape = {"process.rlimits", done, NULL};
	json_t *array, *item;
	size_t i;
	int rc;

	rc = th_json_array(process, "rlimits", "process", &array, err);
	if (rc != 1)
		return rc;
	out->rlimits =
		calloc(json_array_size(array) + 1, sizeof(*out->rlimits));
	if (!out->rlimits)
		return th_fail_memory(err);
	json_array_foreach(array, i, item)
	{
		struct th_rlimit *limit = &out->rlimits[out->rlimit_count];
		const char *type = NULL;
		int64_t hard = 0, soft = 0;

		if (!json_is_object(item))
			return th_fail(err, TH_FAILED,
				"process.rlimits has an item that is not an "
				"object");
		if (shape_check(item, &shape, err) ||
			th_json_string(item, "type", shape.where, &type, err) <
				0 ||
			th_json_int(item, "hard", shape.where, &hard, err) <
				0 ||
			th_json_int(item, "soft", shape.where, &soft, err) < 0)
			return -1;
		limit->resource = type ? rlimit_number(type) : -1;
		if (limit->resource < 0)
			return th_fail(err, TH_FAILED,
				"process.rlimits has an unknown type \"%.60s\"",
				type ? type : "");
		for (size_t k = 0; k < out->rlimit_count; k++) {
			if (out->rlimits[k].resource == limit->resource)
				return th_fail(err, TH_FAILED,
					"process.rlimits has %s twice", type);
		}
		limit->limit.rlim_max = (rlim_t)hard;
		limit->limit.rlim_cur = (rlim_t)soft;
		out->rlimit_count++;
	}
	return 1;
}

static int read_priorities(
	const json_t *process, struct th_process *out, struct th_error *err)
{
	static const char *const done[] = {"class", "priority", NULL};
	static const char *const classes[] = {"", "IOPRIO_CLASS_RT",
		"IOPRIO_CLASS_BE", "IOPRIO_CLASS_IDLE", NULL};
	static const struct shape shape = {"process.ioPriority", done, NULL};
	const char *class = NULL;
	int64_t level = 0;
	json_t *object;
	int rc = th_json_object(process, "ioPriority", "process", &object, err);

	if (rc != 1)
		return rc;
	if (shape_check(object, &shape, err) ||
		th_json_string(object, "class", shape.where, &class, err) < 0 ||
		read_number(
			object, "priority", shape.where, 0, 7, &level, err) < 0)
		return -1;
	out->io_class = word_index(class, classes);
	out->io_level = (int)level;
	if (out->io_class < 1)
		return th_fail(err, TH_FAILED,
			"process.ioPriority has the unknown class \"%.40s\"",
			class ? class : "");
	return 1;
}

static int read_scheduler_flags(
	const json_t *object, struct th_scheduler *out, struct th_error *err)
{
	static const char *const words[] = {"SCHED_FLAG_RESET_ON_FORK",
		"SCHED_FLAG_RECLAIM", "SCHED_FLAG_DL_OVERRUN",
		"SCHED_FLAG_KEEP_POLICY", "SCHED_FLAG_KEEP_PARAMS",
		"SCHED_FLAG_UTIL_CLAMP_MIN", "SCHED_FLAG_UTIL_CLAMP_MAX", NULL};
	struct th_strings flags = {0};
	int rc = th_json_strings(
		object, "flags", "process.scheduler", &flags, err);

	for (size_t i = 0; rc == 1 && i < flags.count; i++) {
		int bit = word_index(flags.items[i], words);

		if (bit < 0)
			rc = th_fail(err, TH_FAILED,
				"process.scheduler has the unknown flag "
				"\"%.60s\"",
				flags.items[i]);
		else
			out->flags |= (uint64_t)1 << bit;
	}
	th_strings_release(&flags);
	return rc;
}

static int read_scheduler(
	const json_t *process, struct th_process *out, struct th_error *err)
{
	static const char *const done[] = {"policy", "nice", "priority",
		"flags", "runtime", "deadline", "period", NULL};
	/* In the order of the kernel's numbers. */
	static const char *const policies[] = {"SCHED_OTHER", "SCHED_FIFO",
		"SCHED_RR", "SCHED_BATCH", "SCHED_ISO", "SCHED_IDLE",
		"SCHED_DEADLINE", NULL};
	static const struct shape shape = {"process.scheduler", done, NULL};
	struct th_scheduler *scheduler = &out->scheduler;
	int64_t runtime = 0, deadline = 0, period = 0;
	const char *policy = NULL;
	json_t *object;
	int rc = th_json_object(process, "scheduler", "process", &object, err);

	if (rc != 1)
		return rc;
	if (shape_check(object, &shape, err) ||
		th_json_string(object, "policy", shape.where, &policy, err) <
			0 ||
		read_number(object, "nice", shape.where, -20, 19,
			&scheduler->nice, err) < 0 ||
		read_number(object, "priority", shape.where, 0, 99,
			&scheduler->priority, err) < 0 ||
		read_scheduler_flags(object, scheduler, err) < 0 ||
		th_json_int(object, "runtime", shape.where, &runtime, err) <
			0 ||
		th_json_int(object, "deadline", shape.where, &deadline, err) <
			0 ||
		th_json_int(object, "period", shape.where, &period, err) < 0)
		return -1;
	scheduler->policy = word_index(policy, policies);
	if (scheduler->policy < 0)
		return th_fail(err, TH_FAILED,
			"process.scheduler has the unknown policy \"%.40s\"",
			policy ? policy : "");
	scheduler->given = true;
	scheduler->runtime = (uint64_t)runtime;
	scheduler->deadline = (uint64_t)deadline;
	scheduler->period = (uint64_t)period;
	return 1;
}

static int read_console_size(
	const json_t *process, struct th_process *out, struct th_error *err)
{
	static const char *const done[] = {"height", "width", NULL};
	static const struct shape shape = {"process.consoleSize", done, NULL};
	int64_t rows = 0, columns = 0;
	json_t *object;
	int rc =
		th_json_object(process, "consoleSize", "process", &object, err);

	if (rc != 1)
		return rc;
	if (shape_check(object, &shape, err) ||
		read_number(object, "height", shape.where, 0, 65535, &rows,
			err) < 0 ||
		read_number(object, "width", shape.where, 0, 65535, &columns,
			err) < 0)
		return -1;
	out->rows = (uint16_t)rows;
	out->columns = (uint16_t)columns;
	return 1;
}

static int read_command(
	const json_t *process, struct th_process *out, struct th_error *err)
{
	if (th_json_bool(process, "terminal", "process", &out->terminal, err) <
			0 ||
		th_json_strings(process, "args", "process", &out->args, err) <
			0 ||
		th_json_strings(process, "env", "process", &out->env, err) <
			0 ||
		read_copy(process, "cwd", "process", &out->cwd, err) < 0 ||
		read_copy(process, "apparmorProfile", "process", &out->apparmor,
			err) < 0 ||
		read_copy(process, "selinuxLabel", "process", &out->selinux,
			err) < 0)
		return -1;
	if (out->args.count == 0)
		return th_fail(err, TH_FAILED, "process.args is empty");
	if (!out->cwd || out->cwd[0] != '/')
		return th_fail(
			err, TH_FAILED, "process.cwd is not an absolute path");
	return 0;
}

static bool is_cpu_list(const char *text)
{
	return strspn(text, "0123456789,- \t") == strlen(text);
}

/* "Not applicable to the container's init process" (config.md): for those that
 * join later, which this program's "oci" does not start. It must be right all
 * the same. */
static int check_affinity(const json_t *process, struct th_error *err)
{
	static const char where[] = "process.execCPUAffinity";
	const char *initial = "", *final = "";
	json_t *object;
	int rc = th_json_object(
		process, "execCPUAffinity", "process", &object, err);

	if (rc != 1)
		return rc;
	if (th_json_string(object, "initial", where, &initial, err) < 0 ||
		th_json_string(object, "final", where, &final, err) < 0)
		return -1;
	if (is_cpu_list(initial ? initial : "") &&
		is_cpu_list(final ? final : ""))
		return 1;
	return th_fail(err, TH_FAILED, "%s is not a list of CPUs", where);
}

/* A label that is empty is none. */
static void drop_empty(char **text)
{
	if (*text && !**text) {
		free(*text);
		*text = NULL;
	}
}

int read_process(
	const json_t *doc, struct th_process *out, struct th_error *err)
{
	static const char *const done[] = {"terminal", "consoleSize", "user",
		"args", "env", "cwd", "capabilities", "noNewPrivileges",
		"rlimits", "oomScoreAdj", "apparmorProfile", "selinuxLabel",
		"ioPriority", "scheduler", NULL};
	static const struct shape shape = {"process", done, NULL};
	json_t *process;
	int64_t score = 0;
	int rc;

	rc = th_json_object(doc, "process", "config.json", &process, err);
	if (rc < 0)
		return -1;
	/* "REQUIRED when start is called" (config.md, "Process"). */
	if (rc == 0) {
		out->missing = true;
		out->cwd = strdup("/");
		return out->cwd ? 0 : th_fail_memory(err);
	}
	if (shape_check(process, &shape, err) ||
		read_command(process, out, err) ||
		th_json_bool(process, "noNewPrivileges", "process",
			&out->no_new_privileges, err) < 0 ||
		read_console_size(process, out, err) < 0 ||
		read_user(process, out, err) < 0 ||
		read_capabilities(process, out, err) < 0 ||
		read_rlimits(process, out, err) < 0 ||
		read_priorities(process, out, err) < 0 ||
		read_scheduler(process, out, err) < 0 ||
		check_affinity(process, err) < 0)
		return -1;
	drop_empty(&out->apparmor);
	drop_empty(&out->selinux);
	rc = read_number(
		process, "oomScoreAdj", "process", -1000, 1000, &score, err);
	out->has_oom_score = rc == 1;
	out->oom_score_adj = (int)score;
	return rc < 0 ? -1 : 0;
}

void process_release(struct th_process *process)
{
	free(process->groups);
	free(process->rlimits);
	free(process->cwd);
	free(process->apparmor);
	free(process->selinux);
	th_strings_release(&process->args);
	th_strings_release(&process->env);
	th_strings_release(&process->warnings);
}
