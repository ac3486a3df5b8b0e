/* mkimages: writes the demo images of Port Selwick as an OCI image layout.
 * The same inputs give the same bytes.
 *
 *   mkimages OUT BUSYBOX PROGRAMS   PROGRAMS: the folder of gauge, ... */
#include <archive.h>
#include <archive_entry.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>
#include <zlib.h>

#include "base/buffer.h"
#include "base/file.h"
#include "base/hash.h"
#include "base/json.h"
#include "oci/digest.h"
#include "oci/manifest.h"

#define IMAGE_MAX (64u << 20)
#define CREATED "2026-03-01T00:00:00Z"
#define CREATED_SECONDS 1772323200

struct layer {
	char diff_id[TH_DIGEST_TEXT];
	char digest[TH_DIGEST_TEXT];
	size_t size;
};

struct writing {
	struct archive *archive;
	struct th_buf tar;
};

static const char *out_path;
static json_t *manifests;

static void die(const char *what)
{
	fprintf(stderr, "mkimages: %s: %s\n", what, strerror(errno));
	exit(1);
}

static void put_blob(const void *data, size_t len, char digest[TH_DIGEST_TEXT])
{
	struct th_error err = {0};
	char *path;

	if (th_hash_once(data, len, digest))
		die("no memory");
	path = th_format("%s/blobs/sha256/%s", out_path, th_digest_hex(digest));
	if (!path ||
		th_file_replace(AT_FDCWD, path, data, len, 0644, false, &err)) {
		fprintf(stderr, "mkimages: %s\n", err.msg);
		exit(1);
	}
	free(path);
}

static la_ssize_t take_tar(
	struct archive *archive, void *owner, const void *data, size_t len)
{
	(void)archive;
	th_buf_add(owner, data, len);
	return (la_ssize_t)len;
}

static void begin_layer(struct writing *writing)
{
	th_buf_init(&writing->tar, IMAGE_MAX);
	writing->archive = archive_write_new();
	archive_write_set_format_pax_restricted(writing->archive);
	archive_write_set_bytes_in_last_block(writing->archive, 1);
	if (archive_write_open(
		    writing->archive, &writing->tar, NULL, take_tar, NULL))
		die("cannot begin a layer");
}

static void put_entry(struct writing *writing, const char *name,
	unsigned int type, int mode, const char *data, size_t len)
{
	struct archive_entry *entry = archive_entry_new();

	archive_entry_set_pathname(entry, name);
	archive_entry_set_filetype(entry, type);
	archive_entry_set_perm(entry, (mode_t)mode);
	archive_entry_set_mtime(entry, CREATED_SECONDS, 0);
	if (type == AE_IFLNK)
		archive_entry_set_symlink(entry, data);
	else
		archive_entry_set_size(entry, (la_int64_t)len);
	if (archive_write_header(writing->archive, entry))
		die(archive_error_string(writing->archive));
	if (type == AE_IFREG && len &&
		archive_write_data(writing->archive, data, len) < 0)
		die(archive_error_string(writing->archive));
	archive_entry_free(entry);
}

static void put_folder(struct writing *writing, const char *name, int mode)
{
	put_entry(writing, name, AE_IFDIR, mode, NULL, 0);
}

static void put_text(
	struct writing *writing, const char *name, const char *text)
{
	put_entry(writing, name, AE_IFREG, 0644, text, strlen(text));
}

static void put_program(
	struct writing *writing, const char *name, const char *from)
{
	struct th_error err = {0};
	struct th_buf buf;

	th_buf_init(&buf, IMAGE_MAX);
	if (th_file_read(AT_FDCWD, from, &buf, &err) != 1)
		die(from);
	put_entry(writing, name, AE_IFREG, 0755, buf.data, buf.len);
	th_buf_release(&buf);
}

static void end_layer(struct writing *writing, struct layer *layer)
{
	size_t room;
	z_stream stream = {0};
	unsigned char *packed;

	archive_write_close(writing->archive);
	archive_write_free(writing->archive);
	if (writing->tar.failed ||
		th_hash_once(
			writing->tar.data, writing->tar.len, layer->diff_id))
		die("no memory");
	/* 16: a gzip header, which zlib fills without a time. */
	if (deflateInit2(&stream, 6, Z_DEFLATED, 15 + 16, 8, 0) != Z_OK)
		die("no memory");
	room = deflateBound(&stream, writing->tar.len);
	packed = malloc(room);
	if (!packed)
		die("no memory");
	stream.next_in = (unsigned char *)writing->tar.data;
	stream.avail_in = (unsigned int)writing->tar.len;
	stream.next_out = packed;
	stream.avail_out = (unsigned int)room;
	if (deflate(&stream, Z_FINISH) != Z_STREAM_END)
		die("cannot compress a layer");
	layer->size = stream.total_out;
	put_blob(packed, layer->size, layer->digest);
	deflateEnd(&stream);
	free(packed);
	th_buf_release(&writing->tar);
}

