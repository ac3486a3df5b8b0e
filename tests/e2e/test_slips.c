/* Slips of the fingers: each is made in right lines, and the message has to
 * give the right line back. */
#include <stdio.h>
#include <string.h>

#include "e2e/harness.h"

#define LINE 300

/* Nothing of them would be done: what is meant is told before. */
static const char *const right[] = {
	"launch selwick/gauge --name north --port 80=8090",
	"launch selwick/gauge --mount /srv/history=./site --env STATION=north",
	"launch selwick/gauge --limit memory=64M,cpu=1 --restart always",
	"launch selwick/gauge --mount /data=volume:ledger --network quayside",
	"run selwick/base --mount /site=./site,ro -- ls /site",
	"run selwick/base --user 1000 --workdir /tmp -- pwd",
	"create selwick/gauge --name spare --port 80=8091",
	"stop web --grace 2s", "restart web --grace 1s",
	"kill web --signal HUP", "remove --force web",
	"wait web --until ready --at-most 1s", "show web --field state",
	"logs web --last 5", "logs web --since 10m --times",
	"timeline web --drawn", "exec web --workdir /etc -- pwd",
	"build recipe.yaml --name mine --anew", "adjust web --limit memory=64M",
	"recreate web --port 80=8095", "unit web --install"};

/* Makes the slip in the line; false where it cannot be made there. */
typedef bool slip(const char *line, char slipped[LINE]);

/* A letter twice, at this place. */
static void twice(const char *line, size_t at, char slipped[LINE])
{
	snprintf(slipped, LINE, "%.*s%s", (int)at + 1, line, line + at);
}

static bool verb_mistyped(const char *line, char slipped[LINE])
{
	twice(line, 1, slipped);
	return true;
}

static bool option_mistyped(const char *line, char slipped[LINE])
{
	const char *option = strstr(line, " --");

	twice(line, (size_t)(option - line) + 4, slipped);
	return true;
}

static bool one_dash(const char *line, char slipped[LINE])
{
	const char *option = strstr(line, " --");

	snprintf(slipped, LINE, "%.*s%s", (int)(option - line) + 1, line,
		option + 2);
	return true;
}

/* Where an object stands before it. */
static bool no_dash(const char *line, char slipped[LINE])
{
	const char *option = strstr(line, " --");

	snprintf(slipped, LINE, "%.*s%s", (int)(option - line) + 1, line,
		option + 3);
	return strchr(line, ' ') != option;
}

static bool command_without_dashes(const char *line, char slipped[LINE])
{
	const char *command = strstr(line, " -- ");

	if (command)
		snprintf(slipped, LINE, "%.*s%s", (int)(command - line), line,
			command + 3);
	return command != NULL;
}

static bool object_first(const char *line, char slipped[LINE])
{
	size_t verb = strcspn(line, " ");
	const char *object = line + verb + 1;
	size_t len = strcspn(object, " ");

	snprintf(slipped, LINE, "%.*s %.*s%s", (int)len, object, (int)verb,
		line, object + len);
	return object[0] != '-';
}

static const char *kind_of(const char *line)
{
	const char *object = strchr(line, ' ') + 1;

	return strncmp(object, "selwick/", 8) == 0 ? "image"
		: strncmp(object, "web", 3) == 0   ? "container"
						   : NULL;
}

static bool kind_before(const char *line, char slipped[LINE])
{
	snprintf(slipped, LINE, "%s %s", kind_of(line) ? kind_of(line) : "",
		line);
	return kind_of(line) != NULL;
}

static bool kind_behind(const char *line, char slipped[LINE])
{
	snprintf(slipped, LINE, "%.*s %s%s", (int)strcspn(line, " "), line,
		kind_of(line) ? kind_of(line) : "", strchr(line, ' '));
	return kind_of(line) != NULL;
}

static void check(slip *make)
{
	size_t made = 0;

	for (size_t i = 0; i < COUNT_OF(right); i++) {
		char slipped[LINE], meant[LINE];
		const struct result *result;

		if (!make(right[i], slipped))
			continue;
		made++;
		result = hull("%s", slipped);
		CHECK(result->code != 0);
		snprintf(meant, sizeof(meant), ": tidyhull %s\n", right[i]);
		if (!strstr(result->err, meant))
			printf("\n    of: %s\n", slipped);
		SAYS(result->err, meant);
	}
	CHECK(made > 1);
}

