/* Manifests and configs as others write them: every digest, place and field
 * that the OCI Image Specification allows, and what it forbids. */
#include <stdio.h>
#include <string.h>

#include "e2e/harness.h"

/* Writes a layout with one image of the demo's lowest layer and a second one,
 * changed by the statements. */
static void make_layout(const char *changes)
{
	static const char frame[] =
		"import hashlib, io, json, os, sys, tarfile, base64, gzip\n"
		"alg = 'sha256'\n"
		"os.system('rm -rf made')\n"
		"def blob(data, keep=True):\n"
		"  h = hashlib.new(alg, data).hexdigest()\n"
		"  os.makedirs('made/blobs/' + alg, exist_ok=True)\n"
		"  if keep: open('made/blobs/%s/%s' % (alg, h), 'wb')"
		".write(data)\n"
		"  return {'digest': alg + ':' + h, 'size': len(data)}\n"
		"def doc(d, type, **more):\n"
		"  return dict(blob(json.dumps(d).encode(), **more), "
		"mediaType=type)\n"
		"O = 'application/vnd.oci.image.'\n"
		"t = io.BytesIO(); a = tarfile.open(fileobj=t, mode='w')\n"
		"i = tarfile.TarInfo('note'); i.size = 5\n"
		"a.addfile(i, io.BytesIO(b'tide\\n')); a.close()\n"
		"base = gzip.decompress(open('base.gz', 'rb').read())\n"
		"raw = [base, t.getvalue()]\n"
		"config = {'architecture': 'amd64', 'os': 'linux', 'config': "
		"{}, 'rootfs': {'type': 'layers'}}\n"
		"layers = manifest = index = None\n"
		"def build(keep=(True, True)):\n"
		"  global layers, manifest, index\n"
		"  config['rootfs'].setdefault('diff_ids', [alg + ':' + "
		"hashlib.new(alg, r).hexdigest() for r in raw])\n"
		"  layers = [dict(blob(r, k), mediaType=O + 'layer.v1.tar') "
		"for r, k in zip(raw, keep)]\n"
		"  manifest = {'schemaVersion': 2, 'mediaType': O + "
		"'manifest.v1+json', 'config': doc(config, O + "
		"'config.v1+json'), 'layers': layers}\n"
		"def finish(item=None):\n"
		"  item = item or doc(manifest, O + 'manifest.v1+json')\n"
		"  item['annotations'] = {'org.opencontainers.image.ref.name': "
		"'selwick/made:latest'}\n"
		"  json.dump({'schemaVersion': 2, 'manifests': [item]}, "
		"open('made/index.json', 'w'))\n"
		"  open('made/oci-layout', 'w').write("
		"'{\"imageLayoutVersion\":\"1.0.0\"}')\n";
	char script[8000];

	snprintf(script, sizeof(script), "%s%s", frame, changes);
	put_file("make.py", script);
	CODE(other("python3 make.py"), 0);
}

static void begin(void)
{
	CODE(other("sh -c 'cp %s/demo-images/blobs/sha256/$(python3 -c \""
		   "import json,os; d=\\\"%s/demo-images/\\\"; i=json.load("
		   "open(d+\\\"index.json\\\")); m=json.load(open(d+"
		   "\\\"blobs/sha256/\\\"+i[\\\"manifests\\\"][0][\\\"digest"
		   "\\\"][7:])); print(m[\\\"layers\\\"][0][\\\"digest\\\"]"
		   "[7:])\") base.gz'",
		     world_build, world_build),
		0);
}

static void runs(const char *changes)
{
	struct result *result;

	make_layout(changes);
	result = hull("unpack --quiet made");
	if (result->code)
		printf("\n    %s%s\n", changes, result->err);
	CODE(result, 0);
	CHECK_TEXT(hull("run --network none selwick/made -- cat /note")->out,
		"tide\n");
	CODE(hull("remove selwick/made"), 0);
}

