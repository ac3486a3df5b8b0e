/* peer ADDRESS PORT: tells everybody who connects from which address that is.
 */
#include <arpa/inet.h>
#include <netinet/in.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

static void tell(int fd)
{
	struct sockaddr_in6 from;
	socklen_t len = sizeof(from);
	char text[INET6_ADDRSTRLEN + 1] = "";

	if (getpeername(fd, (struct sockaddr *)&from, &len) == 0)
		inet_ntop(AF_INET6, &from.sin6_addr, text, sizeof(text) - 1);
	strcat(text, "\n");
	if (write(fd, text, strlen(text)) < 0)
		perror("write");
	close(fd);
}

int main(int argc, char **argv)
{
	struct sockaddr_in6 own = {.sin6_family = AF_INET6};
	int zero = 0, fd = socket(AF_INET6, SOCK_STREAM | SOCK_CLOEXEC, 0);

	if (argc < 3 || fd < 0 ||
		inet_pton(AF_INET6, argv[1], &own.sin6_addr) != 1)
		return 2;
	own.sin6_port = htons((in_port_t)atoi(argv[2]));
	setsockopt(fd, IPPROTO_IPV6, IPV6_V6ONLY, &zero, sizeof(zero));
	if (bind(fd, (struct sockaddr *)&own, sizeof(own)) || listen(fd, 64)) {
		perror("peer");
		return 1;
	}
	puts("ready");
	fflush(stdout);
	for (;;) {
		int client = accept(fd, NULL, NULL);

		if (client >= 0)
			tell(client);
	}
}
