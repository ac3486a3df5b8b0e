/* build: images from recipes. */
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/harness.h"
#include "e2e/world.h"

/* The digest that a build gives; "" where it fails. To be copied. */
static const char *built(const char *line)
{
	static char digest[160];
	json_t *doc = hull_json("build %s --json", line);
	const char *text = json_string_value(json_object_get(doc, "digest"));

	snprintf(digest, sizeof(digest), "%s", text ? text : "");
	json_decref(doc);
	return digest;
}

/* Prints an image's manifest and config. */
static void print_documents(const char *digest)
{
	static char manifest[8000];
	const char *config;

	snprintf(manifest, sizeof(manifest), "%.7999s",
		as_root("cat %s/images/blobs/sha256/%s", world_store,
			digest + 7)
			->out);
	config = strstr(manifest, "sha256:");
	printf("\n    %s\n    %s\n", manifest,
		config ? as_root("cat %s/images/blobs/sha256/%.64s",
				 world_store, config + 7)
				 ->out
		       : "");
}

/* The build gives that digest; otherwise what differs is shown. */
static void gives(const char *line, const char *wanted)
{
	char digest[160];

	snprintf(digest, sizeof(digest), "%s", built(line));
	CHECK_TEXT(digest, wanted);
	if (strcmp(digest, wanted) == 0 || !*digest || !*wanted)
		return;
	print_documents(wanted);
	print_documents(digest);
}

/* Builds, and says what was wrong. */
static void builds(const char *line)
{
	struct result *result = hull("build %s", line);

	CODE(result, 0);
	if (result->code)
		printf("\n    build %s: %s\n", line, result->err);
}

static int counted(const char *line, const char *what)
{
	json_t *doc = hull_json("build %s --json", line);
	int count = (int)json_integer_value(json_object_get(doc, what));

	json_decref(doc);
	return count;
}

static const char *in_world(const char *name)
{
	static char paths[4][300];
	static unsigned int next;
	char *path = paths[next++ % 4];

	snprintf(path, sizeof(paths[0]), "%s/%s", world_folder, name);
	return path;
}

static void make_folder(const char *name)
{
	mkdir(in_world(name), 0755);
	if (world_user)
		CHECK_INT(chown(in_world(name), world_user, world_user), 0);
}

#define RECIPE                                                                 \
	"image: selwick/almanac:9\n"                                           \
	"from: selwick/base\n"                                                 \
	"given: {EDITION: \"9\"}\n"                                            \
	"steps:\n"                                                             \
	"  - put: {/usr/share/tides: ./tides, /etc/gauges/: [a.conf, "         \
	"b.conf]}\n"                                                           \
	"    owner: pilot\n"                                                   \
	"    leave-out: [\"*.bak\"]\n"                                         \
	"  - do: |\n"                                                          \
	"      echo ${EDITION} > /etc/edition\n"                               \
	"      echo $${HOME} $HOME\n"                                          \
	"    network: none\n"                                                  \
	"  - take: {/usr/bin/note: workshop:/out/note}\n"                      \
	"settings: {entrypoint: [cat], command: [/etc/edition],\n"             \
	"  env: {EDITION: \"${EDITION}\"}, port: 80, user: pilot}\n"           \
	"labels: {kind: table}\n"                                              \
	"annotations: {org.opencontainers.image.title: Almanac}\n"             \
	"images:\n"                                                            \
	"  workshop:\n"                                                        \
	"    from: selwick/base\n"                                             \
	"    steps:\n"                                                         \
	"      - do: mkdir /out; echo a note > /out/note\n"                    \
	"        network: none\n"

static void put_recipe(void)
{
	make_folder("tides");
	put_file("tides/north", "5.1 m\n");
	put_file("tides/south.bak", "old\n");
	put_file("a.conf", "a\n");
	put_file("b.conf", "b\n");
	put_file("r.yaml", RECIPE);
}