static json_t *put_document(json_t *doc, const char *type)
{
	char digest[TH_DIGEST_TEXT], *text = json_dumps(doc, JSON_COMPACT);
	json_t *descriptor;

	put_blob(text, strlen(text), digest);
	descriptor = json_pack("{s:s s:s s:I}", "mediaType", type, "digest",
		digest, "size", (json_int_t)strlen(text));
	free(text);
	json_decref(doc);
	return descriptor;
}

static void name_image(json_t *descriptor, const char *name)
{
	json_t *named = json_copy(descriptor);

	json_object_set_new(named, "annotations",
		json_pack("{s:s}", "org.opencontainers.image.ref.name", name));
	json_array_append_new(manifests, named);
}

/* process: the config's "config" part; a reference that is taken over. own:
 * what the layer above the base brings. */
static void put_image(const char *name, const struct layer *layers,
	size_t count, const char *own, json_t *process)
{
	const char *const steps[] = {"folders, a shell and its commands",
		"the welcome and the charts", own};
	json_t *history = json_array();
	json_t *ids = json_array(), *blobs = json_array(), *config, *manifest;
	struct th_platform host;
	char tag[128];

	th_platform_host(&host);
	for (size_t i = 0; i < count; i++) {
		json_array_append_new(ids, json_string(layers[i].diff_id));
		json_array_append_new(history,
			json_pack("{s:s s:s}", "created", CREATED, "created_by",
				steps[i]));
		json_array_append_new(blobs,
			json_pack("{s:s s:s s:I}", "mediaType",
				TH_MEDIA_LAYER_GZIP, "digest", layers[i].digest,
				"size", (json_int_t)layers[i].size));
	}
	config = json_pack("{s:s s:s s:s s:o s:{s:s s:o} s:o}", "created",
		CREATED, "architecture", host.architecture, "os", host.os,
		"config", process, "rootfs", "type", "layers", "diff_ids", ids,
		"history", history);
	manifest = json_pack("{s:i s:s s:o s:o}", "schemaVersion", 2,
		"mediaType", TH_MEDIA_MANIFEST, "config",
		put_document(config, TH_MEDIA_CONFIG), "layers", blobs);
	manifest = put_document(manifest, TH_MEDIA_MANIFEST);
	snprintf(tag, sizeof(tag), "%s:latest", name);
	name_image(manifest, tag);
	snprintf(tag, sizeof(tag), "%s:1", name);
	name_image(manifest, tag);
	json_decref(manifest);
}

static void make_base(struct layer layers[2], const char *busybox)
{
	static const char *const applets[] = {"ash", "awk", "basename", "cat",
		"chmod", "chown", "cp", "cut", "date", "dd", "df", "dirname",
		"du", "echo", "env", "expr", "false", "find", "free", "grep",
		"head", "hostname", "id", "ifconfig", "ip", "kill", "ln", "ls",
		"mkdir", "mknod", "mkfifo", "mount", "mv", "nc", "nslookup",
		"ping", "ping6", "printf", "ps", "pwd", "readlink", "rm",
		"rmdir", "route", "sed", "seq", "sh", "sha256sum", "sleep",
		"sort", "stat", "stty", "tail", "tar", "tee", "test", "top",
		"touch", "tr", "true", "tty", "umount", "uname", "uniq", "vi",
		"wc", "wget", "which", "whoami", "xargs", "yes"};
	static const char *const folders[] = {"bin", "dev", "etc", "proc",
		"run", "srv", "sys", "usr", "usr/bin", "usr/share", "var"};
	struct writing writing;

	begin_layer(&writing);
	for (size_t i = 0; i < sizeof(folders) / sizeof(*folders); i++)
		put_folder(&writing, folders[i], 0755);
	put_folder(&writing, "root", 0700);
	put_folder(&writing, "tmp", 01777);
	put_program(&writing, "bin/busybox", busybox);
	for (size_t i = 0; i < sizeof(applets) / sizeof(*applets); i++) {
		char name[64];

		snprintf(name, sizeof(name), "bin/%s", applets[i]);
		put_entry(&writing, name, AE_IFLNK, 0777, "busybox", 0);
	}
	put_text(&writing, "etc/passwd",
		"root:x:0:0:root:/root:/bin/sh\n"
		"pilot:x:1000:1000:pilot:/home/pilot:/bin/sh\n"
		"nobody:x:65534:65534:nobody:/:/bin/false\n");
	put_text(&writing, "etc/group",
		"root:x:0:\npilot:x:1000:\ncrew:x:1100:pilot\n"
		"nogroup:x:65534:\n");
	put_text(&writing, "etc/scaffold", "only while the port is built\n");
	end_layer(&writing, &layers[0]);

	begin_layer(&writing);
	put_folder(&writing, "etc", 0755);
	put_entry(&writing, "etc/.wh.scaffold", AE_IFREG, 0644, "", 0);
	put_text(&writing, "etc/motd", "Port Selwick: fair winds.\n");
	put_folder(&writing, "home", 0755);
	put_folder(&writing, "home/pilot", 0755);
	put_folder(&writing, "usr/share/selwick", 0755);
	put_text(&writing, "usr/share/selwick/chart",
		"north mole    4.1 m\nsouth mole    3.8 m\n"
		"inner basin   2.6 m\n");
	end_layer(&writing, &layers[1]);
}

