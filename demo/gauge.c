/* selwick/gauge: the tide gauge of Port Selwick. Serves the tide's height as
 * HTML (/) and JSON (/tide.json), for the station named by STATION, with the
 * readings of past days from a folder (HISTORY, or /srv/history). */
#include <arpa/inet.h>
#include <dirent.h>
#include <errno.h>
#include <math.h>
#include <netinet/in.h>
#include <poll.h>
#include <signal.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/time.h>
#include <time.h>
#include <unistd.h>

#define PAGE_BYTES 65536

static const char *station, *history;

struct page {
	char text[PAGE_BYTES];
	size_t len;
};

static void add(struct page *page, const char *fmt, ...)
	__attribute__((format(printf, 2, 3)));

static void add(struct page *page, const char *fmt, ...)
{
	va_list args;
	int len;

	va_start(args, fmt);
	len = vsnprintf(
		page->text + page->len, PAGE_BYTES - page->len, fmt, args);
	va_end(args);
	if (len > 0 && page->len + (size_t)len < PAGE_BYTES)
		page->len += (size_t)len;
}

/* Two tides a day around a mean of 3.1 m, each station with its own delay. */
static double height(time_t now)
{
	double phase = 0;

	for (const char *at = station; *at; at++)
		phase += (unsigned char)*at * 37.0;
	return 3.1 + 1.9 * sin(((double)now + phase) / 44714.0 * 6.2831853);
}

/* Calls add_reading for each line "DATE HEIGHT" of the folder's files. */
static int read_history(struct page *page,
	void (*add_reading)(
		struct page *page, const char *day, double metres, int number))
{
	struct dirent *entry;
	DIR *dir = opendir(history);
	int count = 0;

	while (dir && (entry = readdir(dir))) {
		char path[1024], line[128], day[32];
		double metres;
		FILE *file;

		if (entry->d_name[0] == '.')
			continue;
		snprintf(path, sizeof(path), "%s/%s", history, entry->d_name);
		file = fopen(path, "r");
		while (file && fgets(line, sizeof(line), file)) {
			if (sscanf(line, "%31s %lf", day, &metres) == 2)
				add_reading(page, day, metres, count++);
		}
		if (file)
			fclose(file);
	}
	if (dir)
		closedir(dir);
	return count;
}

static void json_reading(
	struct page *page, const char *day, double metres, int number)
{
	add(page, "%s{\"day\":\"%s\",\"metres\":%.2f}", number ? "," : "", day,
		metres);
}

static void html_reading(
	struct page *page, const char *day, double metres, int number)
{
	(void)number;
	add(page, "<tr><td>%s</td><td>%.2f m</td></tr>\n", day, metres);
}

static void make_json(struct page *page, time_t now)
{
	add(page,
		"{\"port\":\"Port Selwick\",\"station\":\"%s\","
		"\"metres\":%.2f,\"history\":[",
		station, height(now));
	read_history(page, json_reading);
	add(page, "]}\n");
}

static void make_html(struct page *page, time_t now)
{
	add(page,
		"<!doctype html>\n<title>Tide gauge %s</title>\n"
		"<h1>Port Selwick, tide gauge %s</h1>\n"
		"<p>The water stands at <b>%.2f m</b>.</p>\n<table>\n",
		station, station, height(now));
	read_history(page, html_reading);
	add(page, "</table>\n");
}

static void answer(int client)
{
	static struct page page;
	char request[4096], method[8], path[256], head[256];
	const char *type = "text/html; charset=utf-8", *status = "200 OK";
	ssize_t got = read(client, request, sizeof(request) - 1);
	time_t now = time(NULL);

	page.len = 0;
	request[got > 0 ? got : 0] = '\0';
	if (sscanf(request, "%7s %255s", method, path) != 2)
		return;
	if (strcmp(path, "/") == 0) {
		make_html(&page, now);
	} else if (strcmp(path, "/tide.json") == 0) {
		type = "application/json";
		make_json(&page, now);
	} else if (strcmp(path, "/health") == 0) {
		type = "text/plain";
		add(&page, "afloat\n");
	} else {
		type = "text/plain";
		status = "404 Not Found";
		add(&page, "no such page at this gauge\n");
	}
	printf("%s %s %.3s\n", method, path, status);
	snprintf(head, sizeof(head),
		"HTTP/1.1 %s\r\nContent-Type: %s\r\nContent-Length: %zu\r\n"
		"Connection: close\r\n\r\n",
		status, type, page.len);
	if (write(client, head, strlen(head)) < 0 ||
		(strcmp(method, "HEAD") != 0 &&
			write(client, page.text, page.len) < 0))
		printf("the caller has gone\n");
}

