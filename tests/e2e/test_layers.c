/* Layers as odd as they come, and hostile ones, all the way from a registry
 * into a container. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"
#include "e2e/layouts.h"

#define FILE_ENTRY(name, data)                                                 \
	{                                                                      \
		name, AE_IFREG, 0644, data, 0, NULL                            \
	}
#define DIR_ENTRY(name)                                                        \
	{                                                                      \
		name, AE_IFDIR, 0755, NULL, 0, NULL                            \
	}
#define END_ENTRY                                                              \
	{                                                                      \
		NULL, 0, 0, NULL, 0, NULL                                      \
	}
#define MANY 200

static char layer_files[MANY + 1][32];
static const char *files[MANY + 1];

/* The lowest layer is the demo's, so that there is a shell. */
static void begin(void)
{
	copy_images("copy");
	CODE(other("cp copy/blobs/sha256/%s base.gz",
		     layout_layer("copy", "selwick/gauge:latest", 0) + 7),
		0);
	files[0] = "base.gz";
}

static void serve(void)
{
	int port = start_chandler("copy", NULL, "%s", "");

	write_config(&port, 1);
}

static void two_hundred_layers_make_one_root(void)
{
	begin();
	for (int i = 1; i <= MANY; i++) {
		char own[32], text[32];
		struct tar_entry entries[] = {FILE_ENTRY("tide/last", text),
			FILE_ENTRY(own, text), END_ENTRY};

		snprintf(own, sizeof(own), "tide/%d", i);
		snprintf(text, sizeof(text), "layer %d\n", i);
		snprintf(layer_files[i], sizeof(layer_files[i]), "l%d.tar", i);
		files[i] = layer_files[i];
		layout_tar(files[i], entries);
	}
	layout_add_image("copy", "selwick/many:latest", files, MANY + 1);
	serve();
	CODE(hull("pull selwick/many"), 0);
	CHECK_TEXT(hull("run selwick/many -- cat /tide/last /tide/1 /tide/137")
			   ->out,
		"layer 200\nlayer 1\nlayer 137\n");
	CHECK_TEXT(hull("run selwick/many -- sh -c 'ls /tide | wc -l'")->out,
		"201\n");
}

static void layers_change_what_is_below(void)
{
	static const struct tar_entry below[] = {DIR_ENTRY("a"),
		FILE_ENTRY("a/gone", "x"), FILE_ENTRY("a/stays", "x"),
		FILE_ENTRY("a/new", "old"), DIR_ENTRY("b"),
		FILE_ENTRY("b/hidden", "x"), DIR_ENTRY("turn"),
		FILE_ENTRY("turn/x", "x"), FILE_ENTRY("back", "file"),
		DIR_ENTRY("whole"), FILE_ENTRY("whole/x", "x"), END_ENTRY};
	static const struct tar_entry middle[] = {FILE_ENTRY("a/.wh.gone", ""),
		FILE_ENTRY("a/new", "new"), FILE_ENTRY("b/.wh..wh..opq", ""),
		FILE_ENTRY("b/own", "x"), FILE_ENTRY("turn", "a file"),
		DIR_ENTRY("back"), FILE_ENTRY("back/y", "y"),
		FILE_ENTRY(".wh.whole", ""), END_ENTRY};
	static const struct tar_entry above[] = {DIR_ENTRY("turn"),
		FILE_ENTRY("turn/z", "z"), FILE_ENTRY("back", "file again"),
		DIR_ENTRY("whole"), FILE_ENTRY("whole/y", "y"), END_ENTRY};
	struct result *result;

	begin();
	layout_tar("one.tar", below);
	layout_tar("two.tar", middle);
	layout_tar("three.tar", above);
	CODE(other("gzip two.tar"), 0);
	CODE(other("zstd -q three.tar"), 0);
	files[1] = "one.tar";
	files[2] = "two.tar.gz";
	files[3] = "three.tar.zst";
	layout_add_image("copy", "selwick/turned:latest", files, 4);
	serve();
	result = hull("run selwick/turned -- sh -c 'cat /a/new /back; cd /; "
		      "find a b turn whole -type f | sort'");
	CODE(result, 0);
	CHECK_TEXT(result->out,
		"newfile againa/new\na/stays\nb/own\nturn/z\nwhole/y\n");
}

/* The types that the specification lists as compatible are read alike, and
 * kept as they are. */
