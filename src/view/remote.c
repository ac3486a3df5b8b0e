#include "view/remote.h"

#include <string.h>

#include "base/json.h"
#include "view/history.h"

static uint64_t download_bytes(const struct th_resolved *resolved)
{
	uint64_t total = 0;

	for (size_t i = 0; i < resolved->manifest.layer_count; i++)
		total += resolved->manifest.layers[i].size_bytes;
	return total;
}

static json_t *view_layers(
	const struct th_resolved *resolved, const json_t *config)
{
	json_t *list = json_array();

	for (size_t i = 0; i < resolved->manifest.layer_count; i++) {
		const struct th_descriptor *layer =
			&resolved->manifest.layers[i];

		json_array_append_new(list,
			json_pack("{s:s s:s s:I s:s s:o}", "digest",
				layer->digest, "diff-id",
				resolved->config.diff_ids.items[i], "size",
				(json_int_t)layer->size_bytes, "media-type",
				layer->media_type, "made-by",
				th_view_made_by(config, i)));
	}
	return list;
}

static json_t *view_offers(const struct th_resolved *resolved)
{
	json_t *list = json_array();
	char text[TH_PLATFORM_TEXT];

	for (size_t i = 0; i < resolved->offer_count; i++) {
		th_platform_format(&resolved->offers[i].platform, text);
		json_array_append_new(list,
			json_pack("{s:s s:s}", "platform", text, "digest",
				resolved->offers[i].digest));
	}
	return list;
}

json_t *th_view_resolved(const char *name, const struct th_resolved *resolved)
{
	struct th_error ignored = {0}; /* then it is not shown */
	json_t *config = NULL, *part, *doc;
	char text[TH_PLATFORM_TEXT];

	doc = json_pack("{s:s s:s s:o s:n s:n s:n s:n s:n s:n s:n s:n}", "name",
		name, "digest", resolved->first, "platforms",
		view_offers(resolved), "platform", "manifest-digest", "created",
		"download", "layers", "config", "history", "note");
	if (!resolved->config.diff_ids.count)
		return doc;
	th_json_parse(resolved->config_body.data, resolved->config_body.len,
		"the config", &config, &ignored);
	th_platform_format(&resolved->config.platform, text);
	json_object_set_new(doc, "platform", json_string(text));
	json_object_set_new(
		doc, "manifest-digest", json_string(resolved->digest));
	json_object_set_new(
		doc, "created", th_json_word(resolved->config.created));
	json_object_set_new(doc, "download",
		json_integer((json_int_t)download_bytes(resolved)));
	json_object_set_new(doc, "layers", view_layers(resolved, config));
	part = json_object_get(config, "config");
	json_object_set(doc, "config", part ? part : json_null());
	part = json_object_get(config, "history");
	json_object_set(doc, "history", part ? part : json_null());
	json_decref(config);
	return doc;
}