static void leave(int number)
{
	static const char words[] = "gauge: hauled in\n";

	(void)number;
	if (write(1, words, sizeof(words) - 1) < 0)
		_exit(1);
	_exit(0);
}

#define SOCKETS_MAX 8

/* A socket of the type on the port, for both families; -1 with a message. */
static int open_socket(int type, int port)
{
	struct sockaddr_in6 at = {
		.sin6_family = AF_INET6, .sin6_port = htons((uint16_t)port)};
	int fd = socket(AF_INET6, type, 0), one = 1, none = 0;

	setsockopt(fd, SOL_SOCKET, SO_REUSEADDR, &one, sizeof(one));
	setsockopt(fd, IPPROTO_IPV6, IPV6_V6ONLY, &none, sizeof(none));
	if (bind(fd, (struct sockaddr *)(void *)&at, sizeof(at)) == 0 &&
		(type == SOCK_DGRAM || listen(fd, 512) == 0))
		return fd;
	fprintf(stderr, "gauge: cannot listen on port %d: %s\n", port,
		strerror(errno));
	return -1;
}

/* Sockets that were handed over ready-made stand from 3 on (sd_listen_fds(3));
 * otherwise it makes its own. */
static int take_sockets(struct pollfd set[SOCKETS_MAX], int port)
{
	const char *count = getenv("LISTEN_FDS"), *pid = getenv("LISTEN_PID");
	int taken = 0;

	if (count && pid && atoi(pid) == (int)getpid()) {
		for (; taken < atoi(count) && taken < SOCKETS_MAX; taken++)
			set[taken].fd = 3 + taken;
		printf("gauge %s: %d sockets were handed over\n", station,
			taken);
		return taken;
	}
	set[0].fd = open_socket(SOCK_STREAM, port);
	set[1].fd = open_socket(SOCK_DGRAM, port);
	if (set[0].fd < 0 || set[1].fd < 0)
		return 0;
	printf("gauge %s: listening on port %d, history from %s\n", station,
		port, history);
	return 2;
}

/* Whoever sends anything gets the reading in one line. */
static void answer_datagram(int fd)
{
	struct sockaddr_storage from;
	socklen_t len = sizeof(from);
	char text[256];
	ssize_t got = recvfrom(fd, text, sizeof(text), 0,
		(struct sockaddr *)(void *)&from, &len);

	if (got < 0)
		return;
	got = snprintf(
		text, sizeof(text), "%s %ld\n", station, (long)time(NULL));
	sendto(fd, text, (size_t)got, 0, (struct sockaddr *)(void *)&from, len);
}

static void serve_one(int fd)
{
	const struct timeval patience = {.tv_sec = 5};
	socklen_t len = sizeof(int);
	int type = SOCK_STREAM, client;

	getsockopt(fd, SOL_SOCKET, SO_TYPE, &type, &len);
	if (type == SOCK_DGRAM) {
		answer_datagram(fd);
		return;
	}
	client = accept(fd, NULL, NULL);
	if (client < 0)
		return;
	setsockopt(
		client, SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof(patience));
	answer(client);
	close(client);
}

static int serve(int port)
{
	struct pollfd set[SOCKETS_MAX] = {{0}};
	int count = take_sockets(set, port);

	if (!count)
		return 1;
	for (int i = 0; i < count; i++)
		set[i].events = POLLIN;
	for (;;) {
		if (poll(set, (nfds_t)count, -1) < 0)
			continue;
		for (int i = 0; i < count; i++) {
			if (set[i].revents)
				serve_one(set[i].fd);
		}
	}
}

int main(void)
{
	const char *port = getenv("PORT");

	station = getenv("STATION");
	history = getenv("HISTORY");
	station = station && *station ? station : "nameless";
	history = history && *history ? history : "/srv/history";
	setvbuf(stdout, NULL, _IOLBF, 1024);
	signal(SIGPIPE, SIG_IGN);
	signal(SIGTERM, leave);
	signal(SIGINT, leave);
	return serve(port ? atoi(port) : 80);
}