static void a_recipe_becomes_an_image(void)
{
	struct result *result;
	json_t *doc, *config;

	put_recipe();
	result = hull("build %s", in_world("r.yaml"));
	CODE(result, 0);
	SAYS(result->out, "built selwick/almanac:9");
	SAYS(result->out, "4 run, 0 remembered");
	CHECK_TEXT(hull("run selwick/almanac:9 --network none")->out, "9\n");
	CHECK_TEXT(hull("run selwick/almanac:9 --network none --entrypoint ls "
			"-- /usr/share/tides /etc/gauges")
			   ->out,
		"/etc/gauges:\na.conf\nb.conf\n\n/usr/share/tides:\nnorth\n");
	SAYS(hull("run selwick/almanac:9 --network none --entrypoint ls -- -l "
		  "/etc/gauges/a.conf")
			->out,
		"pilot");
	CHECK_TEXT(hull("run selwick/almanac:9 --network none -- /usr/bin/note")
			   ->out,
		"a note\n");
	doc = hull_shown("selwick/almanac:9");
	config = json_object_get(doc, "config");
	CHECK_TEXT(json_string_value(json_object_get(
			   json_object_get(config, "Labels"), "kind")),
		"table");
	CHECK_TEXT(json_string_value(json_object_get(config, "User")), "pilot");
	json_decref(doc);
	/* One image is listed, and what is remembered is not. */
	result = hull("list images");
	SAYS(result->out, "selwick/almanac");
	CHECK(strstr(result->out, "untagged") == NULL);
	SAYS(hull("sweep")->out, "remembered steps");
	/* No container is left, and none was anybody's. */
	SAYS(hull("list --all")->out, "there are no containers");
}

static void nothing_is_done_twice(void)
{
	char first[160];

	put_recipe();
	snprintf(first, sizeof(first), "%s", built(in_world("r.yaml")));
	CHECK(first[0]);
	CHECK_INT(counted(in_world("r.yaml"), "run"), 0);
	CHECK_INT(counted(in_world("r.yaml"), "remembered"), 4);
	/* What is left out does not count. */
	put_file("tides/south.bak", "other\n");
	CHECK_INT(counted(in_world("r.yaml"), "run"), 0);
	/* A value is a part of those steps that use it. */
	put_file("tides/north", "5.2 m\n");
	SAYS(hull("build %s --plan", in_world("r.yaml"))->err,
		"its files have changed");
	CHECK_INT(counted(in_world("r.yaml"), "run"), 3);
	/* The workshop changes, and what it makes does not. */
	put_file("tides/north", "5.1 m\n");
	CHECK_INT(counted(in_world("r.yaml"), "run"), 0);
	gives(in_world("r.yaml"), first);
	/* What the image is made of stays remembered; the workshop is not a
	 * part of it. */
	CODE(hull("sweep --yes"), 0);
	CHECK_INT(counted(in_world("r.yaml"), "run"), 1);
	CODE(hull("remove selwick/almanac:9"), 0);
	CODE(hull("sweep --yes"), 0);
	SAYS(hull("sweep")->out, "there is nothing to remove");
	CHECK_INT(counted(in_world("r.yaml"), "run"), 4);
	gives(in_world("r.yaml"), first);
	{
		char line[400];

		snprintf(line, sizeof(line), "%s --anew", in_world("r.yaml"));
		gives(line, first);
		snprintf(line, sizeof(line), "%s --given EDITION=10",
			in_world("r.yaml"));
		CHECK_INT(counted(line, "run"), 2);
		CHECK(strcmp(built(line), first) != 0);
	}
}

/* On another day, in another folder, with other times and another umask. */
static void the_same_bytes_everywhere(void)
{
	char first[160], line[700];

	put_recipe();
	snprintf(first, sizeof(first), "%s", built(in_world("r.yaml")));
	CODE(other("rm -rf /tmp/elsewhere"), 0);
	CODE(other("cp -r %s %s", in_world("."), "/tmp/elsewhere"), 0);
	CODE(other("sh -c 'chmod -R g+w /tmp/elsewhere && touch -d 2001-01-01 "
		   "/tmp/elsewhere/a.conf'"),
		0);
	snprintf(line, sizeof(line), "/tmp/elsewhere/r.yaml --anew");
	setenv("LD_PRELOAD",
		"/usr/lib/x86_64-linux-gnu/faketime/"
		"libfaketime.so.1",
		1);
	setenv("FAKETIME", "+400d", 1);
	/* The clock is another one; files are as old as they are. */
	setenv("NO_FAKE_STAT", "1", 1);
	gives(line, first);
	unsetenv("LD_PRELOAD");
	unsetenv("FAKETIME");
	unsetenv("NO_FAKE_STAT");
	setenv("SOURCE_DATE_EPOCH", "1000000000", 1);
	CHECK(strcmp(built(line), first) != 0);
	SAYS(hull("show selwick/almanac:9")->out, "2001-09-09T01:46:40Z");
	unsetenv("SOURCE_DATE_EPOCH");
	CODE(other("rm -rf /tmp/elsewhere"), 0);
}

