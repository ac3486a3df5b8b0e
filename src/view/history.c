#include "view/history.h"

/* Those that made no layer are passed over (OCI Image Specification, config.md,
 * "history"). */
json_t *th_view_made_by(const json_t *config, size_t layer)
{
	json_t *history = json_object_get(config, "history"), *step;
	size_t i, seen = 0;

	json_array_foreach(history, i, step)
	{
		json_t *text = json_object_get(step, "created_by");

		if (json_is_true(json_object_get(step, "empty_layer")))
			continue;
		if (seen++ == layer)
			return json_is_string(text) ? json_incref(text)
						    : json_null();
	}
	return json_null();
}
