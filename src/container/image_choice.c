#include "container/image_choice.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/path.h"
#include "container/make_bundle.h"
#include "image/locate.h"
#include "store/blob.h"

/* The image that is meant where it is here: 1, 0, -1. */
static int find_image(const struct th_context *context, const char *text,
	struct th_image_row *image, struct th_error *err)
{
	struct th_image_row *rows = NULL;
	size_t count = 0;
	int rc = 0;

	if (th_image_state_find_brief(context->store, text, &rows, &count, err))
		return -1;
	if (count == 1) {
		*image = rows[0];
		th_strings_release(&rows[0].tags);
		memset(&image->tags, 0, sizeof(image->tags));
		rc = 1;
	} else if (count > 1) {
		rc = th_fail(err, TH_USAGE, "\"%.100s\" matches %zu images",
			text, count);
		th_hint(err, "give it in full: %.200s",
			rows[0].tags.count ? rows[0].tags.items[0]
					   : rows[0].digest);
	}
	th_image_rows_free(rows, count);
	return rc;
}

int th_image_load(const struct th_context *context,
	const struct th_image_row *row, struct th_image_config *config,
	struct th_error *err)
{
	struct th_buf body;
	int rc;

	th_buf_init(&body, TH_MANIFEST_MAX);
	rc = th_blob_read(context->store, row->config, &body, err);
	if (rc == 0)
		rc = th_image_config_parse(body.data, body.len, config, err);
	th_buf_release(&body);
	return rc;
}

static int check_command(const struct th_context *context,
	const struct th_settings *settings, const struct th_image_row *row,
	struct th_error *err)
{
	struct th_image_config config = {0};
	struct th_strings command = {0};
	int rc;

	rc = th_image_load(context, row, &config, err);
	if (rc == 0)
		rc = th_bundle_command(settings, &config, &command, err);
	th_strings_release(&command);
	th_image_config_release(&config);
	return rc;
}

/* ---- packed files ---- */

static bool is_named(const struct th_packed_image *image, const char *name)
{
	struct th_reference wanted, own;
	struct th_error ignored = {0}; /* then it is not */

	if (!name)
		return true;
	if (strcmp(image->digest, name) == 0 || strcmp(image->name, name) == 0)
		return true;
	return image->name[0] &&
		th_reference_parse(name, &wanted, &ignored) == 0 &&
		th_reference_parse(image->name, &own, &ignored) == 0 &&
		strcmp(wanted.path, own.path) == 0 &&
		strcmp(wanted.tag, own.tag) == 0 &&
		(!wanted.host[0] || strcmp(wanted.host, own.host) == 0);
}

int th_packed_choose(const struct th_packed *packed, const char *path,
	const char *name, const struct th_packed_image **image,
	struct th_error *err)
{
	const struct th_packed_image *images, *found = NULL;
	bool several = false;
	char list[256] = "";
	size_t count;

	images = th_packed_images(packed, &count);
	for (size_t i = 0; i < count; i++) {
		size_t used = strlen(list);

		if (!is_named(&images[i], name))
			continue;
		several |=
			found && strcmp(found->digest, images[i].digest) != 0;
		found = found ? found : &images[i];
		snprintf(list + used, sizeof(list) - used, "%s%s",
			used ? ", " : "",
			images[i].name[0] ? images[i].name : images[i].digest);
	}
	if (found && !several) {
		*image = found;
		return 0;
	}
	if (!found)
		return th_fail(err, TH_NOT_FOUND,
			"%.200s does not contain an image%s%.200s", path,
			name ? " called " : "", name ? name : "");
	th_fail(err, TH_USAGE, "%.200s contains several images", path);
	return th_hint(err, "unpack it, then choose one: %.200s", list);
}

static int choose_packed(const struct th_context *context,
	const struct th_settings *settings, struct th_image_choice *choice,
	struct th_error *err)
{
	const struct th_packed_image *image;
	struct th_packed *packed = NULL;
	int rc;

	choice->path = th_path_absolute(settings->base, settings->image);
	if (!choice->path)
		return th_fail_memory(err);
	if (th_packed_open(context->store, choice->path,
		    (struct th_cancel){{context->cancel}, NULL}, &packed, err))
		return -1;
	rc = th_packed_choose(packed, settings->image, NULL, &image, err);
	if (rc == 0) {
		snprintf(choice->name, sizeof(choice->name), "%.511s",
			image->name[0] ? image->name : image->digest);
		rc = find_image(context, image->digest, &choice->image, err);
		choice->here = rc == 1;
	}
	th_packed_close(packed);
	return rc < 0 ? -1 : 0;
}

