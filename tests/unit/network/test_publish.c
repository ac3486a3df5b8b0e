#include "network/publish.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/file.h"
#include "unit/unit.h"

static void forms_are_read(void)
{
	static const struct {
		const char *text;
		size_t count;
		int port, host;
		const char *address;
		bool udp;
	} cases[] = {{"80", 1, 80, 0, "", false},
		{"80=8080", 1, 80, 8080, "", false},
		{"80=127.0.0.1:8080", 1, 80, 8080, "127.0.0.1", false},
		{"80=[::1]:8080", 1, 80, 8080, "::1", false},
		{"53=5353/udp", 1, 53, 5353, "", true},
		{"80/tcp", 1, 80, 0, "", false},
		{"8000-8009=9000-9009", 10, 8000, 9000, "", false},
		{"7000-7001", 2, 7000, 0, "", false}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		struct th_port *ports = NULL;
		size_t count = 0;

		CHECK_INT(
			th_port_parse(cases[i].text, &ports, &count, NULL), 0);
		CHECK_INT(count, cases[i].count);
		CHECK_INT(ports[0].port, cases[i].port);
		CHECK_INT(ports[0].host_port, cases[i].host);
		CHECK_TEXT(ports[0].address, cases[i].address);
		CHECK_INT(ports[0].udp, cases[i].udp);
		CHECK_INT(
			ports[count - 1].port, cases[i].port + (int)count - 1);
		free(ports);
	}
}

static void a_free_port_is_chosen_and_then_taken(void)
{
	struct th_port port = {.address = "127.0.0.1"}, same;
	struct th_error err = {0};
	char name[64];
	int fds[2], other[2], pid, next;

	CHECK_INT(th_port_bind(&port, fds, &err), 0);
	CHECK(port.host_port > 0);
	same = port;
	CHECK_INT(th_port_bind(&same, other, &err), -1);
	CHECK_INT(err.code, TH_IN_USE);
	th_port_holder(&port, name, &pid);
	CHECK_INT(pid, getpid());
	next = th_port_next_free(&port);
	CHECK(next > port.host_port);
	th_close(&fds[0]);
	CHECK_INT(th_port_bind(&same, other, NULL), 0);
	th_close(&other[0]);
	th_port_holder(&port, name, &pid);
	CHECK_INT(pid, 0);
}

static void an_address_that_is_not_here_is_told(void)
{
	struct th_port port = {.address = "198.51.100.7", .host_port = 8080};
	struct th_error err = {0};
	int fds[2];

	CHECK_INT(th_port_bind(&port, fds, &err), -1);
	CHECK_INT(err.code, TH_NOT_POSSIBLE);
	CHECK(strstr(err.msg, "198.51.100.7") != NULL);
}

static const CU_TestInfo tests[] = {{"forms are read", forms_are_read},
	{"a free port is chosen and then taken",
		a_free_port_is_chosen_and_then_taken},
	{"an address that is not here", an_address_that_is_not_here_is_told},
	CU_TEST_INFO_NULL};

const struct suite suite_publish = {"publish", tests};
