/* The end-to-end tests' world: namespaces of their own (mounts, processes,
 * network, host name), a stand-in registry with the demo images, a store in a
 * temporary folder, and a look for whatever a test leaves behind. */
#ifndef TESTS_HARNESS_H
#define TESTS_HARNESS_H

#include <jansson.h>
#include <stdbool.h>
#include <sys/types.h>

#include "lib/stepper.h"
#include "lib/suite.h"

#define OUTPUT_BYTES (256 * 1024)

struct result {
	int code; /* exit code; 128+n for signal n */
	char out[OUTPUT_BYTES];
	char err[OUTPUT_BYTES];
};

/* Runs tidyhull with the words of line (cut at spaces; a part in single
 * quotes is one word) against the test's store. The result is overwritten by
 * the next call. */
struct result *hull(const char *line, ...)
	__attribute__((format(printf, 1, 2)));
/* The same with something on standard input. */
struct result *hull_input(const char *input, size_t len, const char *line, ...)
	__attribute__((format(printf, 3, 4)));
/* Runs it as an unprivileged user. */
struct result *hull_as_user(const char *line);
/* A line as it is typed, by a shell in the test's folder. */
struct result *by_shell(const char *line);
/* Starts it without waiting; the output goes to the file of that name in the
 * test's folder. */
pid_t hull_start(const char *output, const char *line, ...)
	__attribute__((format(printf, 2, 3)));
/* Starts it on a terminal of its own, of 24 lines and 80 columns; *master is
 * the other side of it. */
pid_t hull_terminal(int *master, const char *line, ...)
	__attribute__((format(printf, 2, 3)));
/* Reads from a terminal until the text has come; everything that came is put
 * into screen (of OUTPUT_BYTES). False where it does not come. */
bool screen_until(int master, char *screen, const char *text);
/* Types it. */
void type_keys(int master, const char *keys);
/* Starts any other program. */
pid_t other_start(const char *output, const char *line, ...)
	__attribute__((format(printf, 2, 3)));
/* Any other program. */
struct result *other(const char *line, ...)
	__attribute__((format(printf, 1, 2)));
/* The same as root, also where the tests are an unprivileged user's. */
struct result *as_root(const char *line, ...)
	__attribute__((format(printf, 1, 2)));
int wait_for(pid_t pid);
/* Runs tidyhull with one of its calls hit, or one of a program that it starts;
 * false where there are not that many. Its exit code is put into *code, and its
 * output into the file "out" of the test's folder. */
bool hull_step(const struct step *step, int *code, const char *line, ...)
	__attribute__((format(printf, 3, 4)));

/* The answer of a --json call. */
json_t *hull_json(const char *line, ...) __attribute__((format(printf, 1, 2)));

/* What show --json tells of one object; to be released. */
json_t *hull_shown(const char *name);

/* GETs a page from this side; the body in a buffer that is overwritten, or
 * NULL where nobody answers. */
const char *fetch(const char *address, int port, const char *path);

/* Waits up to some seconds for a condition; false where it never holds. */
bool wait_until(bool (*holds)(void *arg), void *arg);
/* True where the file of the test's folder holds the text. */
bool file_holds(const char *name, const char *text);
/* The path of a file that a process has locked by fcntl. */
bool is_held(void *path);
/* The container's field, as show prints it. */
const char *field(const char *name, const char *path);

/* The PID of the container's keeper: the parent of its process. */
pid_t keeper_of(const char *name);
/* Sends a signal to a process. Fails the test where the PID was not found: to
 * kill(), 0 and -1 are whole groups of processes, this one's among them. */
void signal_to(pid_t pid, int number);
/* True where it ends within the patience of wait_until(), to be waited for with
 * wait_for(); otherwise it is killed. */
bool ends_by_itself(pid_t pid);

/* Kills the container's keeper, and waits until that is so: a process that was
 * killed is there for a moment. */
void kill_keeper(const char *name);

/* Writes a file into the test's folder. */
void put_file(const char *name, const char *content);
/* Path of the test's folder, of the store, and of the built programs. */
extern char world_folder[128];
extern char world_store[160];
extern char world_build[512];
extern int world_registry_port;
/* Who runs tidyhull in these tests: 0, or the unprivileged user. */
extern uid_t world_user;
/* A control group that is the unprivileged user's, or "". */
extern char world_group[200];
/* How many control groups of the test's store there are. */
int world_groups(void);
#define WORLD_USER 4711
#define WORLD_USER_NAME "selwick"

/* Starts another registry on a layout (a path in the test's folder); its
 * port. Ended with the test. */
int start_registry(const char *layout);
/* The same with options of chandler (cut at spaces), and what it writes of each
 * request into the file log of the test's folder. */
int start_chandler(const char *layout, const char *log, const char *options,
	...) __attribute__((format(printf, 3, 4)));
/* How many lines of a file of the test's folder hold both texts (either may be
 * empty). */
int count_lines_with(const char *name, const char *one, const char *two);
/* Copies the demo images into a folder of the test's folder. */
void copy_images(const char *folder);
/* Writes a configuration with the ports as searched registries. */
void write_config(const int *ports, size_t count);

#define CODE(result, expected) CU_ASSERT(has_code(result, expected))
/* True where it ended with the code; prints what it has said otherwise. */
bool has_code(const struct result *of, int code);
#define SAYS(text, part) CU_ASSERT(says(text, part))
/* True where text holds part; prints both otherwise. */
bool says(const char *text, const char *part);

#endif
