#include "chandler/fault.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static bool read_number(const char *text, int64_t *number)
{
	char *end;

	*number = strtoll(text, &end, 10);
	return end != text && !*end;
}

static bool take_part(const char *part, struct fault *fault)
{
	static const struct {
		const char *word;
		enum fault_kind kind;
	} kinds[] = {{"drop=", FAULT_DROP}, {"stall=", FAULT_STALL},
		{"length=", FAULT_LENGTH}, {"status=", FAULT_STATUS}};
	int64_t number = 0;

	if (strcmp(part, "corrupt") == 0) {
		fault->kind = FAULT_CORRUPT;
		return true;
	}
	if (strncmp(part, "path=", 5) == 0) {
		snprintf(fault->path, sizeof(fault->path), "%s", part + 5);
		return true;
	}
	if (strncmp(part, "retry=", 6) == 0) {
		snprintf(fault->retry, sizeof(fault->retry), "%s", part + 6);
		return true;
	}
	if (strncmp(part, "times=", 6) == 0) {
		if (!read_number(part + 6, &number))
			return false;
		fault->times = (long)number;
		return true;
	}
	for (size_t i = 0; i < sizeof(kinds) / sizeof(*kinds); i++) {
		size_t len = strlen(kinds[i].word);

		if (strncmp(part, kinds[i].word, len) != 0)
			continue;
		fault->kind = kinds[i].kind;
		return read_number(part + len, &fault->value);
	}
	return false;
}

bool fault_parse(const char *text, struct fault *fault)
{
	char copy[400], *rest = NULL;
	bool good = strlen(text) < sizeof(copy);

	memset(fault, 0, sizeof(*fault));
	fault->times = -1;
	snprintf(fault->path, sizeof(fault->path), "/blobs/");
	snprintf(copy, sizeof(copy), "%s", text);
	for (char *part = strtok_r(copy, ",", &rest); part && good;
		part = strtok_r(NULL, ",", &rest))
		good = take_part(part, fault);
	return good;
}

static bool strikes(
	const struct fault *fault, const char *path, uint64_t body_bytes)
{
	if (fault->times == 0 || !strstr(path, fault->path))
		return false;
	switch (fault->kind) {
	case FAULT_STATUS:
		return body_bytes == UINT64_MAX;
	case FAULT_DROP:
	case FAULT_STALL:
		return body_bytes != UINT64_MAX &&
			body_bytes > (uint64_t)fault->value;
	case FAULT_CORRUPT:
	case FAULT_LENGTH:
		break;
	}
	return body_bytes != UINT64_MAX;
}

struct fault *fault_find(struct fault *faults, size_t count, const char *path,
	uint64_t body_bytes)
{
	static pthread_mutex_t mutex = PTHREAD_MUTEX_INITIALIZER;
	struct fault *found = NULL;

	pthread_mutex_lock(&mutex);
	for (size_t i = 0; i < count && !found; i++) {
		if (!strikes(&faults[i], path, body_bytes))
			continue;
		found = &faults[i];
		if (found->times > 0)
			found->times--;
	}
	pthread_mutex_unlock(&mutex);
	return found;
}
