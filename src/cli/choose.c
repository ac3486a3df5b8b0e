#include "cli/choose.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "cli/output.h"
#include "cli/shown.h"
#include "image/locate.h"

static int list_them(const struct th_reference *ref,
	const struct th_strings *hosts, struct th_error *err)
{
	struct th_buf list;

	th_buf_init(&list, sizeof(err->hint) - 1);
	for (size_t i = 0; i < hosts->count; i++)
		th_buf_addf(&list, "%s%s/%s:%s",
			i ? ", " : "choose: ", hosts->items[i], ref->path,
			ref->tag);
	th_fail(err, TH_USAGE, "%zu registries have %s:%s", hosts->count,
		ref->path, ref->tag);
	th_hint(err, "%s", list.data);
	th_buf_release(&list);
	return -1;
}

int choose_registry(void *owner, const struct th_reference *ref,
	const struct th_strings *hosts, size_t *choice, struct th_error *err)
{
	char line[32];
	unsigned int number = 0;

	(void)owner;
	if (!isatty(0) || !on_terminal())
		return list_them(ref, hosts, err);
	fprintf(stderr, "%zu registries have %s:%s\n", hosts->count, ref->path,
		ref->tag);
	for (size_t i = 0; i < hosts->count; i++)
		fprintf(stderr, "  %zu  %s/%s:%s\n", i + 1, hosts->items[i],
			ref->path, ref->tag);
	fputs("which one? ", stderr);
	if (!fgets(line, sizeof(line), stdin) ||
		sscanf(line, "%u", &number) != 1 || number < 1 ||
		number > hosts->count)
		return th_fail(err, TH_USAGE, "no choice was made");
	*choice = number - 1;
	return 0;
}

int choose_host(struct invocation *call, struct th_store *store,
	struct th_reference *ref, struct th_error *err)
{
	struct th_strings hosts = {0}, notes = {0};
	size_t choice = 0;
	int rc;

	rc = th_locate(store, &call->hull.registries, ref, &hosts, &notes, err);
	for (size_t i = 0; !call->quiet && rc == 0 && i < notes.count; i++)
		say_note(notes.items[i]);
	if (rc == 0 && hosts.count > 1)
		rc = choose_registry(NULL, ref, &hosts, &choice, err);
	if (rc == 0)
		snprintf(ref->host, sizeof(ref->host), "%s",
			hosts.items[choice]);
	th_strings_release(&hosts);
	th_strings_release(&notes);
	return rc;
}

bool choose_yes(const char *question)
{
	char line[32];

	if (!isatty(0) || !on_terminal())
		return false;
	fprintf(stderr, "%s [y/n] ", question);
	return fgets(line, sizeof(line), stdin) &&
		(line[0] == 'y' || line[0] == 'Y');
}
