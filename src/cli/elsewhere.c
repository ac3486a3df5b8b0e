#include "cli/elsewhere.h"

#include <stdio.h>
#include <string.h>
#include <strings.h>

#include "base/distance.h"
#include "cli/kinds.h"
#include "cli/options.h"
#include "cli/wrong_option.h"

/* Short letters and words that are usual elsewhere; an option that a verb does
 * not have is not meant there. */
static const struct elsewhere all[] = {
	{"p publish expose ports map mapping forward open listen", "port", PORT,
		NULL, NULL},
	{"v volume volumes bind mounts data "
	 "share-folder",
		"mount", MOUNT, NULL, NULL},
	{"P all-ports every-port", "port", GIVEN,
		"this publishes what the image declares", "declared"},
	{"env-file envfile", "env", FROM_FILE, NULL, NULL},
	{"e environment envs var vars variable setenv set export", "env", SAME,
		NULL, NULL},
	{"u uid as run-as username", "user", SAME, NULL, NULL},
	{"w cwd directory dir chdir cd pwd working-dir working-directory",
		"workdir", SAME, NULL, NULL},
	{"m memory mem ram max-memory maxmem memory-max", "limit", MEMORY, NULL,
		NULL},
	{"swap", "limit", SWAP, NULL, NULL},
	{"cpu cpus core cores vcpu vcpus", "limit", CPU, NULL, NULL},
	{"pids processes procs tasks nproc max-processes", "limit", PROCESSES,
		NULL, NULL},
	{"net nets networks join", "network", SAME, NULL, NULL},
	{"cap caps capabilities add-capability", "capability", ADD, NULL, NULL},
	{"policy restart-policy", "restart", SAME, NULL, NULL},
	{"autostart auto-start auto-restart autorestart boot at-boot on-boot "
	 "persistent",
		"restart", GIVEN, NULL, "always"},
	{"health check healthcheck liveness readiness alive", "probe", SAME,
		NULL, NULL},
	{"ro readonly immutable", "read-only", NO_VALUE, NULL, NULL},
	{"dry-run dry simulate preview noop what-if check-only", "plan",
		NO_VALUE, NULL, NULL},
	{"d detach detached background bg b", "background", NO_VALUE, NULL,
		NULL},
	{"d detach detached background daemon bg b", "settings", VERB,
		"launch is in the background anyway", "launch"},
	{"i interactive t terminal stdin", "tty", NOTHING,
		"input and terminal are passed on by themselves", NULL},
	{"privileged", "allow", NOTHING,
		"what it needs is allowed by --allow and --capability", NULL},
	{"rm remove delete autoremove auto-remove cleanup", "discard", NOTHING,
		"run removes the container when it ends", NULL},
	{"no-rm persist preserve no-remove", "discard", GIVEN, NULL, "--keep"},
	{"rm remove delete autoremove auto-remove cleanup", "on-failure",
		NOTHING,
		"what was launched is kept for logs and why; sweep takes it",
		NULL},
	{"n tail lines head count number limit", "last", SAME, NULL, NULL},
	{"f tail-follow live watch stream-on", "follow", NO_VALUE, NULL, NULL},
	{"t timestamps timestamp time dates date", "times", NO_VALUE, NULL,
		NULL},
	{"f now hard kill stop running", "force", NO_VALUE, NULL, NULL},
	{"f file cfg conf yaml spec", "settings", SAME, NULL, NULL},
	{"a every everything any", "all", NO_VALUE, NULL, NULL},
	{"t time timeout wait grace-period delay after", "grace", SECONDS, NULL,
		NULL},
	{"t timeout time max limit for-at-most", "at-most", SECONDS, NULL,
		NULL},
	{"s sig n", "signal", SIGNAL, NULL, NULL},
	{"n title called", "name", SAME, NULL, NULL},
	{"n dry-run", "plan", NO_VALUE, NULL, NULL},
	{"no-cache fresh again force rebuild clean", "anew", NO_VALUE, NULL,
		NULL},
	{"arg args param parameter var vars variable define D set", "given",
		SAME, NULL, NULL},
	{"t tag as", "name", SAME, NULL, NULL},
	{"pull refresh", "fetch", SAME, NULL, NULL},
	{"o output f file", "runnable", LAST,
		"the file is named without an option", NULL},
	{"volumes v", ".sweep", NOTHING,
		"volumes only go when asked for: tidyhull sweep --only "
		"volumes; "
		"without them",
		NULL},
	{"n dry-run dry simulate plan", "older-than", NOTHING,
		"sweep shows first what would go, and asks", NULL},
	{"all a", "older-than", NOTHING,
		"sweep takes all that is unused anyway", NULL},
	{"enable add write create", "install", NO_VALUE, NULL, NULL},
	{"disable uninstall delete rm", "install", GIVEN, NULL, "--remove"},
	{"format type", ".pack", NEITHER, "the file is an OCI image layout",
		NULL},
	{"to as name n", ".push", LAST, NULL, NULL},
	{"to as name n tag", ".tag", LAST, NULL, NULL},
	{"to as name n tag", ".capture", LAST, NULL, NULL},
	{"m message comment author a", ".capture", NEITHER,
		"an image has labels, --label KEY=VALUE; without it", NULL},
	{"name n", ".new", NOTHING, "names need no option", NULL},
	{"hard force f now", ".restart", GIVEN, NULL, "--grace 0"},
	{"from after begin start", "since", SAME, NULL, NULL},
	{"to before end", "until", SAME, NULL, NULL},
	{"command cmd exec program execute", "settings", COMMAND, NULL, NULL},
	{"foreground fg attach front", "on-failure", VERB,
		"another verb stays in the foreground", "run"},
	{"stderr err errors", "stream", GIVEN, NULL, "err"},
	{"stdout out", "stream", GIVEN, NULL, "out"},
	{"latest newest update force f always again refresh", ".pull", NOTHING,
		"pull brings what the registry has now", NULL},
	{"n last limit count head max", ".list", NEITHER,
		"other programs cut it, | head; without it", NULL},
	{"password pass token credential credentials", "secret", NEITHER,
		"secrets are asked for, --secret NAME=@ask; without it", NULL},
	{"layers history", ".show", GIVEN, NULL, "--tree"},
	{"shell sh bash", "discard", VERB, "another verb opens one", "enter"},
	{"format o output", "json", SWALLOW, "the other form is JSON", NULL},
	{"r recursive R p archive", "owner", NOTHING,
		"folders are copied with all that is in them", NULL},
	{"no-stream n one single snapshot 1", "once", NO_VALUE, NULL, NULL},
	{"graph draw picture chart plot", "drawn", NO_VALUE, NULL, NULL},
	{"w", "watch", NO_VALUE, NULL, NULL},
	{"all a", ".meter", NOTHING, "all that run are shown anyway", NULL},
	{"all a", ".ports", NOTHING, "all that run are shown anyway", NULL},
	{"f follow w watch live", "once", NOTHING,
		"meter goes on by itself, and --json-lines prints each "
		"reading",
		NULL},
	{"fields show-only only cols c fmt", "columns", SAME, NULL, NULL},
	{"order order-by sort-by by", "sort", SAME, NULL, NULL},
	{"tmpfs ramdisk", "mount", IN_MEMORY, NULL, NULL},
	{"hosts dns-entry", "host", HOST, NULL, NULL},
	{"ip ip6 address", "network", ADDRESS, NULL, NULL},
	{"init", "reaper", GIVEN, NULL, "yes"},
	{"gpu gpus", "device", NEITHER,
		"such a device has a path or a name, --device /dev/NAME; "
		"without it",
		NULL},
	{"count replicas instances copies scale number", "settings", NEITHER,
		"each launch makes one container", NULL},
	{"force f hard now immediately", "stay-due", GIVEN, NULL, "--grace 0"},
	{"running up active", "tree", NOTHING,
		"list shows those that run anyway", NULL},
	{"stopped ended exited dead everything", "tree", GIVEN, NULL, "--all"},
	{"group groups", "tree", SWALLOW, "groups are shown in the tree", NULL},
	{"a all e f x ef aux", ".processes", NOTHING,
		"all of them are shown anyway", NULL},
	{"interval every delay period refresh i", ".meter", NEITHER,
		"meter reads each second", NULL},
	{"for condition state event", "until", UNTIL, NULL, NULL},
	{"range net cidr block prefix network addresses", "subnet", SAME, NULL,
		NULL},
	{"size capacity", ".new", NEITHER, "a volume has no limit of its own",
		NULL},
	{"force f", ".sweep", GIVEN, NULL, "--yes"},
	{"until older age before", "older-than", SAME, NULL, NULL},
	{"tag t", ".pull", TAG, NULL, NULL},
	{"all-tags", ".pull", NOTHING,
		"peek --tags lists them; pulled is one at a time", NULL},
	{"registry host server r", ".find", FIRST, NULL, NULL},
	{"fix heal mend", "repair", NO_VALUE, NULL, NULL},
	{"name new-name to n", ".rename", LAST, NULL, NULL},
	{"clean cleanup stop remove", ".demo", NOTHING,
		"the tour takes away all that it made", NULL},
	{"l long wide v verbose no-trunc full", ".list", NOTHING,
		"--columns shows others; without it", NULL},
	{"arch architecture", "platform", SAME, NULL, NULL},
	{"login owner username u", ".login", SAME, NULL, NULL},
	{"dns nameserver resolver", "hostname", NEITHER,
		"names are looked up as on the host; without it", NULL},
	{"label l labels", "workdir", NEITHER,
		"labels belong to images (capture --label); without it", NULL},
	{"isolated no-internet private closed", "internal", NO_VALUE, NULL,
		NULL},
	{"no-network offline", "network", GIVEN, NULL, "none"},
	{"id container n name c", ".", NOTHING, "names need no option", NULL},
	{"f file i input", NULL, NOTHING, "the file is named without an option",
		NULL},
	{"r recursive v volumes", "force", NOTHING, NULL, NULL},
	{"i t it interactive tty", "*", NOTHING,
		"input and terminal are passed on where that is of use", NULL},
	{"d detach background", ".start", NOTHING,
		"start is in the background anyway", NULL},
	{"v verbose debug loud", "*", NOTHING, "there is no more to tell",
		NULL}};

