#include "container/bundle_files.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>

#include "base/file.h"
#include "base/json.h"
#include "container/secrets.h"
#include "network/names.h"

#define COUNT(list) (sizeof(list) / sizeof(*(list)))

static int write_extra_hosts(
	int folder, const struct th_settings *settings, struct th_error *err)
{
	struct th_buf text;
	int rc = 0;

	th_buf_init(&text, 1 << 20);
	for (size_t i = 0; i < settings->host_texts.count; i++) {
		const char *item = settings->host_texts.items[i];
		int len = (int)strcspn(item, "=");

		th_buf_addf(&text, "%s %.*s\n", item + len + 1, len, item);
	}
	if (text.len)
		rc = th_file_replace(folder, TH_NAMES_EXTRA, text.data,
			text.len, 0644, false, err);
	th_buf_release(&text);
	return rc;
}

/* Values that are given as files: the keeper puts them into a memory mount. */
static int write_secrets(
	int folder, const struct th_settings *settings, struct th_error *err)
{
	json_t *doc = json_object();
	int rc;

	for (size_t i = 0; i < settings->secret_files.count; i++) {
		const char *text = settings->secret_files.items[i];
		size_t len = strcspn(text, "=");
		char name[TH_NAME_MAX];

		snprintf(name, sizeof(name), "%.*s", (int)len, text);
		if (json_object_set_new(
			    doc, name, json_string(text + len + 1))) {
			json_decref(doc);
			return th_fail(err, TH_USAGE,
				"the secret \"%s\" is not valid UTF-8", name);
		}
	}
	rc = json_object_size(doc)
		? th_json_write_file(folder, TH_SECRETS, doc, 0600, false, err)
		: 0;
	json_decref(doc);
	return rc;
}

int bundle_files(int folder, const struct th_container_row *row,
	const struct th_settings *settings, struct th_error *err)
{
	static const char *const folders[] = {"upper", "work", "rootfs"};
	const char *host = settings->hostname ? settings->hostname : row->name;
	char line[128];
	int len;

	for (size_t i = 0; i < COUNT(folders); i++) {
		if (mkdirat(folder, folders[i], 0755))
			return th_fail_sys(err, TH_FAILED, errno,
				"cannot create the container's folders");
	}
	len = snprintf(line, sizeof(line), "%s\n", host);
	if (th_file_replace(
		    folder, "hostname", line, (size_t)len, 0644, false, err) ||
		/* The keeper fills them in. */
		th_file_replace(folder, "hosts", "", 0, 0644, false, err) ||
		th_file_replace(folder, "resolv.conf", "", 0, 0644, false, err))
		return -1;
	return write_extra_hosts(folder, settings, err) ||
			write_secrets(folder, settings, err)
		? -1
		: 0;
}
