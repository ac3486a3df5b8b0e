/* Crashes as servers do that report it first: its handler writes a line, and
 * raises the signal that the argument names once more, by default. Tells its
 * process ID before; with 0 that is all. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

static void report(int number)
{
	static const char line[] = "report\n";

	if (write(1, line, sizeof(line) - 1) < 0)
		_exit(4);
	signal(number, SIG_DFL);
	raise(number);
}

int main(int argc, char **argv)
{
	int number = argc > 1 ? atoi(argv[1]) : SIGSEGV;
	sigset_t none;

	printf("process %d\n", (int)getpid());
	fflush(stdout);
	if (!number)
		return 0;
	signal(number, report);
	raise(number);
	/* The signal waits until its handler has returned. */
	sigemptyset(&none);
	sigprocmask(SIG_SETMASK, &none, NULL);
	puts("survived");
	fflush(stdout);
	sleep(1000);
	return 0;
}
