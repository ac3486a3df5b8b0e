/* The server of the port measurements: echo PORT. The first byte of a
 * connection says what is wanted: 's' takes bytes until their end and answers
 * with one; 'r' sends each 64 bytes back. A process for each connection. */
#include <arpa/inet.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <signal.h>
#include <stdlib.h>
#include <sys/socket.h>
#include <unistd.h>

#include "echo.h"

static char block[256 * 1024];

static void serve(int client)
{
	int one = 1;
	char mode;

	setsockopt(client, IPPROTO_TCP, TCP_NODELAY, &one, sizeof(one));
	if (recv(client, &mode, 1, 0) != 1)
		return;
	if (mode == 's') {
		while (recv(client, block, sizeof(block), 0) > 0)
			;
		send(client, block, 1, MSG_NOSIGNAL);
		return;
	}
	while (recv(client, block, ECHO_BYTES, MSG_WAITALL) == ECHO_BYTES) {
		if (send(client, block, ECHO_BYTES, MSG_NOSIGNAL) != ECHO_BYTES)
			return;
	}
}

int main(int argc, char **argv)
{
	struct sockaddr_in at = {.sin_family = AF_INET};
	int listener = socket(AF_INET, SOCK_STREAM, 0), one = 1;

	if (argc < 2)
		return 2;
	at.sin_port = htons((unsigned short)atoi(argv[1]));
	setsockopt(listener, SOL_SOCKET, SO_REUSEADDR, &one, sizeof(one));
	signal(SIGCHLD, SIG_IGN);
	if (bind(listener, (struct sockaddr *)(void *)&at, sizeof(at)) ||
		listen(listener, 512))
		return 1;
	for (;;) {
		int client = accept(listener, NULL, NULL);

		if (client < 0)
			continue;
		if (fork() == 0) {
			close(listener);
			serve(client);
			_exit(0);
		}
		close(client);
	}
}
