/* The start of the container's program, and why it fails. */
#include <elf.h>
#include <endian.h>
#include <errno.h>
#include <fcntl.h>
#include <linux/capability.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "base/architecture.h"
#include "base/libc.h"
#include "sandbox/inside.h"

static const char *search_path(const struct th_process *process)
{
	for (size_t i = 0; i < process->env.count; i++) {
		if (strncmp(process->env.items[i], "PATH=", 5) == 0)
			return process->env.items[i] + 5;
	}
	return "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
}

/* The architectures that images are made for (elf(5), e_machine). */
static const char *machine_name(unsigned int machine)
{
	switch (machine) {
	case EM_X86_64:
		return "x86-64";
	case EM_386:
		return "32-bit x86";
	case EM_AARCH64:
		return "64-bit ARM";
	case EM_ARM:
		return "32-bit ARM";
	case EM_PPC64:
		return "64-bit POWER";
	case EM_S390:
		return "S/390";
	case EM_RISCV:
		return "RISC-V";
	case EM_MIPS:
		return "MIPS";
	default:
		return "another architecture";
	}
}

/* The beginning of the program's file. */
static ssize_t read_head(const char *path, unsigned char *head, size_t size)
{
	int fd = open(path, O_RDONLY | O_NONBLOCK | O_CLOEXEC);
	ssize_t got = fd < 0 ? -1 : read(fd, head, size);

	if (fd >= 0)
		close(fd);
	return got;
}

/* What the program names as its interpreter or loader; "" where that is not
 * found out. */
static void find_interpreter(const char *path, char name[256])
{
	union {
		unsigned char bytes[4096];
		Elf64_Ehdr header;
	} head;
	ssize_t got = read_head(path, head.bytes, sizeof(head.bytes));
	Elf64_Phdr part;

	name[0] = '\0';
	if (got > 2 && head.bytes[0] == '#' && head.bytes[1] == '!') {
		const char *at = (const char *)head.bytes + 2;
		size_t len = 0;

		while (at < (const char *)head.bytes + got && *at == ' ')
			at++;
		while (at + len < (const char *)head.bytes + got &&
			!strchr(" \t\r\n", at[len]))
			len++;
		snprintf(name, 256, "%.*s", (int)(len < 255 ? len : 255), at);
		return;
	}
	if (got < (ssize_t)sizeof(head.header) ||
		memcmp(head.bytes, ELFMAG, SELFMAG) != 0 ||
		head.bytes[EI_CLASS] != ELFCLASS64)
		return;
	for (unsigned int i = 0; i < head.header.e_phnum; i++) {
		size_t at = head.header.e_phoff + i * sizeof(part);

		if (at > (size_t)got || at + sizeof(part) > (size_t)got)
			return;
		memcpy(&part, head.bytes + at, sizeof(part));
		if (part.p_type != PT_INTERP || part.p_offset > (size_t)got ||
			part.p_filesz > (size_t)got - part.p_offset)
			continue;
		snprintf(name, 256, "%.*s",
			(int)(part.p_filesz < 255 ? part.p_filesz : 255),
			(const char *)head.bytes + part.p_offset);
		return;
	}
}

static int say_format(const char *path, struct th_error *err)
{
	unsigned char head[20];
	ssize_t got = read_head(path, head, sizeof(head));
	unsigned int machine;

	if (got < (ssize_t)sizeof(head) || memcmp(head, ELFMAG, SELFMAG) != 0) {
		th_fail(err, TH_NO_EXEC,
			"%.200s is neither a program for this machine nor a "
			"script that names its interpreter",
			path);
		return th_trouble(err, TH_TROUBLE_ARCHITECTURE);
	}
	machine = head[EI_DATA] == ELFDATA2MSB
		? (unsigned int)head[18] << 8 | head[19]
		: (unsigned int)head[19] << 8 | head[18];
	th_fail(err, TH_NO_EXEC,
		"%.200s is a program for %s, but this machine is %s", path,
		machine_name(machine), machine_name(TH_ELF_MACHINE));
	return th_trouble(err, TH_TROUBLE_ARCHITECTURE);
}

/* A file may have capabilities that it must get in full (capabilities(7), "File
 * capabilities"): the kernel executes it in no other way. */
static uint64_t wanted_capabilities(const char *path)
{
	struct vfs_ns_cap_data data;
	ssize_t len =
		getxattr(path, "security.capability", &data, sizeof(data));

	if (len < (ssize_t)XATTR_CAPS_SZ_2 ||
		!(le32toh(data.magic_etc) & VFS_CAP_FLAGS_EFFECTIVE))
		return 0;
	return le32toh(data.data[0].permitted) |
		(uint64_t)le32toh(data.data[1].permitted) << 32;
}

static int say_capabilities(const struct th_process *process, const char *path,
	struct th_error *err)
{
	uint64_t lacking = wanted_capabilities(path) & ~process->bounding;
	char names[200] = "", options[200] = "";

