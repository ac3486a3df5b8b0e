#include "service/unit.h"

#include <stdlib.h>
#include <string.h>

#include "unit/unit.h"

static void words_are_quoted(void)
{
	struct th_unit unit = {.name = "g",
		.program = "/opt/a b/tidyhull",
		.root = "/var/100%/$x",
		.user = true,
		.restart = "never"};
	char *text = th_unit_text(&unit);

	CHECK(strstr(text,
		      "ExecStart=\"/opt/a b/tidyhull\" start g --quiet "
		      "--root \"/var/100%%/$$x\"\n") != NULL);
	CHECK(strstr(text, "WantedBy=default.target") != NULL);
	CHECK(strstr(text, "network-online") == NULL);
	free(text);
}

static void what_was_edited_is_seen(void)
{
	struct th_unit unit = {.of = TH_UNIT_ALL_DUE,
		.program = "/usr/bin/tidyhull",
		.root = "/var/lib/tidyhull"};
	char *text = th_unit_text(&unit), *at;

	CHECK_INT(th_unit_look(text), TH_UNIT_OURS);
	at = strstr(text, "oneshot");
	*at = 'O';
	CHECK_INT(th_unit_look(text), TH_UNIT_EDITED);
	*at = 'o';
	CHECK_INT(th_unit_look(text), TH_UNIT_OURS);
	text[strlen(text) - 1] = '\0';
	CHECK_INT(th_unit_look(text), TH_UNIT_EDITED);
	text[10] = 'x';
	CHECK_INT(th_unit_look(text), TH_UNIT_FOREIGN);
	CHECK_INT(th_unit_look(""), TH_UNIT_FOREIGN);
	free(text);
}

static void names_do_not_meet(void)
{
	char one[TH_UNIT_NAME], other[TH_UNIT_NAME];
	struct th_unit unit = {.name = "all-due"};

	th_unit_name(&unit, one);
	unit.of = TH_UNIT_ALL_DUE;
	th_unit_name(&unit, other);
	CHECK(strcmp(one, other) != 0);
	unit.of = TH_UNIT_GROUP;
	th_unit_name(&unit, other);
	CHECK(strcmp(one, other) != 0);
}

static const CU_TestInfo tests[] = {{"words are quoted", words_are_quoted},
	{"what was edited is seen", what_was_edited_is_seen},
	{"names do not meet", names_do_not_meet}, CU_TEST_INFO_NULL};

const struct suite suite_service_unit = {"service-unit", tests};
