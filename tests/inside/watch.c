/* Looks at all processes that it can see, over and over, until there is a file
 * /enough: tells each that has a capability which the bounding set of this one
 * lacks, or that could be looked into with other rights. Ends with how many it
 * has looked at. */
#include <dirent.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static unsigned long long field(const char *text, const char *name)
{
	const char *at = strstr(text, name);

	return at ? strtoull(at + strlen(name), NULL, 16) : 0;
}

static int read_status(const char *pid, char *text, size_t size)
{
	char path[300];
	ssize_t len;
	int fd;

	snprintf(path, sizeof(path), "/proc/%s/status", pid);
	fd = open(path, O_RDONLY);
	if (fd < 0)
		return -1;
	len = read(fd, text, size - 1);
	close(fd);
	text[len > 0 ? len : 0] = '\0';
	return len > 0 ? 0 : -1;
}

int main(void)
{
	unsigned long long own, looks = 0;
	char text[4096];

	if (read_status("self", text, sizeof(text)))
		return 2;
	own = field(text, "CapBnd:");
	puts("ready");
	fflush(stdout);
	while (access("/enough", F_OK)) {
		DIR *dir = opendir("/proc");
		struct dirent *entry;

		while (dir && (entry = readdir(dir))) {
			if (entry->d_name[0] < '1' || entry->d_name[0] > '9' ||
				read_status(entry->d_name, text, sizeof(text)))
				continue;
			looks++;
			if ((field(text, "CapEff:") | field(text, "CapPrm:") |
				    field(text, "CapBnd:")) &
				~own)
				printf("too much: %s\n%s\n", entry->d_name,
					text);
		}
		if (dir)
			closedir(dir);
	}
	printf("looked %llu times\n", looks);
	return 0;
}