static void steps_are_joined(void)
{
	json_t *doc;

	put_file("j.yaml",
		"image: selwick/j\nfrom: selwick/base\nsteps:\n"
		"  - join:\n"
		"    - do: mkdir /a; echo big > /a/big; rm /bin/cat\n"
		"    - do: [rm, /a/big]\n"
		"    - do: [sh, -c, 'echo 2 > /a/two; rm -r "
		"/usr/share/selwick']\n"
		"settings: {command: [ls, /a, /usr/share]}\n");
	builds(in_world("j.yaml"));
	CHECK_TEXT(hull("run selwick/j --network none")->out,
		"/a:\ntwo\n\n/usr/share:\n");
	doc = hull_shown("selwick/j");
	CHECK_INT(json_array_size(json_object_get(doc, "layers")), 3);
	json_decref(doc);
	SAYS(hull("changes selwick/base selwick/j")->out, "gone");
}

static void secrets_and_caches_stay_out(void)
{
	struct result *result;

	put_file("s.yaml",
		"image: selwick/s\nfrom: selwick/base\nsteps:\n"
		"  - do: |\n"
		"      test $(cat /run/tidyhull/token) = m00ring-7\n"
		"      date >> /cache/times\n"
		"      wc -l < /cache/times > /count\n"
		"    secret: token\n"
		"    mount: [/cache=volume:tides-cache, /src=./tides]\n"
		"    network: none\n"
		"settings: {command: [cat, /count]}\n");
	make_folder("tides");
	put_file("tides/north", "x");
	put_file("token", "m00ring-7");
	result = hull("build %s", in_world("s.yaml"));
	CODE(result, 2);
	SAYS(result->err, "line 4: the secret \"token\" is missing");
	CODE(hull("build %s --secret token=@file:%s", in_world("s.yaml"),
		     in_world("token")),
		0);
	CHECK_TEXT(hull("run selwick/s --network none")->out, "1\n");
	CODE(hull("build %s --anew --secret token=@file:%s", in_world("s.yaml"),
		     in_world("token")),
		0);
	CHECK_TEXT(hull("run selwick/s --network none")->out, "2\n");
	CODE(hull("run selwick/s --network none -- sh -c 'test -e /cache || "
		  "test -e /src || test -e /run/tidyhull'"),
		1);
	/* A mounted folder counts as what is put. */
	put_file("tides/north", "y");
	SAYS(hull("build %s --plan", in_world("s.yaml"))->err,
		"its files have changed");
	/* One that would be in the layer is found. */
	put_file("t.yaml",
		"image: selwick/t\nfrom: selwick/base\nsteps:\n"
		"  - do: cp /run/tidyhull/token /root/.token\n"
		"    secret: token\n    network: none\n"
		"  - do: export PASSWORD=hunter22 && true\n");
	result = hull("build %s --secret token=@file:%s", in_world("t.yaml"),
		in_world("token"));
	CODE(result, 1);
	SAYS(result->err, "would hold the secret \"token\"");
	SAYS(result->err,
		"line 7: the value of \"PASSWORD\" will be in the "
		"image's history");
}

static void archives_and_patterns(void)
{
	make_folder("tides");
	make_folder("tides/old");
	put_file("tides/north", "n\n");
	put_file("tides/south", "s\n");
	put_file("tides/old/east", "e\n");
	CODE(other("ln %s %s", in_world("tides/north"), in_world("tides/same")),
		0);
	CODE(other("tar czf %s -C %s tides", in_world("t.tar.gz"),
		     in_world(".")),
		0);
	CODE(other("rm %s", in_world("tides/same")), 0);
	CODE(other("ln -s north %s", in_world("tides/link")), 0);
	put_file("p.yaml",
		"image: selwick/p\nfrom: selwick/base\nsteps:\n"
		"  - put: {/opt/un: t.tar.gz}\n    unpack: true\n"
		"  - put: {/opt/some/: 'tides/[ns]*', /opt/l: tides/link}\n"
		"    mode: '0640'\n"
		"  - put: {/opt/all: ./tides, /opt/z: ctx:north, /tmp: tides}\n"
		"    leave-out: [old, 'sou*']\n"
		"  - take: {/opt/taken: links:/t}\n"
		"settings: {command: [sh, -c, 'cd /opt; find . | sort; ls -l "
		"some/north; ls -ld /tmp; stat -c %h un/tides/same "
		"taken/two']}\n"
		"images: {links: {from: selwick/base, steps: [{do: 'mkdir /t; "
		"echo x > /t/one; ln /t/one /t/two', network: none}]}}\n");
	CODE(hull("build %s --with ctx=%s", in_world("p.yaml"),
		     in_world("tides")),
		0);
	SAYS(hull("run selwick/p --network none")->out,
		".\n./all\n./all/link\n./all/north\n./l\n./some\n"
		"./some/north\n./some/south\n./taken\n./taken/one\n"
		"./taken/two\n./un\n./un/tides\n./un/tides/north\n"
		"./un/tides/old\n./un/tides/old/east\n./un/tides/same\n"
		"./un/tides/south\n./z\n-rw-r-----");
	SAYS(hull("run selwick/p --network none")->out, "drwxrwxrwt");
	/* Names of one file stay that. */
	SAYS(hull("run selwick/p --network none")->out, "/tmp\n2\n2\n");
}

