/* selwick/gauge: the tide gauge of Port Selwick. Serves the tide's height as
 * HTML (/) and JSON (/tide.json), for the station named by STATION, with the
 * readings of past days from a folder (HISTORY, or /srv/history). */
#include <arpa/inet.h>
#include <dirent.h>
#include <errno.h>
#include <math.h>
#include <netinet/in.h>
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

static int serve(int port)
{
	struct sockaddr_in6 at = {
		.sin6_family = AF_INET6, .sin6_port = htons((uint16_t)port)};
	const struct timeval patience = {.tv_sec = 5};
	int listener = socket(AF_INET6, SOCK_STREAM, 0), one = 1, none = 0;

	setsockopt(listener, SOL_SOCKET, SO_REUSEADDR, &one, sizeof(one));
	setsockopt(listener, IPPROTO_IPV6, IPV6_V6ONLY, &none, sizeof(none));
	if (bind(listener, (struct sockaddr *)(void *)&at, sizeof(at)) ||
		listen(listener, 512)) {
		fprintf(stderr, "gauge: cannot listen on port %d: %s\n", port,
			strerror(errno));
		return 1;
	}
	printf("gauge %s: listening on port %d, history from %s\n", station,
		port, history);
	for (;;) {
		int client = accept(listener, NULL, NULL);

		if (client < 0)
			continue;
		setsockopt(client, SOL_SOCKET, SO_RCVTIMEO, &patience,
			sizeof(patience));
		answer(client);
		close(client);
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
