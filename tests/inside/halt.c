/* Stops (SIGSTOP) every process that it can see but itself and the first, over
 * and over. */
#include <dirent.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

int main(void)
{
	puts("ready");
	fflush(stdout);
	for (;;) {
		DIR *dir = opendir("/proc");
		struct dirent *entry;

		while (dir && (entry = readdir(dir))) {
			pid_t pid = (pid_t)atoi(entry->d_name);

			if (pid > 1 && pid != getpid())
				kill(pid, SIGSTOP);
		}
		if (dir)
			closedir(dir);
	}
}
