#include "e2e/harness.h"

#include <arpa/inet.h>
#include <errno.h>
#include <fcntl.h>
#include <grp.h>
#include <poll.h>
#include <pty.h>
#include <signal.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#include "base/clock.h"
#include "base/file.h"
#include "e2e/shapes.h"

#define WORDS_MAX 64
#define PATIENCE_MS 15000
#define COMMAND_MS 60000

char world_folder[128], world_store[160], world_build[512];
int world_registry_port;
uid_t world_user;
char world_group[200];

static struct result result;

bool has_code(const struct result *of, int code)
{
	if (of->code == code)
		return true;
	printf("\n    wanted: code %d\n    is: %d\n    out: %.1500s\n    err: "
	       "%.1500s\n",
		code, of->code, of->out, of->err);
	return false;
}

bool says(const char *text, const char *part)
{
	if (!text)
		text = "(nothing)";
	if (strstr(text, part))
		return true;
	printf("\n    wanted: %s\n    in: %s\n", part, text);
	return false;
}

/* Cuts a line into words, in place. */
static int cut(char *line, char **words)
{
	int count = 0;

	while (*line && count < WORDS_MAX) {
		char end = ' ';

		while (*line == ' ')
			line++;
		if (!*line)
			break;
		if (*line == '\'') {
			end = '\'';
			line++;
		}
		words[count++] = line;
		while (*line && *line != end)
			line++;
		if (*line)
			*line++ = '\0';
	}
	words[count] = NULL;
	return count;
}

/* Where an administrator would have put the user's session. */
static void join_group(void)
{
	char path[240], text[16];
	int fd, len = snprintf(text, sizeof(text), "%d", (int)getpid());

	snprintf(path, sizeof(path), "%s/cgroup.procs", world_group);
	fd = open(path, O_WRONLY | O_CLOEXEC);
	if (fd >= 0 && write(fd, text, (size_t)len) == len) {
		close(fd);
		return;
	}
	close(fd);
	/* What was started there before has made room by going aside, and so
	 * would the session that starts all of them. */
	snprintf(path, sizeof(path), "%s/tidyhull-outside/cgroup.procs",
		world_group);
	fd = open(path, O_WRONLY | O_CLOEXEC);
	if (fd < 0 || write(fd, text, (size_t)len) != len)
		_exit(98);
	close(fd);
}

static void become(const char *program, char **words, uid_t uid)
{
	char config[200];

	snprintf(config, sizeof(config), "%s/config.yaml", world_folder);
	setenv("TIDYHULL_ROOT", world_store, 1);
	setenv("TIDYHULL_CONFIG", config, 1);
	setenv("HOME", world_folder, 1);
	setenv("LC_ALL",
		getenv("HULL_LOCALE") ? getenv("HULL_LOCALE") : "C.UTF-8", 1);
	unsetenv("NO_COLOR");
	if (uid && uid == world_user && world_group[0])
		join_group();
	if (chdir(world_folder) ||
		(uid && (setgroups(0, NULL) || setgid(uid) || setuid(uid))))
		_exit(99);
	signal(SIGPIPE, SIG_DFL);
	/* A caller as awkward as they come, in one of the two runs: none of it
	 * may have any effect. */
	if (world_user && strstr(program, "/tidyhull")) {
		umask(077);
		signal(SIGCHLD, SIG_IGN);
	}
	execvp(program, words);
	fprintf(stderr, "cannot start %s: %s\n", program, strerror(errno));
	_exit(99);
}

static pid_t start(
	const char *program, char **words, uid_t uid, int in, int out, int err)
{
	pid_t pid;

	fflush(NULL);
	pid = fork();
	if (pid == 0) {
		dup2(in, 0);
		dup2(out, 1);
		dup2(err, 2);
		become(program, words, uid);
	}
	return pid;
}

int wait_for(pid_t pid)
{
	int status = 0;

	while (waitpid(pid, &status, 0) < 0 && errno == EINTR)
		;
	return WIFSIGNALED(status) ? 128 + WTERMSIG(status)
				   : WEXITSTATUS(status);
}

