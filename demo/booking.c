/* The client of selwick/ledger: booking [--at HOST:PORT] WORD... sends one
 * line and prints the answer. */
#include <netdb.h>
#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

static int dial(const char *place)
{
	struct addrinfo hints = {.ai_socktype = SOCK_STREAM}, *found, *at;
	char host[256];
	const char *colon = strrchr(place, ':');
	int fd = -1;

	snprintf(host, sizeof(host), "%.*s", colon ? (int)(colon - place) : 255,
		place);
	if (getaddrinfo(host, colon ? colon + 1 : "7070", &hints, &found))
		return -1;
	for (at = found; at && fd < 0; at = at->ai_next) {
		fd = socket(at->ai_family, at->ai_socktype, 0);
		if (fd >= 0 && connect(fd, at->ai_addr, at->ai_addrlen)) {
			close(fd);
			fd = -1;
		}
	}
	freeaddrinfo(found);
	return fd;
}

int main(int argc, char **argv)
{
	const char *place = "localhost:7070";
	char line[256] = "";
	int first = 1, fd;
	FILE *in;

	if (argc > 2 && strcmp(argv[1], "--at") == 0) {
		place = argv[2];
		first = 3;
	}
	if (first >= argc) {
		fputs("booking [--at HOST:PORT] BOOK berth ship | FREE berth | "
		      "LIST | WHO\n",
			stderr);
		return 2;
	}
	for (int i = first; i < argc; i++)
		snprintf(line + strlen(line), sizeof(line) - strlen(line),
			"%s%s", i > first ? " " : "", argv[i]);
	snprintf(line + strlen(line), sizeof(line) - strlen(line), "\n");
	fd = dial(place);
	in = fd < 0 ? NULL : fdopen(fd, "r+");
	if (!in) {
		fprintf(stderr, "booking: no ledger answers at %s\n", place);
		return 1;
	}
	if (write(fd, line, strlen(line)) < 0)
		return 1;
	shutdown(fd, SHUT_WR);
	while (fgets(line, sizeof(line), in)) {
		if (strcmp(line, "end\n") != 0)
			fputs(line, stdout);
	}
	fclose(in);
	return 0;
}
