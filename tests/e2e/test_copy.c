/* copy: in, out, across, as archives, and nowhere else. */
#include <endian.h>
#include <fcntl.h>
#include <linux/capability.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/xattr.h>
#include <unistd.h>

#include "e2e/harness.h"

static void launch_box(const char *more)
{
	CODE(hull("launch selwick/base --name box --network none %s -- sleep "
		  "1000",
		     more),
		0);
}

static void make_tree(void)
{
	CODE(other("sh -c 'mkdir -p tree/deep/er; echo chart >tree/chart; echo "
		   "low >tree/deep/er/tide; ln -s ../chart tree/deep/link; ln "
		   "-s nowhere tree/loose; chmod 640 tree/chart; chmod 700 "
		   "tree/deep; touch -d 2020-01-02 tree/chart'"),
		0);
}

static const char *const same_tree =
	"sh -c 'cd %s && find . | sort && cat chart deep/er/tide && readlink "
	"deep/link loose && stat -c %%a,%%Y chart deep/er/tide | head -n1 "
	"&& "
	"stat -c %%a deep'";

static void check_same(const char *folder)
{
	char wanted[4096];

	snprintf(wanted, sizeof(wanted), "%.4000s",
		other(same_tree, "tree")->out);
	CHECK(strlen(wanted) > 60);
	CHECK_TEXT(other(same_tree, folder)->out, wanted);
}

static void a_tree_goes_in_and_out(void)
{
	struct result *result;

	make_tree();
	launch_box("");
	result = hull("copy tree box:/srv");
	CODE(result, 0);
	SAYS(result->out, "copied ");
	CODE(hull("exec box -- cat /srv/tree/deep/link"), 0);
	CODE(hull("copy box:/srv/tree back"), 0);
	check_same("back");
	/* Into a folder that is there, under its own name. */
	CODE(other("mkdir shelf"), 0);
	CODE(hull("copy box:/srv/tree/ shelf"), 0);
	check_same("shelf/tree");
	/* One file, and another name. */
	CODE(hull("copy box:/srv/tree/chart one"), 0);
	CHECK(file_holds("one", "chart"));
	CODE(hull("copy one box:/srv/tree/two"), 0);
	CHECK_TEXT(hull("exec box -- cat /srv/tree/two")->out, "chart\n");
	CODE(hull("stop box"), 0);
	/* The same with one that does not run. */
	CODE(hull("copy one box:/srv/late"), 0);
	CODE(hull("copy box:/srv/tree/deep rest"), 0);
	CHECK(file_holds("rest/er/tide", "low"));
	CODE(hull("start box"), 0);
	CHECK_TEXT(hull("exec box -- cat /srv/late")->out, "chart\n");
	CODE(hull("remove --force box"), 0);
	as_root("rm -rf %s/tree %s/back %s/shelf %s/rest", world_folder,
		world_folder, world_folder, world_folder);
}

static void mode_is(const char *name, mode_t mode)
{
	char path[300];
	struct stat st;

	snprintf(path, sizeof(path), "%s/%s", world_folder, name);
	CHECK_INT(stat(path, &st), 0);
	CHECK_INT(st.st_mode & 07777, mode);
}

/* A container that swaps each new name for a link to a file of the host, while
 * files come: the host's file and folder keep their modes, owners and times. */
