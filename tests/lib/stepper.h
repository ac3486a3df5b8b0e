/* Programs that die, or are refused something, at one chosen call of all those
 * that change anything: files, namespaces, mounts, what is sent to the kernel.
 */
#ifndef TESTS_STEPPER_H
#define TESTS_STEPPER_H

#include <stdbool.h>
#include <sys/types.h>

struct step {
	/* Whose calls count: the name of the program, as ps shows it. */
	const char *program;
	long number; /* of the call; the first one is 0 */
	int error; /* what the call fails with; 0: its process is killed */
};

/* Follows the process (a child that waits for the other end of go to be closed,
 * and then runs the program) and all that come of it, until it ends. Returns
 * its exit code (128+n for signal n); *hit is false where the call never came.
 * What still runs goes on alone. */
int step_through(pid_t child, int go, const struct step *step, bool *hit);

#endif