/* Reads both streams until they end, writing the input meanwhile. */
static void pump(int in, const char *input, size_t input_len, int out, int err,
	pid_t pid)
{
	struct pollfd set[3] = {{.fd = out, .events = POLLIN},
		{.fd = err, .events = POLLIN}, {.fd = in, .events = POLLOUT}};
	char *to[2] = {result.out, result.err};
	size_t used[2] = {0, 0};
	int64_t until = th_clock_mono_ms() + COMMAND_MS;

	while (set[0].fd >= 0 || set[1].fd >= 0) {
		if (set[2].fd >= 0 && input_len == 0) {
			close(set[2].fd);
			set[2].fd = -1;
		}
		poll(set, 3, 200);
		if (th_clock_mono_ms() > until) {
			CU_FAIL("a command does not end");
			kill(pid, SIGKILL);
			break;
		}
		for (int i = 0; i < 2; i++) {
			ssize_t got;

			if (set[i].fd < 0 || !set[i].revents)
				continue;
			got = read(set[i].fd, to[i] + used[i],
				OUTPUT_BYTES - 1 - used[i]);
			if (got <= 0)
				set[i].fd = -1;
			else
				used[i] += (size_t)got;
		}
		if (set[2].fd >= 0 && set[2].revents) {
			ssize_t put = write(set[2].fd, input, input_len);

			if (put < 0)
				input_len = 0;
			else {
				input += put;
				input_len -= (size_t)put;
			}
		}
	}
	if (set[2].fd >= 0)
		close(set[2].fd);
	result.out[used[0]] = '\0';
	result.err[used[1]] = '\0';
}

static struct result *run(const char *program, uid_t uid, const char *input,
	size_t input_len, const char *line)
{
	char copy[4096], *words[WORDS_MAX + 1];
	int in[2], out[2], err[2];
	pid_t pid;

	snprintf(copy, sizeof(copy), "%s %s", program ? "tidyhull" : "", line);
	cut(copy, words);
	if (pipe2(in, O_CLOEXEC) || pipe2(out, O_CLOEXEC) ||
		pipe2(err, O_CLOEXEC))
		abort();
	pid = start(program ? program : words[0], words, uid, in[0], out[1],
		err[1]);
	close(in[0]);
	close(out[1]);
	close(err[1]);
	pump(in[1], input, input_len, out[0], err[0], pid);
	close(out[0]);
	close(err[0]);
	result.code = wait_for(pid);
	if (program)
		shapes_keep(words, result.out, result.err);
	return &result;
}

static const char *program(void)
{
	static char path[600];

	snprintf(path, sizeof(path), "%s/tidyhull", world_build);
	return path;
}

#define FORMAT_LINE(line)                                                      \
	char text[4000];                                                       \
	va_list args;                                                          \
	va_start(args, line);                                                  \
	vsnprintf(text, sizeof(text), line, args);                             \
	va_end(args)

struct result *hull(const char *line, ...)
{
	FORMAT_LINE(line);
	return run(program(), world_user, "", 0, text);
}

struct result *hull_input(const char *input, size_t len, const char *line, ...)
{
	FORMAT_LINE(line);
	return run(program(), world_user, input, len, text);
}

struct result *by_shell(const char *line)
{
	char text[1200];

	snprintf(text, sizeof(text),
		"PATH=%s:$PATH\nTIDYHULL_ROOT=%s\nexport PATH TIDYHULL_ROOT\n"
		"%s\n",
		world_build, world_store, line);
	put_file("line", text);
	return other("sh line");
}

struct result *hull_as_user(const char *line)
{
	return run(program(), 65534, "", 0, line);
}

struct result *other(const char *line, ...)
{
	FORMAT_LINE(line);
	return run(NULL, world_user, "", 0, text);
}

struct result *as_root(const char *line, ...)
{
	FORMAT_LINE(line);
	return run(NULL, 0, "", 0, text);
}

