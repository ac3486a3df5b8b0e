#include "base/near_file.h"

#include <dirent.h>
#include <stdio.h>
#include <string.h>

#include "base/distance.h"

/* "almanac", "almanac.yml" and "almanac.yaml". */
static bool is_same_stem(const char *name, const char *other)
{
	size_t len = strcspn(name, ".");

	return len > 2 && strcspn(other, ".") == len &&
		strncmp(name, other, len) == 0 &&
		(!name[len] || strcmp(name + len, ".yml") == 0) &&
		strcmp(other + len, ".yaml") == 0;
}

bool th_near_file(const char *path, char found[TH_NEAR_FILE])
{
	const char *slash = strrchr(path, '/');
	const char *name = slash ? slash + 1 : path;
	char folder[TH_NEAR_FILE];
	const struct dirent *entry;
	int least = 99;
	DIR *dir;

	found[0] = '\0';
	if (!*name || (size_t)(name - path) >= sizeof(folder))
		return false;
	snprintf(folder, sizeof(folder), "%.*s", (int)(name - path), path);
	dir = opendir(*folder ? folder : ".");
	while (dir && (entry = readdir(dir))) {
		int steps = is_same_stem(name, entry->d_name)
			? 0
			: th_distance(name, entry->d_name);

		if (entry->d_name[0] == '.' || steps >= least ||
			steps > th_distance_allowed(name, entry->d_name))
			continue;
		least = steps;
		snprintf(found, TH_NEAR_FILE, "%.*s%.200s",
			(int)(name - path > 99 ? 99 : name - path), path,
			entry->d_name);
	}
	if (dir)
		closedir(dir);
	return found[0] != '\0';
}
