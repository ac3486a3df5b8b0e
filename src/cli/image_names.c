#include "cli/image_names.h"

#include <stdio.h>
#include <string.h>

#include "cli/doc.h"
#include "cli/output.h"

#define LATEST ":latest"

static bool ends_with_latest(const char *name)
{
	size_t len = strlen(name), end = strlen(LATEST);

	return len > end && strcmp(name + len - end, LATEST) == 0;
}

/* The text is the beginning of the digest. */
static bool is_digest(const char *text, const char *digest)
{
	size_t len = strlen(text);

	return len >= 4 &&
		(strncmp(digest, text, len) == 0 ||
			strncmp(short_digest(digest), text, len) == 0);
}

static const char *name_of(struct image_names *names, const char *digest)
{
	struct th_error ignored = {0}; /* then it has none */
	const char *found = NULL;
	const json_t *image;
	size_t i, k;

	if (!names->images)
		th_list(names->call->hull, TH_KIND_IMAGE, true, &names->images,
			&ignored);
	json_array_foreach(doc_part(names->images, "images"), i, image)
	{
		const json_t *list = doc_part(image, "names");

		if (strcmp(doc_text(image, "digest"), digest) != 0)
			continue;
		for (k = 0; k < json_array_size(list); k++) {
			const char *name = doc_item(list, k);

			if (!found || ends_with_latest(name))
				found = name;
		}
	}
	return found;
}

void image_name(struct image_names *names, const json_t *container,
	char text[IMAGE_NAME_TEXT])
{
	const char *name = doc_text(container, "image");
	const char *digest = doc_text(container, "image-digest");

	if (is_digest(name, digest)) {
		const char *known = name_of(names, digest);

		name = known ? known : short_digest(digest);
		if (!known) {
			snprintf(text, IMAGE_NAME_TEXT, "%.12s", name);
			return;
		}
	}
	snprintf(text, IMAGE_NAME_TEXT, "%s", name);
	if (ends_with_latest(text))
		text[strlen(text) - strlen(LATEST)] = '\0';
}

void image_names_release(struct image_names *names)
{
	json_decref(names->images);
	names->images = NULL;
}
