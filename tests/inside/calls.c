/* Makes every system call of an ABI from where it is run, each in a process of
 * its own, and says what came of it: calls native|32 LAST. A line has the
 * number and an errno, or "ok", "ended", "signal", "waits". All arguments are
 * -1: hardly a call does anything with that, and what one does goes with its
 * process. */
#include <errno.h>
#include <signal.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>

#define WAIT_US 300000
#define STEP_US 500
/* No call gives this back with such arguments. */
#define NO_ANSWER 0x7eedL

/* The 32-bit ABI as a 64-bit program reaches it. */
static long call_32(long number)
{
	long result;

	__asm__ volatile(
		"int $0x80"
		: "=a"(result)
		: "a"(number), "b"(-1L), "c"(-1L), "d"(-1L), "S"(-1L), "D"(-1L)
		: "memory", "cc", "r8", "r9", "r10", "r11");
	return (int)result;
}

static long call_native(long number)
{
	long result;
	register long four __asm__("r10") = -1;
	register long five __asm__("r8") = -1;
	register long six __asm__("r9") = -1;

	__asm__ volatile("syscall"
			 : "=a"(result)
			 : "a"(number), "D"(-1L), "S"(-1L), "d"(-1L), "r"(four),
			 "r"(five), "r"(six)
			 : "memory", "cc", "rcx", "r11");
	return result;
}

/* Ends the process when it has answered, or when its time is over. */
static bool outlives(pid_t pid, int *status)
{
	for (int waited = 0; waited < WAIT_US; waited += STEP_US) {
		if (waitpid(pid, status, WNOHANG) == pid)
			return false;
		usleep(STEP_US);
	}
	kill(pid, SIGKILL);
	waitpid(pid, status, 0);
	return true;
}

static void try_call(bool native, long number, volatile long *answer)
{
	bool late;
	int status = 0;
	pid_t pid;

	*answer = NO_ANSWER;
	pid = fork();
	if (pid == 0) {
		/* Shared memory: a call may take the descriptors away. */
		*answer = native ? call_native(number) : call_32(number);
		_exit(0);
	}
	late = outlives(pid, &status);
	printf("%ld ", number);
	if (*answer != NO_ANSWER && *answer < 0 && *answer > -4096)
		printf("%ld\n", -*answer);
	else if (*answer != NO_ANSWER)
		puts("ok");
	else
		puts(late ? "waits" : WIFSIGNALED(status) ? "signal" : "ended");
}

int main(int argc, char **argv)
{
	long last = argc == 3 ? atol(argv[2]) : 0;
	/* One for each: what a call has forked answers too, and may be late. */
	volatile long *answers = mmap(NULL,
		((size_t)last + 1) * sizeof(*answers), PROT_READ | PROT_WRITE,
		MAP_SHARED | MAP_ANONYMOUS, -1, 0);

	if (argc != 3 || answers == MAP_FAILED) {
		fputs("calls native|32 LAST\n", stderr);
		return 2;
	}
	setvbuf(stdout, NULL, _IONBF, 0);
	for (long i = 0; i <= last; i++)
		try_call(strcmp(argv[1], "native") == 0, i, &answers[i]);
	return 0;
}
