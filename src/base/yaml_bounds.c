#include "base/yaml_bounds.h"

#include <stdbool.h>
#include <yaml.h>

#define LEVELS_MAX 16
#define VALUES_MAX 10000
#define ALIASES_MAX 100

struct count {
	int level, values, aliases;
};

/* What there is too much of, or NULL. */
static const char *count_event(struct count *count, yaml_event_type_t type)
{
	switch (type) {
	case YAML_SEQUENCE_START_EVENT:
	case YAML_MAPPING_START_EVENT:
		count->level++;
		count->values++;
		break;
	case YAML_SEQUENCE_END_EVENT:
	case YAML_MAPPING_END_EVENT:
		count->level--;
		break;
	case YAML_SCALAR_EVENT:
		count->values++;
		break;
	case YAML_ALIAS_EVENT:
		count->aliases++;
		break;
	default:
		break;
	}
	return count->level > LEVELS_MAX     ? "it is nested too deeply"
		: count->values > VALUES_MAX ? "it has more than 10,000 values"
		: count->aliases > ALIASES_MAX ? "it has more than 100 aliases"
					       : NULL;
}

int th_yaml_check(
	const char *name, const struct th_buf *text, struct th_error *err)
{
	struct count count = {0, 0, 0};
	yaml_parser_t parser;
	bool over = false;
	int rc = 0;

	if (!yaml_parser_initialize(&parser))
		return th_fail_memory(err);
	yaml_parser_set_input_string(
		&parser, (const unsigned char *)text->data, text->len);
	/* By events: the parser builds nothing, and stops where it is told. */
	while (!over) {
		yaml_event_t event;
		const char *much;

		if (!yaml_parser_parse(&parser, &event))
			break;
		much = count_event(&count, event.type);
		over = much || event.type == YAML_STREAM_END_EVENT;
		if (much)
			rc = th_fail(err, TH_USAGE, "%.300s, line %zu: %s",
				name, event.start_mark.line + 1, much);
		yaml_event_delete(&event);
	}
	yaml_parser_delete(&parser);
	return rc;
}