/* From nothing, and from a packed file that was just built. */
static void images_from_nothing_and_from_files(void)
{
	CODE(other("cp /bin/busybox %s", in_world("busybox")), 0);
	CODE(other("chmod 755 %s", in_world("busybox")), 0);
	put_file("n.yaml",
		"image: selwick/n\nfrom: nothing\nsteps:\n"
		"  - put: {/bin/sh: ./busybox}\n"
		"  - do: echo made > /made\n    network: none\n"
		"settings: {command: [/bin/sh, -c, 'read x < /made; echo "
		"$x']}\n");
	CODE(hull("build %s --compress zstd", in_world("n.yaml")), 0);
	CHECK_TEXT(hull("run selwick/n --network none")->out, "made\n");
	CODE(hull("pack selwick/n %s", in_world("n.tar")), 0);
	CODE(hull("remove selwick/n"), 0);
	put_file("f.yaml",
		"image: selwick/f\nfrom: ./n.tar\nsteps:\n"
		"  - do: echo more > /made\n    network: none\n");
	builds(in_world("f.yaml"));
	CHECK_TEXT(hull("run selwick/f --network none")->out, "more\n");
	put_file("e.yaml", "image: selwick/e\nfrom: nothing\n");
	SAYS(hull("build %s", in_world("e.yaml"))->err, "would be empty");
}

/* Three builds at once, of an image that needs the same step twice. */
static void no_step_is_done_by_two(void)
{
	pid_t pids[3];
	char name[20];

	put_file("w.yaml",
		"image: selwick/w\nfrom: selwick/base\nsteps:\n"
		"  - take: {/one: one:/t, /two: two:/t}\n"
		"settings: {command: [sh, -c, 'test \"$(cat /one)\" = \"$(cat "
		"/two)\"']}\nimages:\n"
		"  one: {from: selwick/base, steps: [&same {do: 'echo run >> "
		"/c/l; sleep 0.3; date > /t', network: none, mount: "
		"/c=volume:lines}]}\n"
		"  two: {from: selwick/base, steps: [*same]}\n");
	for (size_t i = 0; i < COUNT_OF(pids); i++) {
		snprintf(name, sizeof(name), "w%zu", i);
		pids[i] = hull_start(name, "build %s", in_world("w.yaml"));
	}
	for (size_t i = 0; i < COUNT_OF(pids); i++)
		CHECK_INT(wait_for(pids[i]), 0);
	CODE(hull("run selwick/w --network none"), 0);
	CHECK_TEXT(hull("run selwick/base --network none --mount "
			"/c=volume:lines -- cat /c/l")
			   ->out,
		"run\n");
}

/* The steps before it stay, and the place can be looked at. */
static void a_step_that_fails(void)
{
	struct result *result;

	put_file("x.yaml",
		"image: selwick/x\nfrom: selwick/base\nsteps:\n"
		"  - do: echo one > /one\n    network: none\n"
		"  - do: |\n"
		"      echo before > /two\n"
		"      echo what went wrong >&2\n"
		"      exit 7\n"
		"    network: none\n    env: {MODE: test}\n");
	result = hull("build %s", in_world("x.yaml"));
	CODE(result, 1);
	SAYS(result->err, "line 6");
	SAYS(result->err, "ended with exit code 7");
	SAYS(result->err, "| what went wrong");
	SAYS(result->err, "--enter");
	SAYS(hull("list --all")->out, "there are no containers");
	result = hull_input("cat /one /two; echo $MODE; exit\n", 33,
		"build %s --enter", in_world("x.yaml"));
	CODE(result, 1);
	SAYS(result->out, "one\nbefore\ntest\n");
	SAYS(hull("list --all")->out, "there are no containers");
	CHECK(strstr(hull("list images")->out, "untagged") == NULL);
	CODE(hull("show selwick/x"), 3);
	put_file("y.yaml",
		"image: selwick/y\nfrom: selwick/base\nsteps:\n"
		"  - do: dd if=/dev/zero of=/dev/null bs=1M & kill -9 $$\n"
		"    network: none\n");
	SAYS(hull("build %s", in_world("y.yaml"))->err, "signal KILL");
	put_file("z.yaml",
		"image: selwick/z\nfrom: selwick/base\nsteps:\n"
		"  - do: [nosuch]\n    network: none\n");
	SAYS(hull("build %s", in_world("z.yaml"))->err, "nosuch");
}