static void swapped_names_change_nothing_outside(void)
{
	static const char *const victims[] = {"secret", "vault"};

	put_file("secret", "of the host\n");
	CODE(other("sh -c 'chmod 600 secret; mkdir -m 700 vault; touch -d "
		   "2020-01-02 secret vault; mkdir -p many/tree; cd many/tree; "
		   "for i in $(seq 1500); do echo $i >f$i; done; chmod 4777 "
		   "f*; chmod 1777 .; tar cf ../../many.tar .'"),
		0);
	for (size_t i = 0; i < COUNT_OF(victims); i++) {
		char path[300];
		struct stat st;

		CODE(hull("launch selwick/base --name box --network none "
			  "--mount /inside=%s/inside,ro -- sh -c 'mkdir /w; "
			  "chmod 777 /w; exec /inside/swap /w %s/%s'",
			     world_build, world_folder, victims[i]),
			0);
		for (int k = 0;
			k < 500 && !strstr(hull("logs box")->out, "ready"); k++)
			usleep(10000);
		/* Some fail, as their names are gone: that is fair. */
		for (int k = 0; k < 3; k++) {
			other("sh -c '%s/tidyhull copy - box:/w --root %s "
			      "<many.tar'",
				world_build, world_store);
			hull("copy many/tree box:/w/");
			hull("copy many/tree/f1 box:/w/f1");
		}
		mode_is("secret", 0600);
		mode_is("vault", 0700);
		snprintf(path, sizeof(path), "%s/%s", world_folder, victims[i]);
		CHECK_INT(stat(path, &st), 0);
		CHECK_INT(st.st_uid, world_user);
		CHECK(st.st_mtim.tv_sec < 1600000000);
		CODE(hull("remove --force box"), 0);
	}
	as_root("rm -rf %s/many %s/vault %s/secret %s/many.tar", world_folder,
		world_folder, world_folder, world_folder);
}

/* What comes out of a container does not run as the caller. */
static void set_id_bits_stay_inside(void)
{
	launch_box("");
	CODE(hull("exec box -- sh -c 'cp /bin/busybox /tool; chmod 6755 /tool; "
		  "mkdir /box; chmod 2755 /box'"),
		0);
	CODE(hull("copy box:/tool tool"), 0);
	mode_is("tool", 0755);
	CODE(hull("copy box:/box folder"), 0);
	mode_is("folder", 0755);
	/* Inside, a program of root's for the container's user: neither. */
	CODE(hull("copy --owner 1000:1000 box:/tool box:/tool2"), 0);
	CHECK_TEXT(hull("exec box -- stat -c %%a /tool2")->out, "755\n");
	CODE(hull("remove --force box"), 0);
	as_root("rm -rf %s/tool %s/folder", world_folder, world_folder);
}

/* A container can name terabytes that are holes. */
static void holes_stay_holes(void)
{
	char path[300];
	struct stat st;

	launch_box("");
	CODE(hull("exec box -- sh -c 'echo begin >/sparse; dd if=/dev/zero "
		  "of=/sparse bs=1 count=1 seek=2000000000000 2>/dev/null; "
		  "echo end >>/sparse'"),
		0);
	CODE(hull("copy box:/sparse sparse"), 0);
	snprintf(path, sizeof(path), "%s/sparse", world_folder);
	CHECK_INT(stat(path, &st), 0);
	CHECK_INT(st.st_size, 2000000000005);
	CHECK(st.st_blocks < 1000);
	CHECK_TEXT(other("tail -c 4 sparse")->out, "end\n");
	CHECK_TEXT(other("head -c 6 sparse")->out, "begin\n");
	/* As an archive, which another tool reads. */
	CODE(other("sh -c '%s/tidyhull copy box:/sparse - --root %s >a.tar && "
		   "test $(stat -c %%s a.tar) -lt 200000 && mkdir unpacked && "
		   "tar -C unpacked -xf a.tar && cmp -n 100 unpacked/sparse "
		   "sparse && tail -c 4 unpacked/sparse | grep -q end && test "
		   "$(stat -c %%s unpacked/sparse) = 2000000000005'",
		     world_build, world_store),
		0);
	as_root("rm -r %s/unpacked %s/a.tar", world_folder, world_folder);
	CODE(hull("copy sparse box:/again"), 0);
	CHECK_TEXT(hull("exec box -- tail -c 4 /again")->out, "end\n");
	CODE(hull("remove --force box"), 0);
	as_root("rm %s", path);
}

