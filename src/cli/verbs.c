#include "cli/verbs.h"

#include <stdio.h>
#include <string.h>

#include "cli/options.h"

const struct verb *const verbs[] = {&verb_demo, &verb_doctor, &verb_help_verb,
	&verb_find, &verb_peek, &verb_login, &verb_logout, &verb_pull,
	&verb_push, &verb_tag, &verb_pack, &verb_unpack, &verb_build,
	&verb_capture, &verb_create, &verb_run, &verb_launch, &verb_start,
	&verb_stop, &verb_restart, &verb_kill, &verb_pause, &verb_resume,
	&verb_rename, &verb_adjust, &verb_recreate, &verb_wait, &verb_list,
	&verb_show, &verb_why, &verb_timeline, &verb_logs, &verb_ports,
	&verb_processes, &verb_meter, &verb_changes, &verb_exec, &verb_enter,
	&verb_attach, &verb_copy, &verb_new, &verb_remove, &verb_sweep,
	&verb_unit, &verb_oci, &verb_complete, NULL};

const struct verb *verb_lookup(const char *name)
{
	for (size_t i = 0; verbs[i]; i++) {
		if (strcmp(verbs[i]->name, name) == 0)
			return verbs[i];
	}
	return NULL;
}

#define HELP_COLUMN 24
#define HELP_WIDTH 80

/* From the column of the explanations on, in lines of their own. */
static void print_wrapped(const char *help)
{
	size_t room = HELP_WIDTH - HELP_COLUMN;

	while (strlen(help) > room) {
		size_t len = room;

		/* Between words, or behind a comma. */
		while (len && help[len] != ' ' &&
			(len < 2 || help[len - 1] != ',' ||
				help[len - 2] == ' '))
			len--;
		if (!len)
			break;
		printf("%.*s\n%*s", (int)len, help, HELP_COLUMN, "");
		help += len;
		help += *help == ' ';
	}
	puts(help);
}

static void print_options(const struct verb *verb)
{
	const struct option_spec *list[OPTIONS_MAX];
	size_t count = verb_options(verb, list);

	fputs("\noptions\n", stdout);
	for (size_t i = 0; i < count; i++) {
		const struct option_spec *spec = list[i];
		char head[40];

		snprintf(head, sizeof(head), "--%s%s%s", spec->name,
			spec->value ? " " : "", spec->value ? spec->value : "");
		if (strlen(head) > 20)
			printf("  %s\n  %-20s  ", head, "");
		else
			printf("  %-20s  ", head);
		print_wrapped(spec->help);
	}
}

void verb_help(const struct verb *verb)
{
	printf("tidyhull %s%s%s\n  %s\n", verb->name, *verb->usage ? " " : "",
		verb->usage, verb->summary);
	if (verb->text && *verb->text) {
		putchar('\n');
		for (size_t i = 0; verb->text[i]; i++)
			printf("%s\n", verb->text[i]);
	}
	if (verb->examples && *verb->examples) {
		fputs("\nfor example\n", stdout);
		for (size_t i = 0; verb->examples[i]; i++)
			printf("  %s\n", verb->examples[i]);
	}
	print_options(verb);
}