static void compatible_types_are_read_alike(void)
{
	static const char vendor[] = "application/vnd.docker.";
	json_t *manifest, *index;
	const char *digest;
	char type[128];
	size_t size;

	begin();
	manifest = layout_get(
		"copy", layout_digest("copy", "selwick/gauge:latest"));
	snprintf(type, sizeof(type), "%sdistribution.manifest.v2+json", vendor);
	json_object_set_new(manifest, "mediaType", json_string(type));
	snprintf(type, sizeof(type), "%scontainer.image.v1+json", vendor);
	json_object_set_new(json_object_get(manifest, "config"), "mediaType",
		json_string(type));
	snprintf(type, sizeof(type), "%simage.rootfs.diff.tar.gzip", vendor);
	for (size_t i = 0; i < 3; i++)
		json_object_set_new(
			json_array_get(json_object_get(manifest, "layers"), i),
			"mediaType", json_string(type));
	digest = layout_put("copy", manifest, &size);
	json_decref(manifest);
	snprintf(type, sizeof(type), "%sdistribution.manifest.v2+json", vendor);
	index = json_pack("{s:i s:[{s:s s:s s:I s:{s:s s:s}}]}",
		"schemaVersion", 2, "manifests", "mediaType", type, "digest",
		digest, "size", (json_int_t)size, "platform", "os", "linux",
		"architecture", "amd64");
	snprintf(type, sizeof(type), "%sdistribution.manifest.list.v2+json",
		vendor);
	json_object_set_new(index, "mediaType", json_string(type));
	digest = layout_put("copy", index, &size);
	json_decref(index);
	layout_name("copy", digest, type, size, "selwick/alike:latest");
	serve();
	CODE(hull("pull selwick/alike --platform linux/amd64"), 0);
	CODE(hull("show selwick/alike"), 0);
	CHECK(file_holds(
		"store/images/index.json", "distribution.manifest.v2+json"));
}

static void what_tar_can_hold_comes_out(void)
{
	struct result *result;

	begin();
	put_file("make",
		"set -e\nmkdir t; cd t\n"
		"truncate -s 200M sparse; echo end >>sparse\n"
		"echo m >marked; setfattr -n user.tide -v high marked 2>"
		"/dev/null || python3 -c 'import os;os.setxattr(\"marked\","
		"\"user.tide\",b\"high\")'\n"
		"mkdir -p \"M\303\266we\"; echo u >\"M\303\266we/\316\261\"\n"
		"mkfifo pipe; mknod null c 1 3; chmod 644 null\n"
		"echo s >set; chown 12:34 set; chmod 6755 set\n"
		"touch -d 1999-12-31T23:59:59Z old\n"
		"ln set hard; ln -s /nowhere soft\n"
		"tar --xattrs --format=posix -Scf ../odd.tar .\n"
		"cd ..; tar --format=gnu -C t -Scf gnu.tar sparse\n"
		"tar --format=v7 -C t -cf v7.tar old hard set\n");
	CODE(other("sh make"), 0);
	files[1] = "odd.tar";
	files[2] = "gnu.tar";
	files[3] = "v7.tar";
	layout_add_image("copy", "selwick/odd:latest", files, 4);
	serve();
	result = hull("run selwick/odd -- sh -c 'cd /; stat -c %%n=%%s=%%a=%%u:"
		      "%%g=%%h sparse set hard; tail -c 4 sparse; cat "
		      "M*/*; stat -c %%F pipe null; stat -c %%Y old; "
		      "readlink soft; du -k sparse | cut -f 1'");
	CODE(result, 0);
	CHECK_TEXT(result->out,
		"sparse=209715204=644=0:0=1\nset=2=6755=12:34=2\n"
		"hard=2=6755=12:34=2\nend\nu\nfifo\n"
		"character special file\n946684799\n/nowhere\n4\n");
	/* The tree has not grown by what is not there. */
	CHECK(strncmp(other("du -sk --total store/trees")->out, "3", 1) != 0 ||
		atoi(other("du -sk store/trees")->out) < 100000);
}