bool have_word(const char *words, const char *word, size_t len)
{
	for (const char *at = words; *at; at += *at == ' ') {
		size_t here = strcspn(at, " ");

		/* Letters have a case, words have none. */
		if (here == len &&
			(len == 1 ? *at == *word
				  : strncasecmp(at, word, len) == 0))
			return true;
		at += here;
	}
	return false;
}

static bool is_of(const struct elsewhere *one, const struct verb *verb)
{
	const struct option_spec *spec;

	if (one->option && strcmp(one->option, ".") == 0)
		return kind_is_taken(verb, "container") &&
			!option_spec(verb, "name", 4);
	if (one->option && strcmp(one->option, "*") == 0)
		return true;
	if (!one->option)
		return kind_is_taken(verb, "file");
	if (one->option[0] == '.')
		return strcmp(one->option + 1, verb->name) == 0;
	/* Not one that only begins so. */
	spec = option_spec(verb, one->option, strlen(one->option));
	return spec && strcmp(spec->name, one->option) == 0 &&
		/* A file of them, which only verbs that make something take. */
		(strcmp(spec->name, "settings") != 0 || spec->value);
}

static const struct elsewhere *find_whole(
	const struct verb *verb, const char *name, size_t len)
{
	for (size_t i = 0; i < sizeof(all) / sizeof(*all); i++) {
		if (have_word(all[i].words, name, len) && is_of(&all[i], verb))
			return &all[i];
	}
	return NULL;
}

