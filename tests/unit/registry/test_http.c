#include "registry/http.h"

#include <arpa/inet.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <pthread.h>
#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#include "unit/unit.h"

#define SENT_BYTES 9000

/* A server of one answer, which ends long before its announced length: what
 * there is of it goes out in one piece, with the end right behind. */
static void *answer_and_end(void *arg)
{
	const int listener = *(const int *)arg, on = 1;
	char text[SENT_BYTES + 200], request[4096];
	int fd = accept(listener, NULL, NULL), head;

	if (fd < 0 || recv(fd, request, sizeof(request), 0) <= 0)
		return NULL;
	head = snprintf(
		text, 200, "HTTP/1.1 200 OK\r\nContent-Length: 100000\r\n\r\n");
	memset(text + head, 'x', SENT_BYTES);
	setsockopt(fd, IPPROTO_TCP, TCP_CORK, &on, sizeof(on));
	if (send(fd, text, (size_t)head + SENT_BYTES, MSG_NOSIGNAL) > 0)
		shutdown(fd, SHUT_RDWR);
	close(fd);
	return NULL;
}

static void what_came_before_the_break_counts(void)
{
	struct sockaddr_in at = {
		.sin_family = AF_INET, .sin_addr = {htonl(INADDR_LOOPBACK)}};
	socklen_t len = sizeof(at);
	int listener = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
	struct th_http_options options = {.stall_us = 0};
	struct th_http_request request = {0};
	struct th_http_answer answer;
	struct th_error err = {0};
	struct th_source *body = NULL;
	struct th_http *http;
	const void *data;
	size_t total = 0;
	ssize_t got;
	char url[64];
	pthread_t server;

	CHECK_INT(bind(listener, (struct sockaddr *)&at, sizeof(at)), 0);
	CHECK_INT(listen(listener, 1), 0);
	getsockname(listener, (struct sockaddr *)&at, &len);
	CHECK_INT(pthread_create(&server, NULL, answer_and_end, &listener), 0);
	snprintf(url, sizeof(url), "http://127.0.0.1:%d/", ntohs(at.sin_port));
	request.url = url;
	http = th_http_new(&options, &err);
	CHECK_INT(th_http_begin(http, &request, &answer, &body, &err), 0);
	CHECK_INT(answer.status, 200);
	while (body && (got = body->next(body, &data, &err)) > 0)
		total += (size_t)got;
	CHECK_INT(total, SENT_BYTES);
	CHECK_INT(err.code, TH_NETWORK);
	CHECK(th_http_may_pass(http));
	th_http_free(http);
	pthread_join(server, NULL);
	close(listener);
}

static const CU_TestInfo tests[] = {{"what came before the break counts",
					    what_came_before_the_break_counts},
	CU_TEST_INFO_NULL};

const struct suite suite_http = {"http", tests};
