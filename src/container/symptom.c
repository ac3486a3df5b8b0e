/* What the end of a program tells to those who have seen many. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/path.h"
#include "container/why.h"
#include "sandbox/idmap.h"

static void say(struct th_strings *list, char *text)
{
	/* Without memory a sentence is missing, no more. */
	th_strings_take(list, text);
}

static void set_kind(struct th_why *why, const char *kind)
{
	snprintf(why->kind, sizeof(why->kind), "%s", kind);
}

/* The last line that holds one of the texts, or NULL. */
static const char *find_line(const struct th_case *of, const char *const *texts)
{
	for (size_t i = of->line_count; i > 0; i--) {
		for (size_t t = 0; texts[t]; t++) {
			if (strcasestr(of->lines[i - 1].text, texts[t]))
				return of->lines[i - 1].text;
		}
	}
	return NULL;
}

/* "error while loading shared libraries: libtide.so.2: cannot open ..." */
static bool missing_library(const struct th_case *of, struct th_why *why)
{
	static const char *const texts[] = {
		"error while loading shared libraries: ",
		"Error loading shared library ", NULL};
	const char *line = find_line(of, texts), *name;

	if (!line)
		return false;
	name = strstr(line, "librar");
	name = strchr(name, ' ') + 1;
	if (!*name)
		return false;
	set_kind(why, "library-missing");
	say(&why->sentences,
		th_format("the program needs the library %.*s, which the image "
			  "does not have",
			(int)strcspn(name, ": "), name));
	say(&why->advice,
		th_format("use an image with that library, or a statically "
			  "linked program"));
	return true;
}

static bool too_many_processes(const struct th_case *of, struct th_why *why)
{
	static const char *const texts[] = {"can't fork", "cannot fork",
		"fork: retry", "fork failed", "cannot create thread",
		"unable to create thread", "can't start new thread",
		"pthread_create failed", NULL};

	if (!find_line(of, texts))
		return false;
	set_kind(why, "processes-refused");
	say(&why->sentences,
		th_format("the kernel refused it a new process or thread: the "
			  "limit of processes is reached, or memory is short"));
	say(&why->advice,
		th_format("tidyhull timeline %s tells if it was the limit; a "
			  "higher one: tidyhull adjust --limit "
			  "processes=20000 %s",
			of->row->name, of->row->name));
	return true;
}

static bool port_taken(const struct th_case *of, struct th_why *why)
{
	static const char *const texts[] = {"address already in use",
		"address in use", "EADDRINUSE", "cannot bind", "could not bind",
		"bind failed", NULL};

	if (!find_line(of, texts))
		return false;
	set_kind(why, "port-taken-inside");
	say(&why->sentences,
		th_format("the port that the program wants to listen on is "
			  "taken %s",
			of->host_network
				? "on this host, whose network it shares"
				: "inside the container, by another program "
				  "in it"));
	say(&why->advice,
		of->host_network
			? th_format(
				  "without --network host it has its own ports")
			: th_format("check what it starts twice; --port is not "
				    "involved"));
	return true;
}

/* The mount in whose target a path of the line lies: its whole text. */
static const char *mount_of_line(const struct th_case *of, const char *line)
{
	for (size_t i = 0; of->mounts && i < of->mounts->count; i++) {
		const char *mount = of->mounts->items[i];
		size_t len = strcspn(mount, "=");
		char target[512];
		const char *at;

		if (len >= sizeof(target))
			continue;
		snprintf(target, sizeof(target), "%.*s", (int)len, mount);
		at = strstr(line, target);
		if (at && (strchr("/ '\":;,)\t", at[len]) || !at[len]))
			return mount;
	}
	return NULL;
}

/* What programs say that are missing a capability; the first that fits. */
static const char *capability_of(const char *line)
{
	static const struct {
		const char *words, *capability;
	} all[] = {{"RTNETLINK", "NET_ADMIN"}, {"iptables", "NET_ADMIN"},
		{"raw socket", "NET_RAW"}, {"ping:", "NET_RAW"},
		{"mount", "SYS_ADMIN"}, {"chown", "CHOWN"}, {"chmod", "FOWNER"},
		{"mknod", "MKNOD"}, {"chroot", "SYS_CHROOT"},
		{"setuid", "SETUID"}, {"setgid", "SETGID"},
		{"setgroups", "SETGID"}, {"settimeofday", "SYS_TIME"},
		{"set date", "SYS_TIME"}, {"setpriority", "SYS_NICE"},
		{"nice:", "SYS_NICE"}, {"ptrace", "SYS_PTRACE"},
		{"bind", "NET_BIND_SERVICE"}};

	for (size_t i = 0; i < sizeof(all) / sizeof(*all); i++) {
		if (strcasestr(line, all[i].words))
			return all[i].capability;
	}
	return NULL;
}

