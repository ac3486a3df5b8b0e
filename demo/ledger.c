/* selwick/ledger: the berth ledger of Port Selwick, a small store of bookings
 * behind a TCP port. It keeps them in a file of its folder (LEDGER_DIR, or
 * /data), one line each, and answers lines:
 *
 *   BOOK berth ship    books it: "ok", or "taken by SHIP"
 *   FREE berth         gives it back: "ok", or "free"
 *   LIST               all bookings, then "end" */
#include <arpa/inet.h>
#include <errno.h>
#include <netinet/in.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/time.h>
#include <unistd.h>

#define BERTHS_MAX 256
#define WORD 64

struct booking {
	char berth[WORD];
	char ship[WORD];
};

static struct booking bookings[BERTHS_MAX];
static int count;
static char file_path[1024], new_path[1032];

static void load(void)
{
	FILE *file = fopen(file_path, "r");

	while (file && count < BERTHS_MAX &&
		fscanf(file, "%63s %63s", bookings[count].berth,
			bookings[count].ship) == 2)
		count++;
	if (file)
		fclose(file);
}

/* Whole or not at all, and on the disk before the answer. */
static int save(void)
{
	FILE *file = fopen(new_path, "w");

	if (!file)
		return -1;
	for (int i = 0; i < count; i++)
		fprintf(file, "%s %s\n", bookings[i].berth, bookings[i].ship);
	if (fflush(file) || fsync(fileno(file))) {
		fclose(file);
		return -1;
	}
	fclose(file);
	return rename(new_path, file_path);
}

static int find(const char *berth)
{
	for (int i = 0; i < count; i++) {
		if (strcmp(bookings[i].berth, berth) == 0)
			return i;
	}
	return -1;
}

static void book(FILE *out, const char *berth, const char *ship)
{
	int at = find(berth);

	if (at >= 0) {
		fprintf(out, "taken by %s\n", bookings[at].ship);
		return;
	}
	if (count == BERTHS_MAX) {
		fputs("the ledger is full\n", out);
		return;
	}
	snprintf(bookings[count].berth, WORD, "%s", berth);
	snprintf(bookings[count].ship, WORD, "%s", ship);
	count++;
	if (save()) {
		count--;
		fprintf(out, "cannot write: %s\n", strerror(errno));
		return;
	}
	printf("berth %s: %s\n", berth, ship);
	fputs("ok\n", out);
}

static void give_back(FILE *out, const char *berth)
{
	int at = find(berth);

	if (at < 0) {
		fputs("free\n", out);
		return;
	}
	bookings[at] = bookings[--count];
	fputs(save() ? "cannot write\n" : "ok\n", out);
	printf("berth %s: free again\n", berth);
}

/* The address of who asks, as the container sees it. */
static void tell_who(FILE *out, int client)
{
	struct sockaddr_in6 from;
	socklen_t len = sizeof(from);
	char text[INET6_ADDRSTRLEN] = "nobody";

	if (getpeername(client, (struct sockaddr *)(void *)&from, &len) == 0)
		inet_ntop(AF_INET6, &from.sin6_addr, text, sizeof(text));
	fprintf(out, "%s\n",
		strncmp(text, "::ffff:", 7) == 0 ? text + 7 : text);
}

static void answer(int client)
{
	FILE *in = fdopen(client, "r"), *out = fdopen(dup(client), "w");
	char line[256], verb[16], berth[WORD], ship[WORD];

	while (in && out && fgets(line, sizeof(line), in)) {
		int words = sscanf(line, "%15s %63s %63s", verb, berth, ship);

		if (words == 3 && strcmp(verb, "BOOK") == 0) {
			book(out, berth, ship);
		} else if (words == 2 && strcmp(verb, "FREE") == 0) {
			give_back(out, berth);
		} else if (words == 1 && strcmp(verb, "LIST") == 0) {
			for (int i = 0; i < count; i++)
				fprintf(out, "%s %s\n", bookings[i].berth,
					bookings[i].ship);
			fputs("end\n", out);
		} else if (words == 1 && strcmp(verb, "WHO") == 0) {
			tell_who(out, client);
		} else {
			fputs("BOOK berth ship, FREE berth, LIST, or WHO\n",
				out);
		}
		fflush(out);
	}
	if (in)
		fclose(in);
	if (out)
		fclose(out);
}

int main(void)
{
	struct sockaddr_in6 at = {.sin6_family = AF_INET6};
	const char *folder = getenv("LEDGER_DIR"), *port = getenv("PORT");
	const struct timeval patience = {.tv_sec = 10};
	int listener, one = 1, none = 0;

	folder = folder && *folder ? folder : "/data";
	snprintf(file_path, sizeof(file_path), "%s/berths", folder);
	snprintf(new_path, sizeof(new_path), "%s.new", file_path);
	setvbuf(stdout, NULL, _IOLBF, 1024);
	signal(SIGPIPE, SIG_IGN);
	signal(SIGTERM, _exit);
	load();
	at.sin6_port = htons((uint16_t)(port ? atoi(port) : 7070));
	listener = socket(AF_INET6, SOCK_STREAM, 0);
	setsockopt(listener, SOL_SOCKET, SO_REUSEADDR, &one, sizeof(one));
	setsockopt(listener, IPPROTO_IPV6, IPV6_V6ONLY, &none, sizeof(none));
	if (bind(listener, (struct sockaddr *)(void *)&at, sizeof(at)) ||
		listen(listener, 64)) {
		fprintf(stderr, "ledger: cannot listen: %s\n", strerror(errno));
		return 1;
	}
	printf("ledger: open with %d booking%s from %s\n", count,
		count == 1 ? "" : "s", folder);
	for (;;) {
		int client = accept(listener, NULL, NULL);

		if (client < 0)
			continue;
		setsockopt(client, SOL_SOCKET, SO_RCVTIMEO, &patience,
			sizeof(patience));
		answer(client);
	}
}
