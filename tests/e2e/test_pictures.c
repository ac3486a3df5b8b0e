/* Pictures for terminals: what happened over time, what an image is made of,
 * who is on which network. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"

/* The line of the picture that begins with the name; "" where there is none.
 * Until it is called again. */
static const char *line_of(const char *picture, const char *name)
{
	static char line[1000];
	const char *at = picture;

	while (at && strncmp(at, name, strlen(name)) != 0) {
		at = strchr(at, '\n');
		at = at ? at + 1 : NULL;
	}
	snprintf(line, sizeof(line), "%.*s", at ? (int)strcspn(at, "\n") : 0,
		at ? at : "");
	return line;
}

static int count_letters(const char *line, char letter)
{
	int count = 0;

	for (; *line; line++)
		count += *line == letter;
	return count;
}

/* In a pipe, and where the locale has no blocks: the same picture in ASCII. */
static void what_happened_is_drawn(void)
{
	const char *picture, *line;
	char copy[4000];

	setenv("HULL_LOCALE", "C", 1);
	CODE(hull("create selwick/base --name later --network none"), 0);
	CODE(hull("launch selwick/base --name work --network none -- sleep "
		  "4711"),
		0);
	CODE(hull("run selwick/base --keep --name fails --network none -- sh "
		  "-c 'exit 3'"),
		3);
	usleep(300000);
	CODE(hull("pause work"), 0);
	usleep(300000);
	CODE(hull("resume work"), 0);
	CODE(hull("run selwick/base --name gone --network none -- true"), 0);
	picture = hull("timeline --drawn")->out;
	snprintf(copy, sizeof(copy), "%.3990s", picture);
	line = line_of(copy, "later");
	CHECK(count_letters(line, '.') > 20 && count_letters(line, '#') == 0);
	SAYS(line, "created");
	line = line_of(copy, "work");
	CHECK(count_letters(line, '#') > 2 && count_letters(line, '=') > 2);
	SAYS(line, "running");
	/* What took no time is to be seen, too. */
	line = line_of(copy, "fails");
	CHECK(count_letters(line, '#') >= 1);
	SAYS(line, "stopped: exit code 3");
	CHECK(count_letters(line_of(copy, "gone"), '#') >= 1);
	SAYS(line_of(copy, "gone"), "removed");
	SAYS(copy, "# running");
	SAYS(copy, "= paused");
	/* Of one alone; of a time when it did nothing else. */
	picture = hull("timeline fails --drawn")->out;
	CHECK_TEXT(line_of(picture, "work"), "");
	usleep(1200000);
	picture = hull("timeline --drawn --since 1s")->out;
	CHECK_TEXT(line_of(picture, "fails"), "");
	CHECK(count_letters(line_of(picture, "work"), '=') == 0);
	CODE(hull("timeline --drawn --follow"), 2);
	CODE(hull("timeline --drawn --json"), 2);
	CODE(hull("remove --force later work fails"), 0);
	unsetenv("HULL_LOCALE");
}

static void an_ailing_one_is_seen(void)
{
	const char *line;
	char copy[4000];

	setenv("HULL_LOCALE", "C", 1);
	CODE(hull("launch selwick/base --name box --network none --probe "
		  "'exec:test -e /ok,every=50ms,limit=1,grace=0s' -- sh -c "
		  "'sleep 1; touch /ok; sleep 4711'"),
		0);
	for (int i = 0; i < 100; i++) {
		snprintf(copy, sizeof(copy), "%.3990s",
			hull("timeline box")->out);
		if (strstr(copy, "its probe succeeded"))
			break;
		usleep(100000);
	}
	SAYS(copy, "its probe failed 1 time in a row");
	snprintf(copy, sizeof(copy), "%.3990s", hull("timeline --drawn")->out);
	line = line_of(copy, "box");
	CHECK(count_letters(line, '!') > 2);
	SAYS(copy, "! ailing");
	CODE(hull("remove --force box"), 0);
	unsetenv("HULL_LOCALE");
}

static void layers_are_drawn(void)
{
	static const char text[] =
		"image: selwick/wasteful\nfrom: selwick/base\nsteps:\n"
		"- do: dd if=/dev/zero of=/big bs=1000 count=900\n"
		"- do: rm /big\n";
	struct result *result;

	put_file("recipe.yaml", text);
	CODE(hull("build %s/recipe.yaml", world_folder), 0);
	CODE(hull("pull selwick/gauge"), 0);
	result = hull("show selwick/wasteful --tree");
	CODE(result, 0);
	SAYS(result->out, "hidden: /big (900 kB)");
	SAYS(result->out, "/selwick/gauge:latest");
	SAYS(result->out, "folders, a shell and its commands");
	SAYS(result->out, "do rm /big");
	SAYS(result->out, "in 4 layers: ");
	CODE(hull("show selwick/wasteful --tree --json"), 2);
	CODE(hull("create selwick/base --name box --network none"), 0);
	CODE(hull("show box --tree"), 2);
	CODE(hull("remove box"), 0);
}

static void networks_are_drawn(void)
{
	char copy[4000];
	const char *at;

	SAYS(hull("list --tree")->out, "there are no containers");
	CODE(hull("create selwick/base --name one --network berths"), 0);
	CODE(hull("create selwick/base --name two --network berths --network "
		  "moles"),
		0);
	CODE(hull("create selwick/base --name apart --network none"), 0);
	CODE(hull("create selwick/base --name near --network with:one"), 0);
	snprintf(copy, sizeof(copy), "%.3990s", hull("list --all --tree")->out);
	at = strstr(copy, "network:berths");
	SAYS(at ? at : "", "one");
	at = strstr(copy, "network:moles");
	SAYS(at ? at : "", "two");
	at = strstr(copy, "no network");
	SAYS(at ? at : "", "apart");
	at = strstr(copy, "with:one");
	SAYS(at ? at : "", "near");
	CODE(hull("list volumes --tree"), 2);
	CODE(hull("remove near one two apart network:berths network:moles"), 0);
}

static const CU_TestInfo tests[] = {
	{"what happened is drawn", what_happened_is_drawn},
	{"an ailing one is seen", an_ailing_one_is_seen},
	{"layers are drawn", layers_are_drawn},
	{"networks are drawn", networks_are_drawn}, CU_TEST_INFO_NULL};

const struct suite suite_pictures = {"pictures", tests};