/* ---- the choice ---- */

static int choose_host(const struct th_context *context,
	const struct th_reference *ref, struct th_image_choice *choice,
	struct th_error *err)
{
	struct th_strings hosts = {0};
	size_t number = 0;
	int rc;

	rc = th_locate(context->store, context->registries, ref, &hosts,
		&choice->notes, err);
	if (rc == 0 && hosts.count > 1) {
		if (context->choose)
			rc = context->choose(
				context->owner, ref, &hosts, &number, err);
		else
			rc = th_fail(err, TH_USAGE,
				"several registries have %.200s", ref->path);
	}
	if (rc == 0)
		snprintf(choice->host, sizeof(choice->host), "%s",
			hosts.items[number]);
	th_strings_release(&hosts);
	return rc;
}

int th_image_choose(const struct th_context *context,
	const struct th_settings *settings, struct th_image_choice *choice,
	struct th_error *err)
{
	struct th_reference ref;
	int rc = 0;

	memset(choice, 0, sizeof(*choice));
	snprintf(choice->name, sizeof(choice->name), "%.511s", settings->image);
	if (th_packed_is_path(settings->image)) {
		if (choose_packed(context, settings, choice, err))
			return -1;
	} else {
		if (settings->digest)
			rc = find_image(
				context, settings->digest, &choice->image, err);
		else if (settings->fetch != TH_FETCH_ALWAYS)
			rc = find_image(
				context, settings->image, &choice->image, err);
		if (rc < 0)
			return -1;
		choice->here = rc == 1;
	}
	if (choice->here)
		return check_command(context, settings, &choice->image, err);
	if (choice->path)
		return 0;
	if (th_reference_parse(settings->image, &ref, err))
		return -1;
	if (settings->fetch == TH_FETCH_NEVER) {
		th_fail(err, TH_NOT_FOUND,
			"the image %.200s is not in this store",
			settings->image);
		return th_hint(
			err, "without --fetch never, it would be pulled");
	}
	return choose_host(context, &ref, choice, err);
}

static int pull_chosen(const struct th_context *context,
	const struct th_settings *settings,
	const struct th_image_choice *choice, struct th_pulled *pulled,
	struct th_error *err)
{
	struct th_pull_options options = {.registries = context->registries,
		.progress = context->progress,
		.owner = context->owner};
	const struct th_packed_image *image;
	struct th_packed *packed = NULL;
	struct th_reference ref;
	int rc;

	if (!choice->path) {
		if (th_reference_parse(settings->image, &ref, err))
			return -1;
		snprintf(ref.host, sizeof(ref.host), "%s", choice->host);
		return th_pull(context->store, &ref, &options, pulled, err);
	}
	if (th_store_hold(context->store, err))
		return -1;
	rc = th_packed_open(context->store, choice->path,
		(struct th_cancel){{context->cancel}, NULL}, &packed, err);
	if (rc == 0)
		rc = th_packed_choose(
			packed, settings->image, NULL, &image, err);
	if (rc == 0)
		rc = th_pull_packed(context->store, packed, image, NULL,
			&options, pulled, err);
	th_packed_close(packed);
	th_store_let_go(context->store);
	return rc;
}

int th_image_obtain(const struct th_context *context,
	const struct th_settings *settings, struct th_image_choice *choice,
	struct th_error *err)
{
	struct th_pulled pulled;
	int rc;

	if (choice->here)
		return 0;
	if (pull_chosen(context, settings, choice, &pulled, err))
		return -1;
	for (size_t i = 0; i < choice->notes.count; i++)
		th_strings_add(&pulled.notes, choice->notes.items[i]);
	if (context->pulled)
		context->pulled(context->owner, &pulled);
	rc = find_image(context, pulled.digest, &choice->image, err);
	th_pulled_release(&pulled);
	if (rc == 0)
		th_fail(err, TH_NOT_FOUND,
			"the image was removed again meanwhile");
	return rc == 1 ? check_command(context, settings, &choice->image, err)
		       : -1;
}

void th_image_choice_release(struct th_image_choice *choice)
{
	free(choice->path);
	choice->path = NULL;
	th_strings_release(&choice->notes);
}