/* A keeper that has told the end of its container is still at work there. */
static bool is_tidy(void *arg)
{
	return as_root("sh -c 'cd %s; ls tmp; ls containers'",
		       (const char *)arg)
		       ->out[0] == '\0';
}

/* What it has written goes, also where the state can take nothing any more. */
static void a_step_that_fills_the_disk(void)
{
	static const char *const steps[] = {
		"dd if=/dev/zero of=/big bs=1M count=400",
		"dd if=/dev/urandom of=/big bs=1M count=90; cat /big /big > "
		"/bigger"};
	char store[300], text[300];

	snprintf(store, sizeof(store), "%s", in_world("full/store"));

	CODE(as_root("sh -c 'mkdir full && mount -t tmpfs -o "
		     "size=260M,mode=777 "
		     "none full'"),
		0);
	CODE(hull("unpack -q --root %s %s/demo-images", store, world_build), 0);
	for (size_t i = 0; i < COUNT_OF(steps); i++) {
		struct result *result;

		snprintf(text, sizeof(text),
			"image: selwick/full\nfrom: selwick/base\nsteps:\n"
			"  - do: '%s'\n    network: none\n",
			steps[i]);
		put_file("full.yaml", text);
		result = hull(
			"build --root %s %s", store, in_world("full.yaml"));
		CODE(result, 1);
		SAYS(result->err, "line 4");
		SAYS(hull("list --all --root %s", store)->out,
			"there are no containers");
		/* Files with subordinate owners go with the next command that
		 * may remove them. */
		CODE(hull("run --root %s selwick/base --network none -- true",
			     store),
			0);
		CHECK(wait_until(is_tidy, store));
	}
	/* A user's networks may still be at their end. */
	CODE(as_root("umount --lazy full"), 0);
}

static void mistakes_in_recipes_are_told_at_once(void)
{
	static const struct {
		const char *text, *says;
	} bad[] = {{"", "is empty"}, {"- a\n", "line 1, column 1"},
		{"from: selwick/base\nstepps: []\n",
			"line 2, column 1: the recipe has no key \"stepps\""},
		{"image: x\n", "does not say what it is made from"},
		{"from: nothing\nsteps: [{do: ls}]\n",
			"nothing that the first step could run in"},
		{"from: b\nsteps: [{put: {usr: ./x}}]\n",
			"line 2, column 16: \"usr\" is not an absolute path"},
		{"from: b\nsteps: [{do: ls, put: {/a: b}}]\n",
			"either \"put\" or \"do\""},
		{"from: b\nsteps: [{do: \"${X}\"}]\n", "no value is given for"},
		{"from: b\ngiven: {X: }\n", "\"X\" has no value"},
		{"from: a\nimages: {a: {from: c}, c: {from: a}}\n",
			"need one another: a, c"},
		{"from: b\nsettings: {restart: always}\n",
			"an image cannot hold this setting"},
		{"from: b\nsteps: [{take: {/x: workshop}}]\n",
			"is not IMAGE:/PATH"},
		{"from: b\ntime: tomorrow\n", "is not a time"},
		{"from: b\nfrom: c\n", "stands here twice"},
		{"from: b\nsteps: [{put: {/a: b}, mode: rwx}]\n",
			"is not a mode"},
		{"from: b\nsteps: [{join: [{join: []}]}]\n",
			"a joined step holds no other"},
		{"from: \"b\n", "line"}};
	struct result *result;

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		put_file("bad.yaml", bad[i].text);
		result = hull("build %s", in_world("bad.yaml"));
		CODE(result, 2);
		SAYS(result->err, bad[i].says);
	}
	put_file("bad.yaml",
		"imag: x\nfrom: b\nsteps:\n  - dot: ls\n"
		"  - put: {a: b}\n  - do: ''\n");
	result = hull("build %s", in_world("bad.yaml"));
	CODE(result, 2);
	SAYS(result->err, "4 problems");
	SAYS(result->err, "did you mean \"image\"?");
	CODE(hull("build %s/nosuch.yaml", world_folder), 3);
	put_file("ok.yaml", "from: selwick/base\nimage: selwick/ok\n");
	SAYS(hull("build %s --given X=1", in_world("ok.yaml"))->err,
		"has no value \"X\"");
	CODE(hull("build %s --with x=%s/nosuch", in_world("ok.yaml"),
		     world_folder),
		3);
	builds(in_world("ok.yaml"));
}