static bool mount_refused(const struct th_case *of, struct th_why *why)
{
	static const char *const denied[] = {"permission denied", "EACCES",
		"operation not permitted", "read-only file system", "EROFS",
		NULL};
	const char *line = find_line(of, denied), *mount, *source;
	char path[1024];
	struct stat st;
	bool readonly;

	if (!line)
		return false;
	mount = mount_of_line(of, line);
	if (!mount) {
		set_kind(why, "permission");
		say(&why->sentences,
			th_format("the program, which ran as user %u, was "
				  "denied something",
				of->uid));
		if (capability_of(line))
			say(&why->advice,
				th_format("if it needs the capability %s: "
					  "tidyhull recreate %s --capability "
					  "+%s",
					capability_of(line), of->row->name,
					capability_of(line)));
		return true;
	}
	source = strchr(mount, '=') + 1;
	snprintf(path, sizeof(path), "%.*s", (int)strcspn(source, ","), source);
	readonly = strstr(source, ",ro") != NULL;
	set_kind(why, "mount-permission");
	if (readonly) {
		say(&why->sentences,
			th_format("the mount %.*s is read-only (,ro), but the "
				  "program tried to write to it",
				(int)strcspn(mount, "="), mount));
		say(&why->advice,
			th_format("leave out \",ro\" if it may write"));
	} else if (stat(path, &st) == 0) {
		say(&why->sentences,
			th_format("the mount %.*s is %s outside, which belongs "
				  "to user %u (mode %04o), and the program ran "
				  "as user %u",
				(int)strcspn(mount, "="), mount, path,
				(unsigned int)st.st_uid,
				(unsigned int)st.st_mode & 07777, of->uid));
		say(&why->advice,
			th_format("change the folder's owner: chown %u %s; or "
				  "run as its owner: --user %u",
				of->uid, path, (unsigned int)st.st_uid));
		if (geteuid() == 0 && !th_idmap_is_own())
			say(&why->advice,
				th_format("or let its files appear to be the "
					  "program's: --mount %.*s=%s,map=me",
					(int)strcspn(mount, "="), mount, path));
	} else {
		say(&why->sentences,
			th_format("the mount %.*s is %s outside, which no "
				  "longer exists",
				(int)strcspn(mount, "="), mount, path));
	}
	return true;
}

static bool is_shell(const char *program)
{
	static const char *const shells[] = {
		"sh", "bash", "ash", "dash", "zsh", "busybox", NULL};
	const char *name = th_path_last(program);

	for (size_t i = 0; shells[i]; i++) {
		if (strcmp(name, shells[i]) == 0)
			return true;
	}
	return false;
}

/* A shell that has nothing to read ends at once, and well. */
static bool idle_shell(const struct th_case *of, struct th_why *why)
{
	const struct th_container_row *row = of->row;

	if (row->outcome != TH_OUTCOME_EXITED || row->code || of->terminal ||
		of->arg_count > 1 || !is_shell(of->program) ||
		row->ended_us - row->started_us > 5000000)
		return false;
	set_kind(why, "shell-without-terminal");
	say(&why->sentences,
		th_format("a shell without a terminal or input has nothing to "
			  "do and ends at once"));
	say(&why->advice,
		th_format("for a shell of your own: tidyhull run %s; in the "
			  "background with a terminal: launch --tty yes, and "
			  "attach",
			row->image_name));
	return true;
}

static bool shell_code(const struct th_case *of, struct th_why *why)
{
	int code = of->row->code;

	if (of->row->outcome != TH_OUTCOME_EXITED ||
		(code != 126 && code != 127))
		return false;
	set_kind(why, code == 127 ? "not-found-by-shell" : "not-run-by-shell");
	say(&why->sentences,
		th_format("%d is the exit code of a shell that cannot %s a "
			  "program",
			code, code == 127 ? "find" : "execute"));
	return true;
}

static bool used_up(const struct th_case *of, struct th_why *why)
{
	if (of->row->outcome != TH_OUTCOME_OUT_OF_MEMORY)
		return false;
	set_kind(why, "out-of-memory");
	if (*of->limit)
		say(&why->sentences, th_format("its limits are %s", of->limit));
	say(&why->advice,
		th_format("give it more memory: tidyhull adjust %s --limit "
			  "memory=SIZE",
			of->row->name));
	return true;
}

static bool crashed(const struct th_case *of, struct th_why *why)
{
	int code = of->row->code;

	if (of->row->outcome != TH_OUTCOME_SIGNAL ||
		(code != 4 && code != 6 && code != 7 && code != 8 &&
			code != 11))
		return false;
	set_kind(why, "crashed");
	say(&why->sentences,
		th_format("this is a fault in the program itself: %s",
			code == 6 ? "it gave up (abort)"
				  : "it made an invalid memory access or "
				    "instruction"));
	return true;
}

void th_symptom_find(const struct th_case *of, struct th_why *why)
{
	/* An orderly end needs no explanation from what was written before. */
	bool well = of->row->outcome == TH_OUTCOME_EXITED && !of->row->code;

	if (used_up(of, why) || idle_shell(of, why) || crashed(of, why) || well)
		return;
	if (of->row->outcome != TH_OUTCOME_EXITED)
		return;
	if (missing_library(of, why) || too_many_processes(of, why) ||
		port_taken(of, why) || mount_refused(of, why) ||
		shell_code(of, why))
		return;
}
