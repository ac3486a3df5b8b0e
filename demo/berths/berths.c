/* A front end of its own: the ledger of berths, as a page.
 *
 *     berths [STORE] > ledger.html
 *
 * Each container of the store is a ship: its name, where it lies (its ports),
 * how it does and why. It has nothing of Tidy Hull but libtidyhull, and shows
 * what that is like to use. */
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include <tidyhull/tidyhull.h>

static const char *read_environment(const char *name)
{
	return getenv(name);
}

static void tell(void *owner, const char *text)
{
	(void)owner;
	fprintf(stderr, "berths: note: %s\n", text);
}

static int complain(const th_error *error)
{
	fprintf(stderr, "berths: %s\n", th_error_message(error));
	if (th_error_hint(error)[0])
		fprintf(stderr, "  %s\n", th_error_hint(error));
	return 1;
}

/* Text of containers is not ours: nothing in it may become markup. */
static void put(const char *text)
{
	for (; text && *text; text++) {
		switch (*text) {
		case '<':
			fputs("&lt;", stdout);
			break;
		case '>':
			fputs("&gt;", stdout);
			break;
		case '&':
			fputs("&amp;", stdout);
			break;
		case '"':
			fputs("&quot;", stdout);
			break;
		default:
			putchar(*text);
		}
	}
}

static const char *member(const json_t *doc, const char *key)
{
	const char *text = json_string_value(json_object_get(doc, key));

	return text ? text : "";
}

static void put_ports(const json_t *ship)
{
	const char *last = "";
	const json_t *port;
	size_t i;

	json_array_foreach(json_object_get(ship, "ports"), i, port)
	{
		const char *url = member(port, "url");

		/* Over IPv4 and IPv6 it is one to people. */
		if (strcmp(last, member(port, "reach")) == 0)
			continue;
		last = member(port, "reach");
		if (i)
			fputs("<br>", stdout);
		if (*url)
			printf("<a href=\"%s\">", url);
		put(member(port, "reach"));
		if (*url)
			fputs("</a>", stdout);
	}
}

static void put_reason(th_hull *hull, const char *id)
{
	const json_t *sentence;
	json_t *why = NULL;
	size_t i;

	/* It may have gone since the list was made. */
	if (th_container_reason(hull, id, &why, NULL))
		return;
	json_array_foreach(json_object_get(why, "sentences"), i, sentence)
	{
		put(i ? "; " : "");
		put(json_string_value(sentence));
	}
	json_decref(why);
}

static void put_ship(th_hull *hull, const json_t *ship)
{
	const char *state = member(ship, "state");

	printf("<tr class=\"%s\"><th>", state);
	put(member(ship, "name"));
	fputs("</th><td>", stdout);
	put(state);
	fputs("</td><td>", stdout);
	put_ports(ship);
	fputs("</td><td>", stdout);
	put_reason(hull, member(ship, "id"));
	fputs("</td></tr>\n", stdout);
}

static int put_page(th_hull *hull, th_error *error)
{
	const json_t *ship;
	json_t *doc = NULL;
	size_t i;

	if (th_list(hull, TH_KIND_CONTAINER, true, &doc, error))
		return complain(error);
	fputs("<!doctype html>\n<html lang=\"en\"><meta charset=\"utf-8\">\n"
	      "<title>Port Selwick: berths</title>\n"
	      "<style>body{font:16px sans-serif;margin:2em;max-width:60em}"
	      "td,th{padding:.4em 1em;text-align:left;vertical-align:top;"
	      "border-top:1px solid #ccc}"
	      ".running td+td{color:#165}.stopped{color:#555}</style>\n"
	      "<h1>Port Selwick: the ledger of berths</h1>\n"
	      "<table><tr><th>ship</th><th>state</th><th>berth</th>"
	      "<th>remarks</th></tr>\n",
		stdout);
	json_array_foreach(json_object_get(doc, "containers"), i, ship)
	{
		put_ship(hull, ship);
	}
	printf("</table>\n<p>%zu ships in ", i);
	put(th_hull_root(hull));
	fputs("</p></html>\n", stdout);
	json_decref(doc);
	return fflush(stdout) ? 1 : 0;
}

int main(int argc, char **argv)
{
	const struct th_opening opening = {.root = argc > 1 ? argv[1] : NULL,
		.actor = "the ledger of berths",
		.env = read_environment,
		.notice = tell};
	th_error *error = th_error_new();
	th_hull *hull = th_hull_open(&opening, error);
	int code = hull ? put_page(hull, error) : complain(error);

	th_hull_close(hull);
	th_error_free(error);
	return code;
}