/* Neither by "..", nor by a link, nor from the root. */
static void nothing_is_put_from_outside(void)
{
	static const char *const sources[] = {"../secret", "tides/../../secret",
		"/etc/passwd", "out", "tides/l", "dir/passwd", "other:x"};
	char text[300];

	make_folder("tides");
	CODE(other("ln -s /etc/passwd %s", in_world("out")), 0);
	CODE(other("ln -s ../../../etc/passwd %s", in_world("tides/l")), 0);
	CODE(other("ln -s /etc %s", in_world("dir")), 0);
	for (size_t i = 0; i < COUNT_OF(sources); i++) {
		struct result *result;

		snprintf(text, sizeof(text),
			"image: selwick/o\nfrom: selwick/base\nsteps:\n"
			"  - put: {/x: '%s'}\n",
			sources[i]);
		put_file("o.yaml", text);
		result = hull("build %s", in_world("o.yaml"));
		CODE(result, 2);
		SAYS(result->err, "line 4");
		SAYS(result->err, "--with");
	}
	/* As a part of a folder a link stays a link. */
	put_file("o.yaml",
		"image: selwick/o\nfrom: selwick/base\nsteps:\n"
		"  - put: {/x: tides}\n"
		"settings: {command: [readlink, /x/l]}\n");
	builds(in_world("o.yaml"));
	SAYS(hull("run selwick/o --network none")->out, "../etc/passwd");
}

/* Each example of the documentation is a whole recipe. */
static void the_documentation_is_true(void)
{
	char path[700], *text, *at;
	int examples = 0;
	long len;
	FILE *file;

	make_folder("tides");
	make_folder("site");
	put_file("tides/north", "north 5.1\n");
	put_file("tides/south", "south 4.8\n");
	put_file("site/index.html", "tides\n");
	put_file("token", "m00ring-7");
	CODE(other("cp %s/demo/almanac %s", world_build, in_world("almanac")),
		0);
	CODE(other("tar czf %s -C %s tides", in_world("tools.tar.gz"),
		     in_world(".")),
		0);
	snprintf(path, sizeof(path), "%s/../docs/recipes.md", world_build);
	file = fopen(path, "r");
	CU_ASSERT_PTR_NOT_NULL_FATAL(file);
	fseek(file, 0, SEEK_END);
	len = ftell(file);
	rewind(file);
	text = calloc(1, (size_t)len + 1);
	CHECK_INT(fread(text, 1, (size_t)len, file), len);
	fclose(file);
	for (at = text; (at = strstr(at, "```yaml\n")); examples++) {
		char *end = strstr(at + 8, "```\n");
		struct result *result;

		*end = '\0';
		/* Not every user can set limits. */
		if (strstr(at + 8, "limit:") && world_user &&
			!world_has_controllers()) {
			at = end + 1;
			continue;
		}
		put_file("example.yaml", at + 8);
		result = hull("build %s --secret token=@file:%s",
			in_world("example.yaml"), in_world("token"));
		CODE(result, 0);
		if (result->code)
			printf("\n    %s\n    %s\n", at + 8, result->err);
		at = end + 1;
	}
	free(text);
	CHECK(examples >= 12);
	CHECK_TEXT(hull("run selwick/my-almanac:2 --network none")->out,
		"north 5.1\nsouth 4.8\n");
	CHECK_TEXT(hull("run selwick/settled --network none")->out, "north\n");
	CHECK_TEXT(hull("run selwick/joined --network none -- ls -d /tides "
			"/work")
			   ->out,
		"/tides\n");
}

