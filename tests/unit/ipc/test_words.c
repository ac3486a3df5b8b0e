/* What messages say, and that it is understood across versions. */
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#include "ipc/words.h"
#include "keeper/keeper.h"
#include "unit/unit.h"

static struct th_message message;

/* As it lies on the wire: version, type, length, words. */
static int receive(uint16_t version, uint16_t type, const char *words,
	struct th_error *err)
{
	struct {
		uint16_t version, type;
		uint32_t len;
		char words[512];
	} wire = {.version = version, .type = type, .len = strlen(words)};
	int pair[2] = {-1, -1}, fds[TH_CHANNEL_FDS], rc;

	memcpy(wire.words, words, wire.len);
	CHECK_INT(socketpair(AF_UNIX, SOCK_SEQPACKET, 0, pair), 0);
	CHECK_INT(send(pair[0], &wire, 8 + wire.len, 0), 8 + wire.len);
	rc = th_channel_receive(pair[1], &message, fds, err);
	close(pair[0]);
	close(pair[1]);
	return rc;
}

static void put(char *words)
{
	CHECK(words != NULL);
	message.len = (uint32_t)strlen(words);
	memcpy(message.data, words, message.len + 1);
	free(words);
}

static void errors_come_back(void)
{
	struct th_error err = {0}, back = {0};

	th_trouble(&err, TH_TROUBLE_PORT);
	th_fail_sys(&err, TH_IN_USE, 98, "port 80 of \"\xff\x01 gauge\"");
	th_hint(&err, "choose another one");
	put(th_words_of_error(&err));
	CHECK_INT(th_words_error(&message, &back), -1);
	CHECK_INT(back.code, TH_IN_USE);
	CHECK_INT(back.trouble, err.trouble);
	CHECK_INT(back.sys, 98);
	CHECK(strstr(back.msg, "gauge\"") != NULL);
	CHECK_TEXT(back.hint, "choose another one");
	/* Whatever comes, it is one. */
	th_error_clear(&back);
	put(strdup("{\"code\": 4711, \"trouble\": -3}"));
	CHECK_INT(th_words_error(&message, &back), -1);
	CHECK_INT(back.code, TH_FAILED);
	CHECK_INT(back.trouble, TH_TROUBLE_NONE);
	CHECK(back.msg[0]);
	th_error_clear(&back);
	put(strdup("no words"));
	CHECK_INT(th_words_error(&message, &back), -1);
	CHECK_INT(back.code, TH_FAILED);
}

static void endings_sizes_and_ports_come_back(void)
{
	const struct th_ending ending = {TH_OUTCOME_SIGNAL, 9, 1, 3, 500};
	const struct th_port_row rows[2] = {{.protocol = "tcp",
						    .address = "127.0.0.1",
						    .host_port = 8080,
						    .port = 80},
		{.protocol = "udp",
			.address = "::",
			.host_port = 53,
			.port = 53}};
	struct th_port_row told[TH_CHANNEL_FDS];
	struct th_ending back = {0};
	struct th_size size = {0};
	int pair[2], fds[TH_CHANNEL_FDS];

	put(th_words_of_ending(&ending));
	CHECK(th_words_ending(&message, &back));
	CHECK_INT(memcmp(&ending, &back, sizeof(back)), 0);
	put(th_words_of_size((struct th_size){24, 80}));
	CHECK(!th_words_ending(&message, &back));
	CHECK(th_words_size(&message, &size));
	CHECK(size.rows == 24 && size.columns == 80);
	CHECK_INT(socketpair(AF_UNIX, SOCK_SEQPACKET, 0, pair), 0);
	CHECK_INT(
		th_words_send_ports(pair[0], TH_TELL_PORTS, rows, pair, 2), 0);
	CHECK_INT(th_channel_receive(pair[1], &message, fds, NULL), 1);
	CHECK(fds[0] >= 0 && fds[1] >= 0 && fds[2] < 0);
	CHECK_INT(th_words_ports(&message, told), 2);
	CHECK_TEXT(told[0].address, "127.0.0.1");
	CHECK_INT(told[0].host_port, 8080);
	CHECK_TEXT(told[1].protocol, "udp");
	CHECK_INT(told[1].port, 53);
	for (int i = 0; i < 2; i++) {
		close(pair[i]);
		close(fds[i]);
	}
}

