#include "cli/programs.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

bool own_path(char path[PROGRAM_PATH])
{
	ssize_t len = readlink("/proc/self/exe", path, PROGRAM_PATH - 1);

	path[len < 0 ? 0 : len] = '\0';
	return len > 0;
}

static bool beside(const char *name, char path[PROGRAM_PATH])
{
	char *slash;

	if (!own_path(path))
		return false;
	slash = strrchr(path, '/');
	snprintf(slash + 1, PROGRAM_PATH - (size_t)(slash + 1 - path), "%s",
		name);
	return access(path, R_OK) == 0;
}

bool program_path(const char *name, char path[PROGRAM_PATH])
{
	char moved[64];

	/* An installation may be moved as a whole: bin/ and its neighbours. */
	snprintf(moved, sizeof(moved), "../libexec/tidyhull/%.30s", name);
	if (beside(name, path) || beside(moved, path)) {
		char *whole = realpath(path, NULL);

		if (whole)
			snprintf(path, PROGRAM_PATH, "%s", whole);
		free(whole);
		return true;
	}
	snprintf(path, PROGRAM_PATH, "%s/%s", TH_LIBEXECDIR, name);
	return access(path, X_OK) == 0;
}

static bool demo_path(const char *name, char path[PROGRAM_PATH])
{
	char shared[100];

	snprintf(shared, sizeof(shared), "../share/tidyhull/%s", name);
	if (beside(name, path) || beside(shared, path))
		return true;
	snprintf(path, PROGRAM_PATH, "%s/%s", TH_DATADIR, name);
	return access(path, R_OK) == 0;
}

bool demo_images_path(char path[PROGRAM_PATH])
{
	return demo_path("demo-images", path);
}

bool demo_recipes_path(char path[PROGRAM_PATH])
{
	return demo_path("demo-recipes", path);
}
