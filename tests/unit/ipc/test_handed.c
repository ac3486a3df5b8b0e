#include "ipc/handed.h"
#include "store/container_state.h"

#include <arpa/inet.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#include "base/file.h"
#include "unit/unit.h"

#define MANY 11

/* So many sockets, at ports 81 and on; the last one over UDP. */
static void make(struct th_handed *handed)
{
	handed->rows = calloc(MANY, sizeof(*handed->rows));
	handed->fds = calloc(MANY, sizeof(*handed->fds));
	for (int i = 0; i < MANY; i++) {
		struct th_port_row *row = &handed->rows[handed->count];

		snprintf(row->protocol, sizeof(row->protocol), "%s",
			i == MANY - 1 ? "udp" : "tcp");
		snprintf(row->address, sizeof(row->address), "%s",
			i % 2 ? "::" : "0.0.0.0");
		row->port = 80;
		row->host_port = 8000 + i / 2;
		handed->fds[handed->count++] =
			socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
	}
}

static void all_arrive(void)
{
	struct th_handed handed = {0}, other = {0};
	struct th_error err = {0};
	int pair[2];

	make(&handed);
	CHECK_INT(
		socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, pair), 0);
	CHECK_INT(th_handed_send(pair[0], TH_SAY_PORTS, &handed, &err), 0);
	CHECK_INT(th_handed_receive(pair[1], 1000, &other, &err), 0);
	CHECK_INT(other.count, MANY);
	for (size_t i = 0; i < other.count; i++) {
		CHECK(other.fds[i] >= 0 && other.fds[i] != handed.fds[i]);
		CHECK_INT(other.rows[i].host_port, handed.rows[i].host_port);
	}
	th_handed_release(&other);
	/* One that says nothing is not waited for. */
	CHECK_INT(th_handed_receive(pair[1], 10, &other, &err), -1);
	th_error_clear(&err);
	th_close(&pair[0]);
	CHECK_INT(th_handed_receive(pair[1], 1000, &other, &err), -1);
	th_close(&pair[1]);
	th_handed_release(&handed);
}

static void only_what_fits_is_taken(void)
{
	struct th_handed handed = {0};
	struct th_port free_one = {.port = 80},
		       fixed = {.port = 80, .host_port = 8003},
		       other = {.port = 81},
		       datagrams = {.port = 80, .udp = true},
		       near_one = {.port = 80, .address = "127.0.0.1"};
	int fds[2];

	make(&handed);
	CHECK(!th_handed_take(&handed, &other, fds));
	CHECK(!th_handed_take(&handed, &near_one, fds));
	CHECK(th_handed_take(&handed, &fixed, fds));
	CHECK(fds[0] >= 0 && fds[1] >= 0);
	th_close(&fds[0]);
	th_close(&fds[1]);
	/* Of a free port both families have the same number. */
	CHECK(th_handed_take(&handed, &free_one, fds));
	CHECK_INT(free_one.host_port, 8000);
	CHECK(fds[0] >= 0 && fds[1] >= 0);
	th_close(&fds[0]);
	th_close(&fds[1]);
	CHECK(th_handed_take(&handed, &datagrams, fds));
	CHECK(fds[0] >= 0 && fds[1] < 0);
	th_close(&fds[0]);
	/* Once only. */
	CHECK(!th_handed_take(&handed, &fixed, fds));
	th_handed_release(&handed);
}

static const CU_TestInfo tests[] = {{"all arrive", all_arrive},
	{"only what fits is taken", only_what_fits_is_taken},
	CU_TEST_INFO_NULL};

const struct suite suite_handed = {"handed", tests};