static void owners_are_who_they_should_be(void)
{
	struct stat st;
	char path[300];

	put_file("page", "tide tables");
	launch_box("--user pilot");
	CODE(hull("copy page box:/tmp/page"), 0);
	CHECK_TEXT(hull("exec box --user 0 -- stat -c %%u /tmp/page")->out,
		"1000\n");
	CODE(hull("exec box -- cat /tmp/page"), 0);
	CODE(hull("copy --owner 7:8 page box:/tmp/seven"), 0);
	CHECK_TEXT(
		hull("exec box -- stat -c %%u:%%g /tmp/seven")->out, "7:8\n");
	CODE(hull("copy box:/tmp/seven mine"), 0);
	snprintf(path, sizeof(path), "%s/mine", world_folder);
	CHECK_INT(stat(path, &st), 0);
	CHECK_INT(st.st_uid, world_user);
	CODE(hull("copy --owner anybody page box:/tmp/page"), 2);
	CODE(hull("remove --force box"), 0);
}

static void archives_go_both_ways(void)
{
	struct result *result;

	make_tree();
	launch_box("");
	CODE(hull("copy tree box:/srv/tree"), 0);
	CODE(other("sh -c '%s/tidyhull --version >/dev/null; TIDYHULL_ROOT=%s "
		   "%s/tidyhull copy box:/srv/tree - >tree.tar'",
		     world_build, world_store, world_build),
		0);
	CODE(other("sh -c 'mkdir out && tar xf tree.tar -C out "
		   "--no-same-owner'"),
		0);
	check_same("out/tree");
	CODE(hull("exec box -- mkdir /srv/again"), 0);
	CODE(other("sh -c 'TIDYHULL_ROOT=%s %s/tidyhull copy - box:/srv/again "
		   "<tree.tar'",
		     world_store, world_build),
		0);
	CHECK_TEXT(hull("exec box -- cat /srv/again/tree/deep/er/tide")->out,
		"low\n");
	result = hull_input("no archive at all, but long enough to be read "
			    "as one or so it seems ..................",
		80, "copy - box:/srv");
	CODE(result, 2);
	SAYS(result->err, "not a tar archive");
	CODE(hull_input("", 0, "copy - box:/nosuch"), 3);
	CODE(hull("remove --force box"), 0);
	as_root("rm -rf %s/tree %s/out", world_folder, world_folder);
}

/* Links inside lead nowhere else than inside. */
static void links_do_not_lead_out(void)
{
	struct result *result;
	char target[300];

	put_file("secret", "of the host");
	snprintf(target, sizeof(target), "%s/secret", world_folder);
	put_file("page", "from outside");
	launch_box("");
	CODE(hull("exec box -- sh -c 'ln -s %s /tmp/file; ln -s %s /tmp/dir; "
		  "ln -s ../../../../../../../.. /tmp/up; mkdir -p /tmp/t; ln "
		  "-s %s /tmp/t/inner'",
		     target, world_folder, world_folder),
		0);
	/* Reading through them finds nothing of the host. */
	CODE(hull("copy box:/tmp/file got"), 3);
	CODE(hull("copy box:/tmp/dir/secret got"), 3);
	result = hull("copy box:/tmp/up%s got", target);
	CODE(result, 3);
	/* Nor does writing. */
	CODE(hull("copy page box:/tmp/dir/secret"), 3);
	CHECK(file_holds("secret", "of the host"));
	CODE(hull("copy page box:/tmp/file"), 0);
	CHECK(file_holds("secret", "of the host"));
	CHECK_TEXT(hull("exec box -- cat /tmp/file")->out, "from outside");
	/* A tree is copied with its links as they are. */
	CODE(hull("copy box:/tmp/t tree"), 0);
	CHECK_TEXT(other("readlink tree/inner")->out[0] == '/' ? "yes" : "no",
		"yes");
	CHECK(!file_holds("got", "of the host"));
	CODE(hull("remove --force box"), 0);
	as_root("rm -rf %s/tree", world_folder);
}

