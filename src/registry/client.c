#include "registry/client.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/hash.h"
#include "oci/manifest.h"

#define ACCEPT                                                                 \
	"Accept: " TH_MEDIA_MANIFEST ", " TH_MEDIA_INDEX                       \
	", application/vnd.docker.distribution.manifest.v2+json"               \
	", application/vnd.docker.distribution.manifest.list.v2+json"

struct th_registry {
	struct th_http *http;
	char base[300]; /* "https://host:port" */
	char host[256];
};

struct th_registry *th_registry_new(const struct th_config *config,
	const char *host, const atomic_bool *cancel, struct th_error *err)
{
	const struct th_registry_config *entry = th_config_find(config, host);
	struct th_http_options options = {
		.cancel = cancel, .ca_file = entry ? entry->ca_file : NULL};
	struct th_registry *registry = calloc(1, sizeof(*registry));

	if (!registry) {
		th_fail_memory(err);
		return NULL;
	}
	snprintf(registry->host, sizeof(registry->host), "%s", host);
	snprintf(registry->base, sizeof(registry->base), "%s://%s",
		entry && entry->transport == TH_TRANSPORT_HTTP ? "http"
							       : "https",
		host);
	registry->http = th_http_new(&options, err);
	if (!registry->http) {
		free(registry);
		return NULL;
	}
	return registry;
}

void th_registry_free(struct th_registry *registry)
{
	if (!registry)
		return;
	th_http_free(registry->http);
	free(registry);
}

/* What a status other than 200 means (spec.md, "Error Codes"). */
static int fail_status(const struct th_registry *registry, long status,
	const char *path, const char *what, struct th_error *err)
{
	const char *joint = strchr(what, ':') ? "@" : ":";

	switch (status) {
	case 404:
		th_fail(err, TH_NOT_FOUND, "the registry %s has no %s%s%s",
			registry->host, path, joint, what);
		return th_hint(err, "check the name and the tag");
	case 401:
	case 403:
		return th_fail(err, TH_NETWORK,
			"the registry %s does not let anybody read %s without "
			"credentials",
			registry->host, path);
	case 429:
		th_fail(err, TH_NETWORK,
			"the registry %s asks for fewer requests",
			registry->host);
		return th_hint(err, "try again in a while");
	default:
		return th_fail(err, TH_NETWORK,
			"the registry %s answered %ld for %s%s%s",
			registry->host, status, path, joint, what);
	}
}

int th_registry_manifest(struct th_registry *registry, const char *path,
	const char *wanted, struct th_buf *body, char digest[TH_DIGEST_TEXT],
	char type[128], struct th_error *err)
{
	char url[1100];
	long status = 0;

	snprintf(url, sizeof(url), "%s/v2/%s/manifests/%s", registry->base,
		path, wanted);
	if (th_http_get(registry->http, url, ACCEPT, &status, type, body, err))
		return -1;
	if (status != 200)
		return fail_status(registry, status, path, wanted, err);
	if (th_hash_once(body->data, body->len, digest))
		return th_fail_memory(err);
	if (th_digest_valid(wanted) && strcmp(wanted, digest) != 0)
		return th_fail(err, TH_NETWORK,
			"the registry %s sent something else than %s: its "
			"digest is %s",
			registry->host, wanted, digest);
	return 0;
}

int th_registry_blob(struct th_registry *registry, const char *path,
	const char *digest, struct th_source **source, struct th_error *err)
{
	char url[1100];
	long status = 0;

	snprintf(url, sizeof(url), "%s/v2/%s/blobs/%s", registry->base, path,
		digest);
	if (th_http_open(registry->http, url, &status, source, err))
		return -1;
	if (status != 200) {
		th_http_close(registry->http);
		return fail_status(registry, status, path, digest, err);
	}
	return 0;
}
