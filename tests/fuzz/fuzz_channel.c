/* Messages on a keeper's socket. */
#include <sys/socket.h>
#include <unistd.h>

#include "base/file.h"
#include "fuzz/fuzz.h"
#include "ipc/channel.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	static struct th_message message;
	int pair[2], fds[TH_CHANNEL_FDS];

	if (size > FUZZ_BYTES_MAX ||
		socketpair(AF_UNIX, SOCK_SEQPACKET | SOCK_CLOEXEC, 0, pair))
		return 0;
	if (send(pair[0], data, size, 0) == (ssize_t)size) {
		th_channel_receive(pair[1], &message, fds, NULL);
		for (int i = 0; i < TH_CHANNEL_FDS; i++)
			th_close(&fds[i]);
	}
	close(pair[0]);
	close(pair[1]);
	return 0;
}