static void the_demo_recipes_are_the_same_everywhere(void)
{
	char first[160], second[160], line[700];

	snprintf(
		line, sizeof(line), "%s/demo-recipes/tables.yaml", world_build);
	snprintf(first, sizeof(first), "%s", built(line));
	snprintf(
		line, sizeof(line), "%s/demo-recipes/notice.yaml", world_build);
	snprintf(second, sizeof(second), "%s", built(line));
	CHECK(first[0] && second[0]);
	CODE(other("rm -rf /tmp/elsewhere"), 0);
	CODE(other("cp -r %s/demo-recipes /tmp/elsewhere", world_build), 0);
	setenv("LD_PRELOAD",
		"/usr/lib/x86_64-linux-gnu/faketime/libfaketime.so.1", 1);
	setenv("FAKETIME", "+1000d", 1);
	setenv("NO_FAKE_STAT", "1", 1);
	gives("/tmp/elsewhere/tables.yaml --anew", first);
	gives("/tmp/elsewhere/notice.yaml --anew", second);
	unsetenv("LD_PRELOAD");
	unsetenv("FAKETIME");
	unsetenv("NO_FAKE_STAT");
	CODE(other("rm -rf /tmp/elsewhere"), 0);
	SAYS(hull("run selwick/tables:1 --network none -- south")->out,
		"gauge south, 3 days\nday 1");
}

#define SPECS                                                                  \
	"/usr/share/gocode/src/github.com/opencontainers/image-spec/schema"

/* A file of the layout that was unpacked into the folder. */
static void is_valid(const char *folder, const char *digest, const char *schema)
{
	CODE(other("/usr/bin/python3 %s/../tests/e2e/validate.py " SPECS
		   "/%s %s/blobs/sha256/%s",
		     world_build, schema, folder, digest + 7),
		0);
}

static const char *root_of(const char *pid)
{
	static char path[100];

	snprintf(path, sizeof(path), "/proc/%.20s/root", pid);
	return path;
}

/* Kind, mode and owner of all that is in the folder, and of what is no folder
 * its links and time. */
static void list_root(char text[OUTPUT_BYTES], const char *folder)
{
	/* Links and times of folders are an overlay's own, and change where a
	 * deletion is carried out by hand. */
	struct result *result = as_root(
		"sh -c 'cd %s && find . -xdev -mindepth 1 \\( -type d -printf "
		"\"%%P %%y %%m %%U:%%G\\n\" \\) -o -printf \"%%P %%y %%m "
		"%%U:%%G %%l %%n %%T@\\n\" | grep -v "
		"\"^\\(etc\\|dev\\|proc\\|sys\\|run\\)\" | sort'",
		folder);

	CODE(result, 0);
	snprintf(text, OUTPUT_BYTES, "%s", result->out);
}

/* What other tools make of it: valid by the schema, and unpacked by GNU tar it
 * is what a container has. */
static void others_read_what_was_built(void)
{
	struct result *result;
	static char text[OUTPUT_BYTES], other_text[OUTPUT_BYTES];
	char manifest[160];
	json_t *doc, *layers, *layer;
	json_error_t why;
	size_t i;

	put_recipe();
	put_file("g.yaml",
		"image: selwick/g\nfrom: selwick/almanac:9\nsteps:\n"
		"  - do: |\n"
		"      mkdir -m 2775 /opt; ln -s ../x /opt/l; mkfifo /opt/p\n"
		"      echo a > /opt/a; ln /opt/a /opt/b; chmod 4711 /opt/a\n"
		"      chown 33:44 /opt/p; rm -r /usr/share/tides\n"
		"      dd if=/dev/zero of=/opt/holes bs=1M seek=5 count=1\n"
		"    network: none\n    user: root\n"
		"annotations: {org.opencontainers.image.title: Table}\n");
	builds(in_world("r.yaml"));
	snprintf(manifest, sizeof(manifest), "%s", built(in_world("g.yaml")));
	CODE(hull("pack selwick/g %s", in_world("g.tar")), 0);
	CODE(as_root("sh -c 'mkdir g g/layout g/root && tar xf "
		     "%s -C g/layout'",
		     in_world("g.tar")),
		0);
	is_valid("g/layout", manifest, "image-manifest-schema.json");
	result = as_root("cat g/layout/blobs/sha256/%s", manifest + 7);
	doc = json_loads(result->out, 0, &why);
	is_valid("g/layout",
		json_string_value(json_object_get(
			json_object_get(doc, "config"), "digest")),
		"config-schema.json");
	layers = json_object_get(doc, "layers");
	CHECK_INT(json_array_size(layers), 6);
	json_array_foreach(layers, i, layer)
	{
		const char *digest =
			json_string_value(json_object_get(layer, "digest"));

		CODE(as_root("sh -c 'cd g/root && tar xpzf "
			     "../layout/blobs/sha256/%s && find . -name "
			     "\".wh.*\" | while read f; do rm -r "
			     "\"$f\" \"${f%%%%/.wh.*}/${f##*/.wh.}\"; done'",
			     digest + 7),
			0);
	}
	json_decref(doc);
	/* What a container has, but for the places of its mounts. */
	CODE(hull("launch selwick/g --name box --network none --users host "
		  "--entrypoint sleep -- 1000"),
		0);
	list_root(text, root_of(field("box", "pid")));
	CHECK(strlen(text) > 1000);
	/* A user's owners are others on the host. */
	if (!world_user) {
		list_root(other_text, "g/root");
		CHECK_TEXT(other_text, text);
		if (strcmp(other_text, text) != 0)
			printf("\n=== by GNU tar\n%s=== inside\n%s", other_text,
				text);
	}
	CODE(as_root("sh -c 'cd /proc/%s/root/opt && cmp a "
		     "%s/g/root/opt/a && cmp holes %s/g/root/opt/holes'",
		     field("box", "pid"), world_folder, world_folder),
		0);
	CODE(hull("remove --force box"), 0);
	CODE(as_root("rm -rf g"), 0);
}