/* A layer that is refused, by its number and the entry's name. */
static void is_refused(const char *file, const char *wanted)
{
	struct result *result;

	files[1] = file;
	layout_add_image("copy", "selwick/bad:latest", files, 2);
	serve();
	result = hull("pull selwick/bad");
	if (result->code == 0)
		printf("\n    accepted: %s\n", file);
	CODE(result, 1);
	SAYS(result->err, "layer 2 of 2 (sha256:");
	SAYS(result->err, wanted);
	SAYS(hull("list images")->out, "there are no images");
	/* Nothing of it is left, and nothing is outside. */
	CHECK_TEXT(other("find store/tmp store/trees -mindepth 1")->out, "");
	CHECK(access("/var/tmp/hull-escaped", F_OK) != 0);
	CODE(other("cp %s/demo-images/index.json copy/index.json", world_build),
		0);
}

static void hostile_archives_are_refused_by_name(void)
{
	static const struct tar_entry up[] = {
		FILE_ENTRY("../../../../../../var/tmp/hull-escaped", "x"),
		END_ENTRY};
	static const struct tar_entry link[] = {
		{"l", 0, 0644, "../../etc/passwd", 0, NULL}, END_ENTRY};

	begin();
	layout_tar("up.tar", up);
	is_refused("up.tar",
		"\"../../../../../../var/tmp/hull-escaped\" leads out of the "
		"layer with \"..\"");
	layout_tar("link.tar", link);
	is_refused("link.tar", "leads out of the layer with \"..\"");
	CODE(other("sh -c 'head -c 5000 /dev/urandom >junk.tar'"), 0);
	is_refused("junk.tar", "archive");
	CODE(other("sh -c 'tar -cf whole.tar config.yaml; head -c 600 "
		   "whole.tar "
		   ">cut.tar'"),
		0);
	is_refused("cut.tar", "config.yaml");
}

static void links_inside_lead_nowhere_else(void)
{
	static const struct tar_entry entries[] = {
		{"way", AE_IFLNK, 0777, "/var/tmp", 0, NULL},
		FILE_ENTRY("way/hull-escaped", "x"),
		{"up", AE_IFLNK, 0777, "../../../../../..", 0, NULL},
		FILE_ENTRY("up/var/tmp/hull-escaped2", "x"), END_ENTRY};

	begin();
	layout_tar("way.tar", entries);
	files[1] = "way.tar";
	layout_add_image("copy", "selwick/way:latest", files, 2);
	serve();
	CODE(hull("pull selwick/way"), 0);
	CHECK_TEXT(hull("run selwick/way -- sh -c 'cat /var/tmp/hull-*'")->out,
		"xx");
	CHECK(access("/var/tmp/hull-escaped", F_OK) != 0);
	CHECK(access("/var/tmp/hull-escaped2", F_OK) != 0);
}

static void bombs_are_defused(void)
{
	begin();
	CODE(other("sh -c 'mkdir b; truncate -s 1200M b/zeros; tar -C b -cf - "
		   "zeros | "
		   "gzip -9 >bomb.gz; rm b/zeros'"),
		0);
	is_refused("bomb.gz", "unpacks to more than 400 times its size");
}

/* A small layer can name more files than the disk has inodes. */
static void inodes_are_left_to_others(void)
{
	begin();
	CODE(other("sh -c 'mkdir many; cd many; seq 30000 | xargs touch; cd "
		   "..; "
		   "tar -cf - many | gzip >many.gz; rm -r many'"),
		0);
	CODE(other("mkdir store"), 0);
	CODE(as_root("mount -t tmpfs -o size=400m,nr_inodes=20000,mode=700,"
		     "uid=%d,gid=%d store %s",
		     world_user, world_user, world_store),
		0);
	is_refused("many.gz", "inodes are free, which are left to others");
	/* What an image of usual size needs is there. */
	CODE(hull("pull selwick/base"), 0);
	CODE(hull("remove selwick/base"), 0);
	CODE(as_root("umount -l %s", world_store), 0);
}

static const CU_TestInfo tests[] = {
	{"two hundred layers make one root", two_hundred_layers_make_one_root},
	{"layers change what is below", layers_change_what_is_below},
	{"compatible types are read alike", compatible_types_are_read_alike},
	{"what tar can hold comes out", what_tar_can_hold_comes_out},
	{"hostile archives are refused by name",
		hostile_archives_are_refused_by_name},
	{"links inside lead nowhere else", links_inside_lead_nowhere_else},
	{"bombs are defused", bombs_are_defused},
	{"inodes are left to others", inodes_are_left_to_others},
	CU_TEST_INFO_NULL};

const struct suite suite_layers = {"layers", tests};
