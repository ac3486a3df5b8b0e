#include "store/near.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/distance.h"
#include "oci/reference.h"
#include "store/container_state.h"
#include "store/image_state.h"

/* Of short words nearly all are near to each other. */
static int limit_of(const char *text)
{
	size_t len = strlen(text);

	return len < 3 ? 0 : len < 6 ? 1 : 2;
}

static void take_nearer(const char *text, const char *name, int *least,
	char found[TH_NEAR_NAME])
{
	int steps = th_distance(text, name);

	/* The name itself is no mistake. */
	if (steps == 0 || steps >= *least)
		return;
	*least = steps;
	snprintf(found, TH_NEAR_NAME, "%s", name);
}

bool th_near_container(
	struct th_store *store, const char *text, char name[TH_NEAR_NAME])
{
	struct th_error ignored = {0}; /* a hint only */
	struct th_strings names = {0};
	int least = limit_of(text) + 1;

	name[0] = '\0';
	th_state_names_like(
		store->db, (int)strlen(text), limit_of(text), &names, &ignored);
	for (size_t i = 0; i < names.count; i++)
		take_nearer(text, names.items[i], &least, name);
	th_strings_release(&names);
	return name[0] != '\0';
}

bool th_near_image(
	struct th_store *store, const char *text, char name[TH_NEAR_NAME])
{
	struct th_error ignored = {0}; /* a hint only */
	struct th_strings names = {0};
	int least = limit_of(text) + 1;

	name[0] = '\0';
	th_image_state_names(store, &names, &ignored);
	for (size_t i = 0; i < names.count; i++) {
		struct th_reference ref;
		char whole[TH_NEAR_NAME * 2];
		const char *part;
		size_t len;

		if (th_reference_parse(names.items[i], &ref, &ignored))
			continue;
		/* Another tag of the same. */
		if (strcmp(text, ref.path) == 0) {
			snprintf(name, TH_NEAR_NAME, "%s:%.40s", ref.path,
				ref.tag);
			least = 0;
		}
		snprintf(whole, sizeof(whole), "%s%s%s", ref.host,
			ref.host[0] ? "/" : "", ref.path);
		if (strlen(whole) < TH_NEAR_NAME)
			take_nearer(text, whole, &least, name);
		take_nearer(text, ref.path, &least, name);
		/* A slash before its tag. */
		len = strlen(ref.path);
		if (least > 0 && strncmp(text, ref.path, len) == 0 &&
			text[len] == '/' &&
			strcmp(text + len + 1, ref.tag) == 0) {
			snprintf(name, TH_NEAR_NAME, "%.80s:%.40s", ref.path,
				ref.tag);
			least = 0;
		}
		/* Its last part alone. */
		part = strrchr(ref.path, '/');
		if (part && !strchr(text, '/')) {
			int before = least;

			take_nearer(text, part + 1, &least, whole);
			if (least < before)
				snprintf(name, TH_NEAR_NAME, "%.80s", ref.path);
		}
		if (least > 0 && part && strcmp(part + 1, text) == 0) {
			snprintf(name, TH_NEAR_NAME, "%.80s", ref.path);
			least = 0;
		}
	}
	th_strings_release(&names);
	return name[0] != '\0';
}