/* These bytes are those of the first version that has frozen them. They are
 * never changed. */
static void what_is_frozen_is_understood_for_ever(void)
{
	struct th_ending ending = {0};
	struct th_error err = {0};

	CHECK_INT(receive(999, 104,
			  "{\"outcome\":1,\"code\":3,\"by-force\":0,"
			  "\"sessions\":0,\"wait-ms\":0,\"new\":[{}]}",
			  &err),
		1);
	CHECK(th_words_ending(&message, &ending));
	CHECK_INT(ending.outcome, TH_OUTCOME_EXITED);
	CHECK_INT(ending.code, 3);
	CHECK_INT(receive(1, 101,
			  "{\"code\":3,\"trouble\":0,\"errno\":0,\"message\":"
			  "\"it has just ended\",\"hint\":\"\"}",
			  &err),
		1);
	th_words_error(&message, &err);
	CHECK_INT(err.code, TH_NOT_FOUND);
	CHECK_TEXT(err.msg, "it has just ended");
	th_error_clear(&err);
	CHECK_INT(receive(1, 106, "", &err), 1);
	CHECK_INT(receive(1, 112, "{}", &err), 1);
	CHECK_INT(err.code, TH_OK);
	/* All else is not taken from another version. */
	CHECK_INT(receive(1, 6, "{}", &err), -1);
	CHECK(strstr(err.msg, "another version") != NULL);
}

static void ask(struct client *client, uint16_t type, const char *words)
{
	int fds[TH_CHANNEL_FDS] = {-1, -1, -1, -1};
	struct th_error err = {0};

	CHECK_INT(receive(999, type, words, &err), 1);
	keeper_handle(client, &message, fds);
}

/* A command of another version ends the container of a keeper of this one. */
static void a_keeper_heeds_what_is_frozen(void)
{
	struct keeper keeper = {.state = STATE_DRAINING,
		.notify = "",
		.plan = {.stop_signal = 15}};
	int pair[2], fds[TH_CHANNEL_FDS];

	CHECK_INT(th_loop_init(&keeper.loop, NULL), 0);
	keeper.streams.out.fd = keeper.streams.err.fd = keeper.streams.in.fd =
		-1;
	keeper.row.name[0] = 'x';
	CHECK_INT(socketpair(AF_UNIX, SOCK_SEQPACKET, 0, pair), 0);
	keeper_add_client(&keeper, pair[0], false);
	ask(keeper.clients.first, 4, "{\"signal\":15,\"actor\":\"selwick\"}");
	CHECK_INT(keeper.stopping.sent, 15);
	CHECK_TEXT(keeper.stopping.sent_by, "selwick");
	CHECK_INT(th_channel_receive(pair[1], &message, fds, NULL), 1);
	CHECK_INT(message.type, 106);
	ask(keeper.clients.first, 15, "{\"until\":\"end\"}");
	CHECK(keeper.clients.first->waits_for_end);
	ask(keeper.clients.first, 5,
		"{\"signal\":2,\"grace-ms\":1000000,\"actor\":\"selwick\"}");
	CHECK(keeper.stopping.asked && keeper.stopping.by_person);
	CHECK_TEXT(keeper.stopping.actor, "selwick");
	CHECK(keeper.stopping.force_ms > 1000000);
	ask(keeper.clients.first, 23, "");
	CHECK_INT(th_channel_receive(pair[1], &message, fds, NULL), 1);
	CHECK_INT(message.type, 112);
	keeper_drop_client(keeper.clients.first);
	close(pair[1]);
	th_loop_release(&keeper.loop);
}

static const CU_TestInfo tests[] = {{"errors come back", errors_come_back},
	{"endings, sizes and ports come back",
		endings_sizes_and_ports_come_back},
	{"what is frozen is understood for ever",
		what_is_frozen_is_understood_for_ever},
	{"a keeper heeds what is frozen", a_keeper_heeds_what_is_frozen},
	CU_TEST_INFO_NULL};

const struct suite suite_words = {"words", tests};