static pid_t start_line(const char *name, const char *output, char *line)
{
	char path[300], *words[WORDS_MAX + 1];
	int in, out;
	pid_t pid;

	cut(line, words);
	snprintf(path, sizeof(path), "%s/%s", world_folder, output);
	in = open("/dev/null", O_RDONLY | O_CLOEXEC);
	out = open(path, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
	pid = start(name ? name : words[0], words, world_user, in, out, out);
	close(in);
	close(out);
	return pid;
}

pid_t hull_start(const char *output, const char *line, ...)
{
	char copy[4100];
	FORMAT_LINE(line);

	snprintf(copy, sizeof(copy), "tidyhull %s", text);
	return start_line(program(), output, copy);
}

bool hull_step(const struct step *step, int *code, const char *line, ...)
{
	char copy[4100], path[300], *words[WORDS_MAX + 1], byte;
	int go[2], out;
	bool hit = false;
	pid_t pid;
	FORMAT_LINE(line);

	snprintf(copy, sizeof(copy), "tidyhull %s", text);
	cut(copy, words);
	snprintf(path, sizeof(path), "%s/out", world_folder);
	out = open(path, O_RDWR | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
	if (out < 0 || pipe2(go, O_CLOEXEC))
		abort();
	fflush(NULL);
	pid = fork();
	if (pid == 0) {
		close(go[1]);
		if (read(go[0], &byte, 1) != 0)
			_exit(97);
		dup2(open("/dev/null", O_RDONLY | O_CLOEXEC), 0);
		dup2(out, 1);
		dup2(out, 2);
		become(program(), words, world_user);
	}
	close(go[0]);
	close(out);
	*code = step_through(pid, go[1], step, &hit);
	return hit;
}

/* What came behind the text that was waited for is there for the next wait. */
static char unseen[OUTPUT_BYTES];
static int unseen_of = -1;

pid_t hull_terminal(int *master, const char *line, ...)
{
	const struct winsize size = {.ws_row = 24, .ws_col = 80};
	char copy[4100], *words[WORDS_MAX + 1];
	pid_t pid;
	FORMAT_LINE(line);

	unseen_of = -1;
	snprintf(copy, sizeof(copy), "tidyhull %s", text);
	cut(copy, words);
	fflush(NULL);
	pid = forkpty(master, NULL, NULL, &size);
	if (pid == 0)
		become(program(), words, world_user);
	fcntl(*master, F_SETFD, FD_CLOEXEC);
	return pid;
}

bool screen_until(int master, char *screen, const char *text)
{
	struct pollfd one = {.fd = master, .events = POLLIN};
	int64_t until = th_clock_mono_ms() + 15000;
	size_t used = 0;
	char *found;

	screen[0] = '\0';
	if (unseen_of == master)
		used = (size_t)snprintf(screen, OUTPUT_BYTES, "%s", unseen);
	unseen_of = -1;
	while (!strstr(screen, text) && th_clock_mono_ms() < until &&
		used + 1 < OUTPUT_BYTES) {
		ssize_t got;

		if (poll(&one, 1, 200) <= 0)
			continue;
		got = read(master, screen + used, OUTPUT_BYTES - 1 - used);
		if (got <= 0)
			break;
		used += (size_t)got;
		screen[used] = '\0';
	}
	found = strstr(screen, text);
	if (found) {
		snprintf(unseen, sizeof(unseen), "%s", found + strlen(text));
		unseen_of = master;
		return true;
	}
	printf("\n    \"%s\" does not come; there is: %s\n", text, screen);
	return false;
}

void type_keys(int master, const char *keys)
{
	if (write(master, keys, strlen(keys)) < 0)
		CU_FAIL("nothing can be typed");
}

pid_t other_start(const char *output, const char *line, ...)
{
	FORMAT_LINE(line);

	return start_line(NULL, output, text);
}

json_t *hull_json(const char *line, ...)
{
	json_error_t jerr;
	json_t *doc;
	FORMAT_LINE(line);

	run(program(), world_user, "", 0, text);
	doc = json_loads(result.out, 0, &jerr);
	if (!doc)
		printf("\n    no JSON: %s\n    %s\n", result.out, result.err);
	CHECK(doc != NULL);
	return doc ? doc : json_object();
}

json_t *hull_shown(const char *name)
{
	json_t *doc = hull_json("show %s --json", name);
	json_t *one = json_array_get(json_object_get(doc, "objects"), 0);

	json_incref(one);
	json_decref(doc);
	return one;
}

static int dial(const char *address, int port)
{
	struct sockaddr_in four = {
		.sin_family = AF_INET, .sin_port = htons((uint16_t)port)};
	struct sockaddr_in6 six = {
		.sin6_family = AF_INET6, .sin6_port = htons((uint16_t)port)};
	bool is_six = strchr(address, ':') != NULL;
	int fd = socket(
		is_six ? AF_INET6 : AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);

	inet_pton(is_six ? AF_INET6 : AF_INET, address,
		is_six ? (void *)&six.sin6_addr : (void *)&four.sin_addr);
	if (connect(fd,
		    is_six ? (struct sockaddr *)(void *)&six
			   : (struct sockaddr *)(void *)&four,
		    is_six ? sizeof(six) : sizeof(four))) {
		close(fd);
		return -1;
	}
	return fd;
}

const char *fetch(const char *address, int port, const char *path)
{
	static char page[OUTPUT_BYTES];
	struct timeval patience = {.tv_sec = 10};
	size_t used = 0;
	ssize_t got;
	char *body;
	int fd;

	/* A program that was just started may not listen yet. */
	for (int tries = 0; tries < 100 && used == 0; tries++) {
		char request[300];
		const struct timespec step = {.tv_nsec = 20000000};

		fd = dial(address, port);
		if (fd < 0)
			return NULL;
		setsockopt(fd, SOL_SOCKET, SO_RCVTIMEO, &patience,
			sizeof(patience));
		snprintf(request, sizeof(request),
			"GET %s HTTP/1.1\r\nHost: x\r\n\r\n", path);
		if (write(fd, request, strlen(request)) > 0) {
			while ((got = read(fd, page + used,
					sizeof(page) - 1 - used)) > 0)
				used += (size_t)got;
		}
		close(fd);
		if (used == 0)
			nanosleep(&step, NULL);
	}
	page[used] = '\0';
	body = strstr(page, "\r\n\r\n");
	return body ? body + 4 : NULL;
}

bool wait_until(bool (*holds)(void *arg), void *arg)
{
	const struct timespec step = {.tv_nsec = 5000000};
	int64_t until = th_clock_mono_ms() + PATIENCE_MS;

	while (!holds(arg)) {
		if (th_clock_mono_ms() > until)
			return false;
		nanosleep(&step, NULL);
	}
	return true;
}

bool is_held(void *path)
{
	struct flock lock = {.l_type = F_WRLCK, .l_whence = SEEK_SET};
	int fd = open(path, O_RDWR | O_CLOEXEC);
	bool held = fd >= 0 && fcntl(fd, F_GETLK, &lock) == 0 &&
		lock.l_type != F_UNLCK;

	if (fd >= 0)
		close(fd);
	return held;
}

bool file_holds(const char *name, const char *text)
{
	struct th_error err = {0};
	char path[300];
	struct th_buf buf;
	bool found;

	snprintf(path, sizeof(path), "%s/%s", world_folder, name);
	th_buf_init(&buf, 64 << 20);
	found = th_file_read(AT_FDCWD, path, &buf, &err) == 1 &&
		strstr(buf.data, text) != NULL;
	th_buf_release(&buf);
	return found;
}

const char *field(const char *name, const char *path)
{
	hull("show %s --field %s", name, path);
	result.out[strcspn(result.out, "\n")] = '\0';
	return result.out;
}

int count_lines_with(const char *name, const char *one, const char *two)
{
	char path[300], line[4096];
	int count = 0;
	FILE *file;

	snprintf(path, sizeof(path), "%s/%s", world_folder, name);
	file = fopen(path, "re");
	while (file && fgets(line, sizeof(line), file))
		count += strstr(line, one) && strstr(line, two);
	if (file)
		fclose(file);
	return count;
}

void copy_images(const char *folder)
{
	other("cp -r %s/demo-images %s", world_build, folder);
}

void put_file(const char *name, const char *content)
{
	struct th_error err = {0};
	char path[300];

	snprintf(path, sizeof(path), "%s/%s", world_folder, name);
	if (th_file_replace(AT_FDCWD, path, content, strlen(content), 0644,
		    false, &err)) {
		fprintf(stderr, "%s\n", err.msg);
		abort();
	}
	if (world_user && chown(path, world_user, world_user))
		abort();
}

void write_config(const int *ports, size_t count)
{
	char text[1024] = "registries:\n";

	for (size_t i = 0; i < count; i++)
		snprintf(text + strlen(text), sizeof(text) - strlen(text),
			"  - host: localhost:%d\n    transport: http\n"
			"    search: true\n",
			ports[i]);
	put_file("config.yaml", text);
}

pid_t keeper_of(const char *name)
{
	char path[64], line[512] = "", *at;
	FILE *file;

	snprintf(path, sizeof(path), "/proc/%d/stat", atoi(field(name, "pid")));
	file = fopen(path, "re");
	if (!file)
		return 0;
	at = fgets(line, sizeof(line), file) ? strrchr(line, ')') : NULL;
	fclose(file);
	return at ? atoi(at + 4) : 0;
}

void kill_keeper(const char *name)
{
	pid_t pid = keeper_of(name);
	struct pollfd one = {.events = POLLIN};

	one.fd = pid > 1 ? (int)syscall(SYS_pidfd_open, pid, 0) : -1;
	signal_to(pid, SIGKILL);
	CHECK(one.fd >= 0 && poll(&one, 1, 10000) == 1);
	close(one.fd);
}

void signal_to(pid_t pid, int number)
{
	CHECK(pid > 1);
	if (pid > 1)
		kill(pid, number);
}

static bool has_ended(void *arg)
{
	const pid_t *pid = arg;
	siginfo_t info = {0};

	return waitid(P_PID, (id_t)*pid, &info, WEXITED | WNOHANG | WNOWAIT) ||
		info.si_pid == *pid;
}

bool ends_by_itself(pid_t pid)
{
	if (wait_until(has_ended, &pid))
		return true;
	signal_to(pid, SIGKILL);
	return false;
}
