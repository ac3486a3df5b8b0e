/* Clients that read slowly, or never. */
#include <fcntl.h>
#include <pthread.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#include "keeper/keeper.h"
#include "unit/unit.h"

#define CHUNK 4096

struct pair {
	int keeper, other;
};

static struct pair make_pair(void)
{
	int fds[2] = {-1, -1};

	CHECK_INT(
		socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, fds), 0);
	return (struct pair){fds[0], fds[1]};
}

static void begin(struct keeper *keeper)
{
	memset(keeper, 0, sizeof(*keeper));
	keeper->streams.out.fd = keeper->streams.err.fd =
		keeper->streams.in.fd = -1;
	CHECK_INT(th_loop_init(&keeper->loop, NULL), 0);
}

/* Until its socket takes no more. Returns the messages that it was told. */
static size_t fill(struct client *client)
{
	static const char data[CHUNK];
	size_t count = 0;

	while (!client->pending) {
		keeper_tell(client, TH_TELL_OUT, data, sizeof(data));
		count++;
	}
	return count;
}

/* Reads what was told, up to the end; how many messages came before it. */
static size_t read_all(int fd)
{
	static struct th_message message;
	int fds[TH_CHANNEL_FDS];
	size_t count = 0;

	while (th_channel_receive(fd, &message, fds, NULL) == 1) {
		if (message.type == TH_TELL_ENDED)
			return count;
		count++;
	}
	CU_FAIL("no word of the end");
	return count;
}

static void *tell_late(void *keeper)
{
	keeper_tell_late(keeper);
	return NULL;
}

static void one_that_never_reads_keeps_nobody(void)
{
	const struct th_ending ending = {.outcome = TH_OUTCOME_EXITED};
	struct pair never = make_pair(), later = make_pair();
	struct keeper keeper;
	size_t told;
	pthread_t thread;

	begin(&keeper);
	keeper_add_client(&keeper, later.keeper, true);
	told = fill(keeper.clients.first);
	keeper_tell_end(keeper.clients.first, &ending);
	keeper_drop_client(keeper.clients.first);
	/* The last one is the first in the row. */
	keeper_add_client(&keeper, never.keeper, true);
	fill(keeper.clients.first);
	keeper_tell_end(keeper.clients.first, &ending);
	keeper_drop_client(keeper.clients.first);
	CHECK_INT(keeper.clients.blocked, 0);
	CHECK_INT(pthread_create(&thread, NULL, tell_late, &keeper), 0);
	CHECK_INT(read_all(later.other), told);
	close(never.other);
	CHECK_INT(pthread_join(thread, NULL), 0);
	CHECK(!keeper.clients.late);
	close(later.other);
	th_loop_release(&keeper.loop);
}

/* What waits for it is bounded. */
static void one_that_asks_for_ever_is_dropped(void)
{
	struct pair pair = make_pair();
	struct keeper keeper;
	struct client *client;
	char byte;

	begin(&keeper);
	keeper_add_client(&keeper, pair.keeper, false);
	client = keeper.clients.first;
	fill(client);
	for (int i = 0; i < 100; i++)
		keeper_tell(client, TH_TELL_DONE, "", 0);
	CHECK(client->pending_count <= 64);
	CHECK(keeper.clients.blocked == 1);
	/* Its side is shut: what was sent can be read, and then the end. */
	while (recv(pair.other, &byte, 1, MSG_DONTWAIT) > 0)
		;
	CHECK_INT(recv(pair.other, &byte, 1, MSG_DONTWAIT), 0);
	keeper_drop_client(client);
	CHECK_INT(keeper.clients.blocked, 0);
	CHECK(!keeper.clients.first);
	close(pair.other);
	th_loop_release(&keeper.loop);
}

static const CU_TestInfo tests[] = {{"one that never reads keeps nobody",
					    one_that_never_reads_keeps_nobody},
	{"one that asks for ever is dropped",
		one_that_asks_for_ever_is_dropped},
	CU_TEST_INFO_NULL};

const struct suite suite_clients = {"clients", tests};
