/* What a process takes over from whoever started it, and should not. */
#ifndef TH_BASE_INHERIT_H
#define TH_BASE_INHERIT_H

/* Signals do what they do by default, and none is blocked. An ignored SIGCHLD
 * would hide how children end (waitpid(2)). */
void th_inherit_no_signals(void);

/* Resource limits are those that the host allows at most (but for the stack,
 * whose limit the layout of a program's memory follows, and core dumps, which
 * are off until somebody turns them on), and the niceness is 0 where that is
 * allowed. */
void th_inherit_no_limits(void);

#endif