	for (int i = 0; th_capability_name(i); i++) {
		size_t used = strlen(names), given = strlen(options);

		if (!(lacking & (uint64_t)1 << i))
			continue;
		snprintf(names + used, sizeof(names) - used, "%s%s",
			used ? ", " : "", th_capability_name(i));
		snprintf(options + given, sizeof(options) - given,
			" --capability +%s", th_capability_name(i) + 4);
	}
	if (!*names)
		return 0;
	th_fail(err, TH_NO_EXEC,
		"the file %.200s needs %s, which the container does not have",
		path, names);
	return th_hint(err, "recreate the container with%s", options);
}

/* Words that only a shell knows (POSIX, "Special Built-In Utilities"). */
static bool is_shell_word(const char *program)
{
	static const char *const words[] = {"cd", "export", "source", "alias",
		"exit", "set", "unset", "umask", "ulimit", "."};

	for (size_t i = 0; i < sizeof(words) / sizeof(*words); i++) {
		if (strcmp(program, words[i]) == 0)
			return true;
	}
	return false;
}

static int say_in_words(const struct th_process *process, const char *program,
	const char *path, int sys, struct th_error *err)
{
	char name[256];
	struct stat st;

	if (sys == ENOENT && path && stat(path, &st) == 0) {
		find_interpreter(path, name);
		th_fail(err, TH_NO_EXEC,
			"the program %s exists, but the interpreter or loader "
			"that it needs does not%s%s",
			path, *name ? ": " : "", name);
		th_trouble(err, TH_TROUBLE_INTERPRETER);
		return th_hint(err,
			"the image needs that file, too, or the program must "
			"be statically linked");
	}
	if (sys == ENOENT || sys == ENOTDIR) {
		th_fail(err, TH_NO_PROGRAM,
			"the container does not have a program \"%.200s\"",
			program);
		th_trouble(err, TH_TROUBLE_NO_PROGRAM);
		if (strchr(program, ' '))
			return th_hint(err,
				"words of a command stand apart: -- %.100s; a "
				"line of a shell: -- sh -c '%.100s'",
				program, program);
		if (is_shell_word(program))
			return th_hint(err,
				"it is a word of the shell: -- sh -c '%s ...'; "
				"a folder to begin in: --workdir DIR",
				program);
		return th_hint(err, "the program's name comes right after --");
	}
	if (sys == ENOEXEC)
		return say_format(path, err);
	if (sys == EPERM && path && say_capabilities(process, path, err))
		return -1;
	if (sys == EACCES && path && stat(path, &st) == 0 &&
		S_ISREG(st.st_mode) && !(st.st_mode & 0111)) {
		th_fail(err, TH_NO_EXEC,
			"the program %.200s is not executable (mode %04o)",
			path, (unsigned int)st.st_mode & 07777);
		return th_hint(err, "run chmod +x where the image is built");
	}
	if (sys == EACCES && path && stat(path, &st) == 0 &&
		S_ISDIR(st.st_mode))
		return th_fail(err, TH_NO_EXEC,
			"%.200s is a folder, not a program", path);
	return th_fail_sys(err, TH_NO_EXEC, sys,
		"cannot execute the program %.200s", path ? path : program);
}

static int say_why(const struct th_process *process, const char *program,
	const char *path, int sys, struct th_error *err)
{
	say_in_words(process, program, path, sys, err);
	return th_trouble(err, TH_TROUBLE_NOT_EXECUTABLE);
}

/* As execvp, but with the PATH of the new environment, and remembering what
 * was found. */
int th_inside_exec(const struct th_process *process, struct th_error *err)
{
	const char *program = process->args.items[0];
	const char *at = search_path(process);
	static char *const no_env[] = {NULL};
	char *const *env = process->env.items ? process->env.items : no_env;
	char found[4096] = "", path[4096];
	int sys = ENOENT;

	if (strchr(program, '/')) {
		execve(program, process->args.items, env);
		return say_why(process, program, program, errno, err);
	}
	while (*program && *at) {
		size_t len = strcspn(at, ":");

		snprintf(path, sizeof(path), "%.*s/%s", len ? (int)len : 1,
			len ? at : ".", program);
		execve(path, process->args.items, env);
		if (!found[0] && errno != ENOENT && errno != ENOTDIR) {
			sys = errno;
			snprintf(found, sizeof(found), "%s", path);
		} else if (!found[0] && access(path, F_OK) == 0) {
			snprintf(found, sizeof(found), "%s", path);
		}
		at += len + (at[len] == ':');
	}
	return say_why(process, program, found[0] ? found : NULL, sys, err);
}

int th_inside_exec_given(
	const struct th_process *process, int program, struct th_error *err)
{
	static char *const no_env[] = {NULL};
	char *const *env = process->env.items ? process->env.items : no_env;

	execveat(program, "", process->args.items, env, AT_EMPTY_PATH);
	th_fail_sys(err, TH_NO_EXEC, errno, "cannot execute the program %.200s",
		process->args.items[0]);
	return th_trouble(err, TH_TROUBLE_NOT_EXECUTABLE);
}
