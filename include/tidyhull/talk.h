/* Talking to programs of containers: their streams and terminals. */
#ifndef TIDYHULL_TALK_H
#define TIDYHULL_TALK_H

#include <tidyhull/hull.h>

#ifdef __cplusplus
extern "C" {
#endif

/* One with a program that was started, or is listened to; or with a command
 * that was started beside it. */
typedef struct th_talk th_talk; /* opaque */

struct th_terminal_size {
	uint16_t rows, columns; /* 0: there is no terminal */
};

/* Starts the program of a container. */
int th_talk_start(th_hull *hull, const char *name, struct th_terminal_size size,
	th_talk **talk, th_error *error);
/* Comes to one that runs already. */
int th_talk_attach(th_hull *hull, const char *name,
	struct th_terminal_size size, th_talk **talk, th_error *error);

/* Another command in a running container: {"command": [...], and where wanted
 * "env": [...], "user", "workdir"}. */
struct th_talk_command {
	const json_t *words;
	bool terminal; /* it gets one of its own */
	bool background; /* its output goes to a log of its own */
	int streams[3]; /* its own where it has no terminal; borrowed */
	/* The program itself as a file without a name, where the container
	 * lacks it; -1: it has it. */
	int program;
	struct th_terminal_size size;
};
/* doc gets {"session", "container"}. */
int th_talk_exec(th_hull *hull, const char *name,
	const struct th_talk_command *command, th_talk **talk, json_t **doc,
	th_error *error);
/* The same to its end. code gets its exit code, 128 + n for signal n. */
int th_talk_run(th_hull *hull, const char *name,
	const struct th_talk_command *command, int *code, th_error *error);

enum th_told {
	TH_TOLD_NOTHING,
	TH_TOLD_OUT, /* text is output */
	TH_TOLD_ERR,
	TH_TOLD_BEFORE, /* text is what was written before, from the log */
	TH_TOLD_AGAIN, /* it has ended, and starts again in wait_ms */
	TH_TOLD_ENDED
};
struct th_news {
	enum th_told told;
	const char *text; /* not ended by a NUL; valid until the next call */
	size_t bytes;
	bool by_signal; /* how it ended: by the signal, or with the code */
	int code;
	int exit_code; /* the same as a shell has it */
	int wait_ms;
	bool out_of_memory; /* the signal was the kernel's, for memory */
};
/* What to wait on (poll(2)) until there is news; and the terminal of a command,
 * or -1: what the caller passes to and fro itself. */
int th_talk_descriptor(const th_talk *talk);
int th_talk_console(const th_talk *talk);
/* True where the program of the container has a terminal. */
bool th_talk_has_terminal(const th_talk *talk);
/* 1 with news, 0 where there will be none any more, -1. */
int th_talk_next(th_talk *talk, struct th_news *news, th_error *error);
/* Input for the program; bytes 0: its end. -1 where nobody takes it. */
int th_talk_input(th_talk *talk, const char *data, size_t bytes);
void th_talk_resize(th_talk *talk, struct th_terminal_size size);
/* A signal for the program; one that ends it is as final as a stop. */
void th_talk_signal(th_talk *talk, int number);
/* The program goes on without us; otherwise its input is at its end when the
 * talk is closed. */
void th_talk_leave(th_talk *talk);
void th_talk_close(th_talk *talk);

#ifdef __cplusplus
}
#endif

#endif