static void is_refused(const char *changes, const char *why)
{
	struct result *result;

	make_layout(changes);
	result = hull("unpack --quiet made");
	if (!result->code)
		printf("\n    accepted: %s\n", changes);
	CHECK(result->code != 0);
	SAYS(result->err, why);
	SAYS(hull("list images")->out, "there are no images");
}

static void any_registered_digest_will_do(void)
{
	int port;

	begin();
	runs("build(); finish()\n");
	runs("alg = 'sha512'\nbuild(); finish()\n");
	/* One kind for each: the manifest, its parts, the layers' contents. */
	runs("build()\nalg = 'sha512'\nfinish()\n");
	runs("config['rootfs']['diff_ids'] = ['sha512:' + hashlib.sha512(r)"
	     ".hexdigest() for r in raw]\nbuild(); finish()\n");
	/* From a registry, named by it, and back into a file. */
	make_layout("alg = 'sha512'\nbuild(); finish()\n");
	port = start_chandler("made", NULL, "%s", "");
	write_config(&port, 1);
	CODE(hull("pull selwick/made"), 0);
	CODE(hull("pack selwick/made made.tar"), 0);
	CODE(hull("remove selwick/made"), 0);
	CHECK_TEXT(
		other("find store/images/blobs store/trees -type f")->out, "");
	CODE(hull("unpack --quiet made.tar"), 0);
	CHECK_TEXT(hull("run --network none selwick/made -- cat /note")->out,
		"tide\n");
	CODE(hull("sweep --yes"), 0);
	CODE(hull("remove selwick/made"), 0);
	is_refused("alg = 'sha384'\nbuild(); finish()\n", "digest");
	is_refused("build()\nlayers[1]['digest'] = 'sha512:' + 64 * 'a'\n"
		   "finish()\n",
		"layer 2 of the manifest has no valid digest");
}

static void contents_may_stand_in_descriptors(void)
{
	begin();
	runs("build((True, False))\n"
	     "layers[1]['data'] = base64.b64encode(raw[1]).decode()\n"
	     "c = json.dumps(config).encode()\n"
	     "manifest['config']['data'] = base64.b64encode(c).decode()\n"
	     "os.unlink('made/blobs/sha256/' + manifest['config']['digest']"
	     "[7:])\nfinish()\n");
	is_refused("build()\nlayers[1]['data'] = base64.b64encode(raw[1] + "
		   "b'x').decode()\nfinish()\n",
		"the data in layer 2 of the manifest does not have the digest");
	is_refused("build()\nlayers[1]['data'] = '*'\nfinish()\n",
		"the data in layer 2 of the manifest is not in base 64");
}

static void other_places_are_tried(void)
{
	int port, ports[1];
	char changes[600];

	begin();
	CODE(other("mkdir elsewhere"), 0);
	make_layout("build(); finish()\nopen('digest', 'w').write("
		    "layers[1]['digest'])\n");
	CODE(other("mv made place"), 0);
	port = start_chandler("place", "elsewhere.log", "%s", "");
	snprintf(changes, sizeof(changes),
		"build((True, False))\nlayers[1]['urls'] = ["
		"'ftp://mole.example/x', 'http://127.0.0.1:1/none', "
		"'http://127.0.0.1:%d/v2/selwick/made/blobs/' + layers[1]"
		"['digest']]\nfinish()\n",
		port);
	make_layout(changes);
	ports[0] = start_chandler("made", NULL, "%s", "");
	write_config(ports, 1);
	CODE(hull("pull selwick/made"), 0);
	CHECK_TEXT(hull("run --network none selwick/made -- cat /note")->out,
		"tide\n");
	CODE(hull("remove selwick/made"), 0);
	/* Whatever comes from there is checked like all else. */
	snprintf(changes, sizeof(changes),
		"build((True, False))\nlayers[1]['urls'] = ["
		"'http://127.0.0.1:%d/v2/selwick/made/blobs/' + layers[0]"
		"['digest']]\nfinish()\n",
		port);
	make_layout(changes);
	ports[0] = start_chandler("made", NULL, "%s", "");
	write_config(ports, 1);
	CHECK(hull("pull selwick/made")->code != 0);
	SAYS(hull("list images")->out, "there are no images");
}