/* An archive that tries to. */
static void archives_do_not_lead_out(void)
{
	struct result *result;

	launch_box("");
	CODE(hull("exec box -- sh -c 'mkdir /tmp/in; ln -s /etc /tmp/in/etc'"),
		0);
	CODE(other("sh -c 'mkdir x; echo evil >x/evil; tar cPf evil.tar "
		   "--transform s,x/evil,../../etc/evil, x/evil'"),
		0);
	result = other("sh -c 'TIDYHULL_ROOT=%s %s/tidyhull copy - box:/tmp/in "
		       "<evil.tar'",
		world_store, world_build);
	CODE(result, 2);
	SAYS(result->err, "leads out of the target folder");
	CODE(other("sh -c 'tar cf evil.tar --transform s,x/evil,etc/evil, "
		   "x/evil'"),
		0);
	other("sh -c 'TIDYHULL_ROOT=%s %s/tidyhull copy - box:/tmp/in "
	      "<evil.tar'",
		world_store, world_build);
	CODE(hull("exec box -- test -e /etc/evil"), 1);
	CHECK_INT(access("/etc/evil", F_OK), -1);
	CODE(hull("remove --force box"), 0);
	as_root("rm -rf %s/x", world_folder);
}

static void mistakes_are_told(void)
{
	struct result *result;

	put_file("page", "x");
	launch_box("");
	result = hull("copy page other");
	CODE(result, 2);
	SAYS(result->err, "CONTAINER:/path");
	result = hull("copy page box:srv");
	CODE(result, 2);
	SAYS(result->err, "not absolute");
	CODE(hull("copy nosuch box:/srv"), 3);
	CODE(hull("copy page nosuch:/srv"), 3);
	result = hull("copy page box:/no/such/folder");
	CODE(result, 3);
	SAYS(result->err, "the target's folder");
	CODE(hull("copy page box:/etc/motd/"), 2);
	CODE(hull("exec box -- mkdir -p /srv/page"), 0);
	/* A folder copied into itself has an end. */
	CODE(hull("copy box:/srv box:/srv/page"), 0);
	CODE(hull("exec box -- test -d /srv/page/srv/page/srv"), 1);
	CODE(hull("remove --force box"), 0);
}

static bool has_attribute(const char *file, const char *name, const char *value)
{
	char path[400], got[64];
	ssize_t len;

	snprintf(path, sizeof(path), "%s/%s", world_folder, file);
	len = getxattr(path, name, got, sizeof(got));
	return len == (ssize_t)strlen(value) &&
		memcmp(got, value, (size_t)len) == 0;
}

/* What a backup is for: files with several names, and what is noted about
 * them. */
static void archives_keep_links_and_attributes(void)
{
	const struct vfs_cap_data bind = {
		.magic_etc =
			htole32(VFS_CAP_REVISION_2 | VFS_CAP_FLAGS_EFFECTIVE),
		.data = {{.permitted = htole32(1u << 10)}}};
	char path[300], got[64];
	struct stat one, other_name;

	as_root("sh -c 'mkdir -p kept/sub; echo tide >kept/one; ln kept/one "
		"kept/sub/two; ln -s one kept/link; echo x >kept/server'");
	snprintf(path, sizeof(path), "%s/kept/one", world_folder);
	CHECK_INT(setxattr(path, "user.harbour", "selwick", 7, 0), 0);
	snprintf(path, sizeof(path), "%s/kept/sub", world_folder);
	CHECK_INT(setxattr(path, "user.berth", "4", 1, 0), 0);
	snprintf(path, sizeof(path), "%s/kept/server", world_folder);
	CHECK_INT(setxattr(path, "security.capability", &bind, sizeof(bind), 0),
		0);
	as_root("tar --xattrs --xattrs-include=* -cf kept.tar kept");
	as_root("rm -r kept");
	launch_box("");
	CODE(other("sh -c 'TIDYHULL_ROOT=%s %s/tidyhull copy --owner keep - "
		   "box:/srv <kept.tar'",
		     world_store, world_build),
		0);
	CHECK_TEXT(
		hull("exec box -- stat -c %%h /srv/kept/sub/two")->out, "2\n");
	CODE(other("sh -c 'TIDYHULL_ROOT=%s %s/tidyhull copy box:/srv/kept - "
		   ">back.tar'",
		     world_store, world_build),
		0);
	as_root("tar --xattrs --xattrs-include=* -xf back.tar");
	CHECK(has_attribute("kept/one", "user.harbour", "selwick"));
	CHECK(has_attribute("kept/sub", "user.berth", "4"));
	snprintf(path, sizeof(path), "%s/kept/server", world_folder);
	CHECK_INT(getxattr(path, "security.capability", got, sizeof(got)),
		(int)sizeof(bind));
	CHECK_INT(memcmp(got, &bind, sizeof(bind)), 0);
	snprintf(path, sizeof(path), "%s/kept/one", world_folder);
	CHECK_INT(stat(path, &one), 0);
	snprintf(path, sizeof(path), "%s/kept/sub/two", world_folder);
	CHECK_INT(stat(path, &other_name), 0);
	CHECK_INT(one.st_ino, other_name.st_ino);
	CHECK_INT(one.st_nlink, 2);
	CODE(hull("remove --force box"), 0);
	as_root("rm -r kept kept.tar back.tar");
}