static void make_programs(
	struct layer *layer, const char *folder, const char *const *names)
{
	struct writing writing;

	begin_layer(&writing);
	put_folder(&writing, "usr", 0755);
	put_folder(&writing, "usr/bin", 0755);
	for (; *names; names++) {
		char *from = th_format("%s/%s", folder, *names);
		char *to = th_format("usr/bin/%s", *names);

		put_program(&writing, to, from);
		free(from);
		free(to);
	}
	put_folder(&writing, "data", 0755);
	put_folder(&writing, "srv", 0755);
	put_folder(&writing, "srv/history", 0755);
	end_layer(&writing, layer);
}

static void write_top(void)
{
	static const char layout[] = "{\"imageLayoutVersion\":\"1.0.0\"}";
	char *path = th_format("%s/oci-layout", out_path);
	struct th_error err = {0};
	int folder;

	if (th_file_replace(AT_FDCWD, path, layout, sizeof(layout) - 1, 0644,
		    false, &err))
		die(path);
	free(path);
	folder = open(out_path, O_RDONLY | O_DIRECTORY);
	if (folder < 0 ||
		th_json_write_file(folder, "index.json",
			json_pack("{s:i s:s s:o}", "schemaVersion", 2,
				"mediaType", TH_MEDIA_INDEX, "manifests",
				manifests),
			0644, false, &err))
		die("index.json");
	close(folder);
}

int main(int argc, char **argv)
{
	static const char *const gauge[] = {"gauge", NULL};
	static const char *const almanac[] = {"almanac", NULL};
	static const char *const ledger[] = {"ledger", "booking", NULL};
	struct layer layers[3], base[2];
	struct th_error err = {0};
	char *blobs;

	if (argc != 4) {
		fputs("mkimages OUT BUSYBOX PROGRAMS\n", stderr);
		return 2;
	}
	out_path = argv[1];
	blobs = th_format("%s/blobs/sha256", out_path);
	if (!blobs || th_dir_make(blobs, 0755, &err))
		die(out_path);
	free(blobs);
	manifests = json_array();
	make_base(base, argv[2]);
	layers[0] = base[0];
	layers[1] = base[1];
	put_image("selwick/base", layers, 2, "",
		json_pack("{s:[s] s:s}", "Cmd", "sh", "WorkingDir", "/"));
	/* Charts are data: there is nothing to run. */
	put_image("selwick/charts", layers, 2, "", json_pack("{}"));
	make_programs(&layers[2], argv[3], gauge);
	put_image("selwick/gauge", layers, 3, "the tide gauge",
		json_pack("{s:[s] s:[s] s:{s:{}} s:s}", "Entrypoint",
			"/usr/bin/gauge", "Env", "STATION=nameless",
			"ExposedPorts", "80/tcp", "StopSignal", "SIGTERM"));
	make_programs(&layers[2], argv[3], almanac);
	put_image("selwick/almanac", layers, 3, "the tide tables",
		json_pack("{s:[s]}", "Entrypoint", "/usr/bin/almanac"));
	make_programs(&layers[2], argv[3], ledger);
	put_image("selwick/ledger", layers, 3, "the berth ledger",
		json_pack("{s:[s] s:{s:{}} s:{s:{}}}", "Cmd", "/usr/bin/ledger",
			"ExposedPorts", "7070/tcp", "Volumes", "/data"));
	write_top();
	return 0;
}