static void platforms_are_chosen_by_what_they_say(void)
{
	static const char two[] =
		"build()\n"
		"good = doc(manifest, O + 'manifest.v1+json')\n"
		"raw[1] = raw[1].replace(b'tide', b'ebb!')\n"
		"config['rootfs'].pop('diff_ids')\n"
		"build()\n"
		"bad = doc(manifest, O + 'manifest.v1+json')\n"
		"import platform\n"
		"arch = {'x86_64': 'amd64', 'aarch64': 'arm64'}"
		".get(platform.machine(), platform.machine())\n"
		"P = {'architecture': arch, 'os': 'linux'}\n"
		"def both(g, b):\n"
		"  good['platform'] = dict(P, **g)\n"
		"  bad['platform'] = dict(P, **b)\n"
		"  finish(doc({'schemaVersion': 2, 'mediaType': O + "
		"'index.v1+json', 'manifests': [bad, good]}, O + "
		"'index.v1+json'))\n";
	static const char *const cases[] = {
		"both({}, {'os.features': ['tidal']})\n",
		"both({'os.version': '7'}, {'os': 'other'})\n",
		"both({}, {'variant': 'v77'})\n",
		"both({}, {'variant': 'strange'})\n",
		"both({'os.features': []}, {'architecture': 'harbour'})\n"};
	char changes[3000];

	begin();
	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		snprintf(changes, sizeof(changes), "%s%s", two, cases[i]);
		runs(changes);
	}
	/* A variant that nobody knows, where there is nothing else. */
	snprintf(changes, sizeof(changes), "%s%s", two,
		"both({'variant': 'strange'}, {'architecture': 'harbour'})\n");
	runs(changes);
	is_refused("config['os.features'] = ['tidal']\nbuild(); finish()\n",
		"needs the operating system feature \"tidal\"");
}

static void fields_may_be_missing(void)
{
	begin();
	runs("config.pop('config')\nbuild(); finish()\n");
	runs("config.pop('os')\nbuild(); finish()\n");
	runs("config.pop('architecture')\nbuild(); finish()\n");
	runs("config['rootfs'].pop('type')\nbuild(); finish()\n");
	runs("config.update(config=None, created=None, history=None, "
	     "variant=None)\nbuild(); finish()\n");
	runs("config['config'] = {'Env': None, 'Cmd': None, 'Entrypoint': "
	     "None, 'Labels': None, 'Volumes': None, 'User': '', "
	     "'WorkingDir': '', 'Strange': 7}\nbuild(); finish()\n");
	runs("config['os.version'] = '10'\nbuild()\n"
	     "manifest.pop('mediaType')\nmanifest['annotations'] = {'a': 'b'}\n"
	     "manifest['strange'] = [1]\nfinish()\n");
	is_refused("config['rootfs']['type'] = 'bundle'\nbuild(); finish()\n",
		"has the type \"bundle\"; only \"layers\" is known");
	is_refused("config.pop('rootfs')\nlayers = []\n"
		   "config['rootfs'] = {'type': 'layers', 'diff_ids': []}\n"
		   "build(); finish()\n",
		"has 2 layers, but its config has 0");
}

static const CU_TestInfo tests[] = {
	{"any registered digest will do", any_registered_digest_will_do},
	{"contents may stand in descriptors",
		contents_may_stand_in_descriptors},
	{"other places are tried", other_places_are_tried},
	{"platforms are chosen by what they say",
		platforms_are_chosen_by_what_they_say},
	{"fields may be missing", fields_may_be_missing}, CU_TEST_INFO_NULL};

const struct suite suite_documents = {"documents", tests};