/* Killed at any moment: the next command finds nothing of it, and the next
 * build goes on where it was. */
static void a_killed_build_leaves_nothing(void)
{
	char first[160];

	put_file("k.yaml",
		"image: selwick/k\nfrom: selwick/base\nsteps:\n"
		"  - do: echo 1 > /1\n    network: none\n"
		"  - do: sleep 0.05; echo 2 > /2\n    network: none\n"
		"  - do: dd if=/dev/zero of=/3 bs=1M count=4\n"
		"    network: none\n");
	for (int ms = 3; ms < 200; ms += 13) {
		pid_t pid = hull_start(
			"out", "build %s --anew", in_world("k.yaml"));

		usleep((useconds_t)ms * 1000);
		kill(pid, SIGKILL);
		wait_for(pid);
	}
	for (int tries = 0; tries < 100 &&
		!strstr(hull("list --all")->out, "there are no containers");
		tries++)
		usleep(50000);
	SAYS(hull("list --all")->out, "there are no containers");
	snprintf(first, sizeof(first), "%s", built(in_world("k.yaml")));
	CHECK(first[0]);
	SAYS(hull("run selwick/k --network none -- sh -c 'cat /1 /2; wc -c < "
		  "/3'")
			->out,
		"1\n2\n4194304");
	CODE(hull("remove selwick/k"), 0);
	CODE(hull("sweep --yes"), 0);
	SAYS(hull("sweep")->out, "there is nothing to remove");
}

/* Its files are looked for where the caller is. */
static void a_recipe_may_come_by_a_pipe(void)
{
	static const char *const ways[][2] = {
		{"|", "-"}, {"|", "/dev/stdin"}, {">pipe &", "pipe"}};
	char first[100] = "";

	CODE(hull("pull selwick/base"), 0);
	CODE(other("sh -c 'mkdir site; echo tide >site/page; mkfifo pipe'"), 0);
	put_file("piped.yaml",
		"from: selwick/base\nsteps:\n  - put:\n      /page: "
		"site/page\n");
	for (size_t i = 0; i < COUNT_OF(ways); i++) {
		struct result *result = other(
			"sh -c 'cat piped.yaml %s %s/tidyhull build -q %s'",
			ways[i][0], world_build, ways[i][1]);

		CODE(result, 0);
		if (i == 0)
			snprintf(first, sizeof(first), "%.99s", result->out);
		CHECK(*first != 0);
		CHECK_TEXT(result->out, first);
	}
}

static const CU_TestInfo tests[] = {
	{"a recipe may come by a pipe", a_recipe_may_come_by_a_pipe},
	{"a recipe becomes an image", a_recipe_becomes_an_image},
	{"nothing is done twice", nothing_is_done_twice},
	{"the same bytes everywhere", the_same_bytes_everywhere},
	{"steps are joined", steps_are_joined},
	{"secrets and caches stay out", secrets_and_caches_stay_out},
	{"archives and patterns", archives_and_patterns},
	{"images from nothing and from files",
		images_from_nothing_and_from_files},
	{"no step is done by two", no_step_is_done_by_two},
	{"a step that fails", a_step_that_fails},
	{"a step that fills the disk", a_step_that_fills_the_disk},
	{"mistakes in recipes are told at once",
		mistakes_in_recipes_are_told_at_once},
	{"nothing is put from outside", nothing_is_put_from_outside},
	{"others read what was built", others_read_what_was_built},
	{"the documentation is true", the_documentation_is_true},
	{"the demo recipes are the same everywhere",
		the_demo_recipes_are_the_same_everywhere},
	{"a killed build leaves nothing", a_killed_build_leaves_nothing},
	CU_TEST_INFO_NULL};

const struct suite suite_build = {"build", tests};
