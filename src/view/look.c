#include "view/look.h"

#include <string.h>

#include "base/clock.h"
#include "base/json.h"
#include "base/utf8.h"
#include "store/machine.h"

json_t *th_view_said(const char *text)
{
	json_t *made = json_string(text);
	struct th_buf visible;

	if (made)
		return made;
	th_buf_init(&visible, 65536);
	th_utf8_visible(text, strlen(text), &visible);
	made = json_string(visible.data ? visible.data : "");
	th_buf_release(&visible);
	return made;
}

json_t *th_view_why(
	const struct th_container_row *row, const struct th_why *why)
{
	json_t *lines = json_array();

	for (size_t i = 0; i < why->line_count; i++)
		json_array_append_new(lines,
			json_pack("{s:s s:o}", "stream",
				why->lines[i].err ? "err" : "out", "text",
				th_view_said(why->lines[i].text)));
	return json_pack("{s:s s:s s:s s:s s:o s:o s:o}", "container", row->id,
		"name", row->name, "state", th_state_word(row->state), "kind",
		why->kind, "sentences", th_json_from_strings(&why->sentences),
		"advice", th_json_from_strings(&why->advice), "last-lines",
		lines);
}

static json_t *number(int64_t value)
{
	return value == TH_UNSET ? json_null() : json_integer(value);
}

json_t *th_view_meter(const struct th_container_row *row,
	const struct th_meter *meter, double cpu_percent)
{
	const struct th_usage *usage = &meter->usage;

	return json_pack("{s:s s:s s:s s:o s:o s:o s:o s:b s:o s:o s:o s:o s:o "
			 "s:o}",
		"name", row->name, "id", row->id, "state",
		th_state_word(row->state), "cpu-us", number(usage->cpu_us),
		"cpu-percent",
		cpu_percent < 0 ? json_null() : json_real(cpu_percent),
		"memory", number(usage->memory_bytes), "memory-limit",
		number(usage->memory_limit), "memory-estimated",
		meter->estimated, "processes", number(usage->processes),
		"processes-limit", number(usage->processes_limit), "read",
		number(usage->read_bytes), "written",
		number(usage->written_bytes), "received",
		number(meter->received_bytes), "sent",
		number(meter->sent_bytes));
}

json_t *th_view_process(const struct th_process_row *row)
{
	char state[2] = {row->state, '\0'};

	return json_pack("{s:i s:i s:s s:I s:s s:I s:I s:o s:s}", "pid",
		row->pid, "inside-pid", row->inside_pid, "user", row->user,
		"uid", (json_int_t)row->uid, "state", state, "cpu-us",
		(json_int_t)row->cpu_us, "memory",
		(json_int_t)row->memory_bytes, "started",
		th_json_time(row->started_us), "command", row->command);
}

json_t *th_view_event(const struct th_event_row *row)
{
	char text[TH_CAUSE_TEXT];
	bool ended = row->outcome[0] != '\0';

	th_cause_format(&row->cause, text);
	return json_pack("{s:o s:s s:s s:o s:s s:s s:s s:s s:o s:o}", "time",
		th_json_time(row->time_us), "container", row->container, "name",
		row->name, "from", th_json_word(row->from), "to", row->to,
		"kind", th_cause_word(row->cause.kind), "cause", text, "actor",
		row->actor, "outcome", th_json_word(row->outcome), "code",
		ended ? json_integer(row->code) : json_null());
}
