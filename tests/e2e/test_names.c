/* Names on a network. */
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "e2e/harness.h"

static bool reaches(void *arg)
{
	return hull("exec client -- booking --at %s:7070 list",
		       (const char *)arg)
		       ->code == 0;
}

static bool knows(void *arg)
{
	return strstr(hull("exec client -- cat /etc/hosts")->out, arg) != NULL;
}

/* It is in the file within a moment; who asks before asks name servers. */
static bool finds(void *name)
{
	return wait_until(knows, name) && wait_until(reaches, name);
}

static bool knows_no_more(void *arg)
{
	return !knows(arg);
}

static void neighbours_are_found_by_name(void)
{
	char ledger[] = "ledger", alias[] = "berths", renamed[] = "ledger-two";
	char was[] = " ledger ", host[] = "host.tidyhull",
	     extra[] = "192.0.2.7 chart-office";

	CODE(hull("launch selwick/ledger --name client --host "
		  "chart-office=192.0.2.7 --entrypoint sleep -- 1000"),
		0);
	CODE(hull("launch selwick/ledger --name ledger --alias berths"), 0);
	CHECK(finds(ledger));
	CHECK(finds(alias));
	CHECK(knows(host));
	CHECK(knows(extra));
	/* The other way round, and of both families. */
	SAYS(hull("exec ledger -- cat /etc/hosts")->out, " client\n");
	SAYS(hull("exec client -- cat /etc/hosts")->out, "fd54:48");
	CODE(hull("rename ledger ledger-two"), 0);
	CHECK(finds(renamed));
	CHECK(!knows(was));
	CODE(hull("stop ledger-two"), 0);
	CHECK(wait_until(knows_no_more, renamed));
	/* Another address does not matter. */
	CODE(hull("launch selwick/base --name filler -- sleep 1000"), 0);
	CODE(hull("start ledger-two"), 0);
	CHECK(finds(renamed));
	CODE(hull("restart ledger-two"), 0);
	CHECK(finds(renamed));
	as_root("pkill -9 -f '^tidyhull-keeper .* root: tidyhull restart'");
	CODE(hull("remove --force ledger-two filler"), 0);
	CHECK(wait_until(knows_no_more, renamed));
	CODE(hull("remove --force client"), 0);
}

static void what_is_no_name_is_told(void)
{
	CODE(hull("create selwick/base --alias 'a b'"), 2);
	CODE(hull("create selwick/base --host chart-office=somewhere"), 2);
	/* On a network of its own the extra names hold too. */
	SAYS(hull("run selwick/base --network none --host buoy=192.0.2.9 -- "
		  "cat "
		  "/etc/hosts")
			->out,
		"192.0.2.9 buoy\n");
}

static const CU_TestInfo tests[] = {
	{"neighbours are found by name", neighbours_are_found_by_name},
	{"what is no name is told", what_is_no_name_is_told},
	CU_TEST_INFO_NULL};

const struct suite suite_names = {"names", tests};