/* A file that says it is longer than what can be read of it. */
static void what_cannot_be_read_is_an_error(void)
{
	struct result *result;

	launch_box("");
	result = hull("copy box:/sys/kernel/mm/transparent_hugepage/enabled -");
	CODE(result, 1);
	SAYS(result->err, "has become shorter");
	CODE(hull("remove --force box"), 0);
}

/* At any moment: the whole file is there or nothing, and which is said. */
static void an_interrupted_one_is_whole_or_nothing(void)
{
	static const useconds_t moments[] = {2000, 8000, 20000, 50000, 90000};
	int told = 0;

	CODE(hull("create selwick/base --name box --network none"), 0);
	CODE(other("dd if=/dev/urandom of=big bs=1M count=200"), 0);
	for (size_t i = 0; i < COUNT_OF(moments); i++) {
		pid_t pid = hull_start("said", "copy big box:/big%zu", i);
		const char *size;
		int code;

		usleep(moments[i]);
		/* What comes twice at once is one wish. */
		kill(pid, SIGINT);
		kill(pid, SIGINT);
		code = wait_for(pid);
		CODE(hull("copy box:/ root --owner keep"), 0);
		size = other("sh -c 'ls root | grep big%zu; stat -c %%s "
			     "root/big%zu 2>/dev/null; rm -rf root'",
			i, i)
			       ->out;
		if (code == 0) {
			SAYS(size, "209715200");
		} else {
			/* Before it has begun, there is nobody to say it. */
			CHECK(code == 1 || code == 128 + SIGINT);
			CHECK_TEXT(size, "");
			told += file_holds("said", "copying was interrupted");
		}
	}
	CHECK(told > 0);
	CODE(hull("copy box:/ root"), 0);
	/* No files under other names. */
	CHECK_TEXT(other("find root -maxdepth 1 -type f -name '.*'")->out, "");
	CODE(hull("remove box"), 0);
}

/* A terminal where nobody types, or a command that says nothing yet. */
static void waiting_for_input_ends_at_the_first_wish(void)
{
	static const struct {
		const char *line, *says;
	} waits[] = {{"copy - box:/tmp", "copying was interrupted"},
		{"build -", "reading standard input was interrupted"},
		{"create selwick/base --env BERTH=@stdin",
			"reading standard input was interrupted"},
		/* And whatever else may be a pipe. */
		{"launch --settings -",
			"reading standard input was interrupted"},
		{"launch --settings quiet", "reading quiet was interrupted"},
		{"create selwick/base --env @file:quiet",
			"reading quiet was interrupted"},
		{"create selwick/base --env BERTH=@file:quiet",
			"reading quiet was interrupted"},
		{"build quiet", "reading quiet was interrupted"},
		{"unpack -", "reading standard input was interrupted"},
		{"unpack ./quiet", "reading ./quiet was interrupted"},
		{"peek ./quiet", "reading ./quiet was interrupted"},
		{"create ./quiet", "/quiet was interrupted"},
		{"list --config quiet", "reading quiet was interrupted"}};

	CODE(hull("create selwick/base --name box --network none"), 0);
	CODE(other("mkfifo quiet"), 0);
	for (size_t i = 0; i < COUNT_OF(waits); i++) {
		struct result *result =
			other("sh -c 'exec 9<>quiet; timeout -s INT -k 20 "
			      "--preserve-status 0.3 %s/tidyhull %s <&9'",
				world_build, waits[i].line);

		CODE(result, 1);
		SAYS(result->err, waits[i].says);
	}
	CODE(hull("remove box"), 0);
}