static void slips_lead_back_to_the_line(void)
{
	slip *const all[] = {verb_mistyped, option_mistyped, one_dash, no_dash,
		command_without_dashes, object_first, kind_before, kind_behind};

	CODE(hull("unpack -q %s/demo-images", world_build), 0);
	CODE(hull("launch -q selwick/gauge --name web --network none"), 0);
	put_file("recipe.yaml", "image: selwick/tide\nfrom: selwick/base\n");
	for (size_t i = 0; i < COUNT_OF(all); i++)
		check(all[i]);
	/* None of it was done. */
	CHECK_TEXT(hull("list --all --columns container,state")->out,
		"container  state\nweb        running\n");
	CODE(hull("remove -q --force web"), 0);
}

/* Letters, words and orders of other tools and of hasty people. */
static void guesses_lead_back_to_the_line(void)
{
	static const char *const guesses[][2] = {
		{"launch selwick/gauge 8090:80",
			"tidyhull launch selwick/gauge --port 80=8090"},
		{"launch selwick/gauge --port 80 8090",
			"tidyhull launch selwick/gauge --port 80=8090"},
		{"launch selwick/gauge --env STATION north",
			"tidyhull launch selwick/gauge --env STATION=north"},
		{"launch selwick/gauge as north",
			"tidyhull launch selwick/gauge --name north"},
		{"launch selwick/gauge -v $PWD/site:/site:ro -e A=b",
			"--mount /site=$PWD/site,ro --env A=b"},
		{"launch selwick/gauge --cpus 50%", "--limit: cpu takes"},
		{"launch selwick/gauge --tmpfs /run", "/run=memory:64M"},
		{"launch selwick/gauge --foreground",
			"tidyhull run selwick/gauge"},
		{"create web2 --image selwick/base",
			"tidyhull create --name web2 selwick/base"},
		{"create selwick/base spare",
			"for its name: tidyhull create selwick/base --name "
			"spare"},
		{"run selwick/base --command 'ls /'",
			"tidyhull run selwick/base -- sh -c 'ls /'"},
		{"run selwick/base sh -c ls",
			"tidyhull run selwick/base -- sh -c ls"},
		{"run --name selwick/base -- ls", "taken for the value"},
		{"create selwick/base --name --port 80", "--name needs a"},
		{"exec sh work", "tidyhull exec work -- sh"},
		{"exec -- work ls", "tidyhull exec work -- ls"},
		{"exec work -- 'ls -l'", "words of a command stand apart"},
		{"exec work -- cd /etc", "a word of the shell"},
		{"enter work bash", "tidyhull exec work -- bash"},
		{"stop work,done", "tidyhull stop work done"},
		{"stop 'w*'", "names are whole"},
		{"stop work and done", "tidyhull stop work done"},
		{"stop work now", "tidyhull stop work --grace 0"},
		{"stop work --grace 3 seconds", "stop work --grace 3s"},
		{"stop 2s --grace work", "tidyhull stop work --grace 2s"},
		{"run 1000 --user selwick/base -- id",
			"tidyhull run selwick/base --user 1000 -- id"},
		{"show state --field work", "show work --field state"},
		{"./site copy work:/srv", "tidyhull copy ./site work:/srv"},
		{"launch selwick/gauge always",
			"tidyhull launch selwick/gauge --restart always"},
		{"wait work ready", "tidyhull wait work --until ready"},
		{"timeline 1h", "tidyhull timeline --since 1h"},
		{"new ntework pilots --internal",
			"tidyhull new network pilots --internal"},
		{"show -d work", "tidyhull show work"},
		{"stop -it --all", "tidyhull stop --all"},
		{"stop --all 1s", "tidyhull stop --all --grace 1s"},
		{"launch help", "tidyhull help launch"},
		{"exec work /etc -- pwd", "work --workdir /etc -- pwd"},
		{"enter wrok", "did you mean work?"},
		{"restart -it work", "tidyhull restart work"},
		{"run selwick/base /srv=./site -- ls",
			"tidyhull run selwick/base --mount /srv=./site -- ls"},
		{"pack -f selwick/base base.tar",
			"tidyhull pack selwick/base base.tar"},
		{"stop --all work", "either the names, or --all"},
		{"remove images --all", "sweep --only images"},
		{"remove volumes", "sweep --only volumes"},
		{"remove --volumes done", "tidyhull remove done"},
		{"restart work --restart always",
			"tidyhull adjust work --restart always"},
		{"adjust work restart always",
			"tidyhull adjust work --restart always"},
		{"adjust work memory 64M", "work --limit memory=64M"},
		{"recreate work selwick/gauge",
			"tidyhull recreate work --image selwick/gauge"},
		{"rename work to pier", "tidyhull rename work pier"},
		{"rename pier work", "tidyhull rename work pier"},
		{"rename selwick/base mine", "tidyhull tag selwick/base mine"},
		{"tag mine selwick/base", "tidyhull tag selwick/base mine"},
		{"tag selwick/base=mine", "tidyhull tag selwick/base mine"},
		{"pack base.tar selwick/base", "pack selwick/base base.tar"},
		{"capture work as mine", "tidyhull capture work mine"},
		{"pull selwick/base 2", "tidyhull pull selwick/base:2"},
		{"pull --tag 2 selwick/base", "tidyhull pull selwick/base:2"},
		{"build recipe.yml",
			"did you mean: tidyhull build recipe.yaml"},
		{"build recipe.yaml as mine", "recipe.yaml --name mine"},
		{"new pilots network", "tidyhull new network pilots"},
		{"new volume data /data", "--mount /data=volume:data"},
		{"new network pilots 10.20.0.0/24", "--subnet 10.20.0.0/24"},
		{"copy ./site work/tmp", "tidyhull copy ./site work:/tmp"},
		{"copy work:/etc/passwd", "copy work:/etc/passwd ."},
		{"copy selwick/base:/etc/passwd .", "through a container"},
		{"list ports", "tidyhull ports"},
		{"list groups", "tidyhull list --tree"},
		{"list image selwick/base", "tidyhull show selwick/base"},
		{"list --sort name", "it is: --sort container"},
		{"list --columns all", "--columns container,state,"},
		{"list --filter state=running", "list --all | grep"},
		{"logs work 20", "tidyhull logs work --last 20"},
		{"logs work -20", "tidyhull logs work --last 20"},
		{"logs work --stderr", "tidyhull logs work --stream err"},
		{"show work.state", "tidyhull show work --field state"},
		{"show ports work", "tidyhull ports work"},
		{"why is work", "tidyhull why work"},
		{"wait work --until=running", "it is: --until ready"},
		{"wait work 5", "tidyhull wait work --at-most 5s"},
		{"kill work --signal HUPP", "did you mean HUP?"},
		{"changes work /etc", "changes work --flat | grep /etc"},
		{"unit install work", "tidyhull unit --install work"},
		{"sweep --images", "tidyhull sweep --only images"},
		{"clean images", "tidyhull sweep --only images"},
		{"up harbour.yaml", "launch --settings harbour.yaml"},
		{"launch group harbour", "start group:harbour"},
		{"find selwick/gauge:1 x", "one at a time"},
		{"doctor work", "tidyhull why work"},
		{"help --port", "tidyhull help port"},
		{"'launch selwick/gauge'", "launch selwick/gauge"},
		{"--rot /tmp list", "it is: --root"}};
	char wanted[LINE];

	CODE(hull("unpack -q %s/demo-images", world_build), 0);
	CODE(hull("launch -q selwick/gauge --name work --network none"), 0);
	CODE(hull("run -q --keep --name done --network none selwick/base -- "
		  "true"),
		0);
	CODE(other("mkdir -p site"), 0);
	put_file("recipe.yaml", "image: selwick/tide\nfrom: selwick/base\n");
	for (size_t i = 0; i < COUNT_OF(guesses); i++) {
		const char *folder = strstr(guesses[i][1], "$PWD");
		const struct result *result;
		char line[LINE];

		snprintf(line, sizeof(line), "tidyhull %s", guesses[i][0]);
		result = by_shell(line);
		CHECK(result->code != 0);
		snprintf(wanted, sizeof(wanted), "%.*s%s%s",
			folder ? (int)(folder - guesses[i][1]) : 200,
			guesses[i][1], folder ? world_folder : "",
			folder ? folder + 4 : "");
		if (!strstr(result->err, wanted))
			printf("\n    of: %s\n", guesses[i][0]);
		SAYS(result->err, wanted);
	}
	CODE(hull("remove -q --force work done"), 0);
}

/* An option, and what is no verb, have help, too. */
static void help_knows_other_words(void)
{
	struct result *result = hull("help mount");

	CODE(result, 0);
	SAYS(result->out, "--mount MOUNT");
	SAYS(result->out, "an option of:");
	SAYS(result->out, " launch");
	result = hull("help recipes");
	CODE(result, 0);
	SAYS(result->out, "man tidyhull-recipes");
}

static const CU_TestInfo tests[] = {
	{"slips lead back to the line", slips_lead_back_to_the_line},
	{"guesses lead back to the line", guesses_lead_back_to_the_line},
	{"help knows other words", help_knows_other_words}, CU_TEST_INFO_NULL};

const struct suite suite_slips = {"slips", tests};