/* "build-arg", "stop-timeout": two words, of which the one says nothing more
 * than the other. */
static const struct elsewhere *find_part(
	const struct verb *verb, const char *name, size_t len)
{
	static const char little[] =
		"add drop opt opts option options driver cmd command mode "
		"policy limit max value list map mapping var variable build "
		"signal timeout container image default set program file";
	static struct elsewhere found;
	const char *dash = memchr(name, '-', len);
	size_t first = dash ? (size_t)(dash - name) : 0;
	const char *word = name;
	size_t part = first;
	const struct option_spec *spec;
	const struct elsewhere *one;

	if (!dash || first < 3)
		return NULL;
	if (have_word("all", dash + 1, len - first - 1) &&
		(one = find_whole(verb, name, first)) && one->how == PORT)
		return find_whole(verb, "P", 1);
	if (!have_word(little, dash + 1, len - first - 1)) {
		if (!have_word(little, name, first))
			return NULL;
		word = dash + 1;
		part = len - first - 1;
	}
	one = find_whole(verb, word, part);
	spec = one ? NULL : option_spec(verb, word, part);
	if (one && strcmp(one->option ? one->option : "", "env") == 0 &&
		have_word("file", dash + 1, len - first - 1)) {
		found = *one;
		found.how = FROM_FILE;
		return &found;
	}
	if (one && one->how == ADD && have_word("drop", dash + 1, 4)) {
		found = *one;
		found.how = DROP;
		return &found;
	}
	if (one || !spec || strlen(spec->name) != part || !spec->value)
		return one;
	found = (struct elsewhere){"", spec->name,
		strcmp(spec->name, "host") == 0 ? HOST : SAME, NULL, NULL};
	return &found;
}

const struct elsewhere *find_elsewhere(
	const struct verb *verb, const char *name, size_t len)
{
	const struct elsewhere *one = find_whole(verb, name, len);

	return one ? one : find_part(verb, name, len);
}

const struct option_spec *near_option(
	const struct verb *verb, const char *name, size_t len)
{
	const struct option_spec *list[OPTIONS_MAX], *found = NULL;
	size_t count = verb_options(verb, list);
	char word[64];
	int least = 99;

	snprintf(word, sizeof(word), "%.*s", (int)len, name);
	for (size_t i = 0; i < count; i++) {
		int steps = th_distance(word, list[i]->name);

		if (steps < least &&
			steps <= th_distance_allowed(word, list[i]->name)) {
			least = steps;
			found = list[i];
		}
	}
	return found;
}