/* As root, a file in place of /dev/null would be the end of the host. */
static void pipes_and_devices_stay(void)
{
	struct result *result;

	CODE(hull("launch selwick/base --name box --network none -- sleep "
		  "1000"),
		0);
	CODE(hull("exec box -- sh -c 'echo tide >/tmp/note; mkfifo /tmp/pipe; "
		  "mkdir /tmp/pier; ln -s note /tmp/link'"),
		0);
	/* By its name it is written. */
	CODE(other("mkfifo pipe"), 0);
	CODE(other("sh -c 'cat pipe >from-pipe & %s/tidyhull copy "
		   "box:/tmp/note "
		   "pipe; wait'",
		     world_build),
		0);
	CHECK(file_holds("from-pipe", "tide\n"));
	CODE(other("test -p pipe"), 0);
	result = other(
		"sh -c '%s/tidyhull copy box:/tmp/note /dev/stdout | cat'",
		world_build);
	CHECK_TEXT(result->out, "tide\n");
	SAYS(result->err, "copied 1 file, 5 B");
	CODE(hull("copy box:/tmp/note /dev/null"), 0);
	CODE(other("test -c /dev/null"), 0);
	/* A folder has no place there. */
	result = hull("copy box:/tmp/pier /dev/null");
	CODE(result, 5);
	SAYS(result->err, "is no file");
	/* Below a folder, and in a container, it is kept. */
	CODE(other("sh -c 'mkdir here; mkfifo here/note'"), 0);
	result = hull("copy box:/tmp/note here");
	CODE(result, 4);
	SAYS(result->err, "cannot replace a device, a socket or a pipe");
	CODE(other("test -p here/note"), 0);
	put_file("note", "ebb\n");
	CODE(hull("copy note box:/dev/null"), 4);
	CODE(hull("copy note box:/tmp/pipe"), 4);
	CODE(hull("exec box -- sh -c '[ -c /dev/null ] && [ -p /tmp/pipe ]'"),
		0);
	/* Nothing of the kind is said to have been copied. */
	result = hull("copy pipe box:/tmp/other");
	CODE(result, 5);
	SAYS(result->err, "is a device, a socket or a pipe");
	SAYS(result->err, "tidyhull exec box -- sh -c 'cat >/tmp/other'");
	result = other("sh -c 'echo ebb | %s/tidyhull copy /dev/stdin "
		       "box:/tmp/other'",
		world_build);
	CODE(result, 5);
	SAYS(result->err, "is a device, a socket or a pipe");
	CODE(hull("exec box -- sh -c 'ls -a /tmp | grep part'"), 1);
	/* What a link leads to stays. */
	CODE(other("ln -s note alias"), 0);
	CODE(hull("copy box:/tmp/note alias"), 0);
	CHECK(file_holds("note", "ebb\n"));
	CHECK(file_holds("alias", "tide\n"));
	CODE(hull("remove --force box"), 0);
}

static const CU_TestInfo tests[] = {
	{"pipes and devices stay", pipes_and_devices_stay},
	{"an interrupted one is whole or nothing",
		an_interrupted_one_is_whole_or_nothing},
	{"waiting for input ends at the first wish",
		waiting_for_input_ends_at_the_first_wish},
	{"archives keep links and attributes",
		archives_keep_links_and_attributes},
	{"what cannot be read is an error", what_cannot_be_read_is_an_error},
	{"a tree goes in and out", a_tree_goes_in_and_out},
	{"owners are who they should be", owners_are_who_they_should_be},
	{"archives go both ways", archives_go_both_ways},
	{"links do not lead out", links_do_not_lead_out},
	{"archives do not lead out", archives_do_not_lead_out},
	{"mistakes are told", mistakes_are_told},
	{"swapped names change nothing outside",
		swapped_names_change_nothing_outside},
	{"set-ID bits stay inside", set_id_bits_stay_inside},
	{"holes stay holes", holes_stay_holes}, CU_TEST_INFO_NULL};

const struct suite suite_copy = {"copy", tests};
