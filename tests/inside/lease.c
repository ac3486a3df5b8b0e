/* Tries to take leases on the files that are mounted below /etc, keeps those
 * that it gets, and tells how many. */
#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <unistd.h>

int main(void)
{
	static const char *const names[] = {
		"/etc/hosts", "/etc/hostname", "/etc/resolv.conf"};
	int got = 0;

	/* Who breaks a lease sends this. */
	signal(SIGIO, SIG_IGN);
	for (size_t i = 0; i < sizeof(names) / sizeof(*names); i++) {
		int fd = open(names[i], O_RDONLY);

		got += fd >= 0 &&
			(fcntl(fd, F_SETLEASE, F_RDLCK) == 0 ||
				fcntl(fd, F_SETLEASE, F_WRLCK) == 0);
	}
	printf("leases %d\nready\n", got);
	fflush(stdout);
	for (;;)
		pause();
}
