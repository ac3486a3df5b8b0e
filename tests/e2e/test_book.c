/* The mistakes book (docs/mistakes.md): each of its lines is made, and has to
 * say what stands there. With BOOK=FILE in the environment the book is written
 * anew to that file. */
#include <fcntl.h>
#include <fnmatch.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/buffer.h"
#include "base/file.h"
#include "e2e/harness.h"

#define INDENT "    "
#define PROMPT INDENT "$ "

static void prepare(void)
{
	CODE(hull("unpack -q %s/demo-images", world_build), 0);
	CODE(hull("launch -q selwick/gauge --name web --network none -- sleep "
		  "1000"),
		0);
	CODE(hull("launch -q selwick/base --name work --network none -- sleep "
		  "1000"),
		0);
	CODE(hull("run --keep selwick/base --name done --network none -- true"),
		0);
	CODE(other("mkdir -p site"), 0);
	put_file("gauge.tar", "");
	put_file("recipe.yaml", "image: selwick/tide\nfrom: selwick/base\n");
}

/* What differs from run to run is called as in the book. */
static char *calm(const char *text)
{
	size_t folder = strlen(world_folder);
	struct th_buf out;

	th_buf_init(&out, 1 << 16);
	while (*text) {
		if (strncmp(text, world_folder, folder) == 0) {
			th_buf_adds(&out, "/home/pilot");
			text += folder;
		} else if (strncmp(text, "localhost:", 10) == 0) {
			th_buf_adds(&out, "registry.example");
			text += 10 + strspn(text + 10, "0123456789");
		} else {
			th_buf_add(&out, text++, 1);
		}
	}
	return th_buf_take(&out);
}

static void add_indented(struct th_buf *text, const char *lines)
{
	while (*lines) {
		size_t len = strcspn(lines, "\n");

		th_buf_addf(
			text, len ? INDENT "%.*s\n" : "\n", (int)len, lines);
		lines += len + (lines[len] == '\n');
	}
}

/* The output of a block, up to the next line or the end of the block. */
static size_t output_length(const char *at)
{
	const char *begin = at;

	while (strncmp(at, INDENT, 4) == 0 && strncmp(at, PROMPT, 6) != 0)
		at += strcspn(at, "\n") + 1;
	return (size_t)(at - begin);
}

static void each_line(const char *book, struct th_buf *anew)
{
	const struct result *result;
	char line[300], *quiet;
	int count = 0;

	for (const char *at = book; *at;) {
		size_t len = strcspn(at, "\n"), said;
		struct th_buf is;

		th_buf_addf(anew, "%.*s\n", (int)len, at);
		if (strncmp(at, PROMPT, 6) != 0) {
			at += len + (at[len] == '\n');
			continue;
		}
		snprintf(line, sizeof(line), "%.*s", (int)len - 6, at + 6);
		at += len + (at[len] == '\n');
		said = output_length(at);
		result = by_shell(line);
		th_buf_init(&is, 1 << 16);
		quiet = calm(result->err);
		add_indented(&is, quiet);
		free(quiet);
		CHECK(result->code != 0);
		th_buf_adds(anew, is.data);
		if (!getenv("BOOK") &&
			(is.len != said || strncmp(is.data, at, said) != 0)) {
			printf("\n    $ %s\n%s    instead of\n%.*s", line,
				is.data, (int)said, at);
			CU_FAIL("it says something else");
		}
		th_buf_release(&is);
		at += said;
		count++;
	}
	CHECK(count >= 100);
}

static void each_mistake_says_what_the_book_says(void)
{
	const char *to = getenv("BOOK");
	struct th_buf anew;
	char *book;

	prepare();
	book = strdup(other("cat %s/../docs/mistakes.md", world_build)->out);
	th_buf_init(&anew, 1 << 20);
	each_line(book, &anew);
	if (to) {
		FILE *file = fopen(to, "w");

		CHECK(file && fputs(anew.data, file) >= 0 && !fclose(file));
	}
	th_buf_release(&anew);
	free(book);
	CODE(hull("remove --all --force --yes -q"), 0);
}

/* ---- the tutorial ---- */

/* What is written must be there, in this order; "..." stands for anything, and
 * alone on a line for any number of lines. */
static bool is_as_written(const char *written, const char *output)
{
	while (*written) {
		size_t len = strcspn(written, "\n");
		char pattern[400] = "*";
		size_t used = 0;

		for (size_t i = 0; i < len && used + 4 < sizeof(pattern);) {
			if (strncmp(written + i, "...", 3) == 0) {
				pattern[used++] = '*';
				i += 3;
				continue;
			}
			if (strchr("*?[\\", written[i]))
				pattern[used++] = '\\';
			pattern[used++] = written[i++];
		}
		pattern[used] = '\0';
		while (*output) {
			size_t line = strcspn(output, "\n");
			char text[2000];

			snprintf(text, sizeof(text), "%.*s", (int)line, output);
			if (fnmatch(pattern, text, 0) == 0)
				break;
			output += line + (output[line] == '\n');
		}
		/* Any number of lines may be none. */
		if (!*output && strcmp(pattern, "*") != 0)
			return false;
		if (strcmp(pattern, "*") != 0)
			output += strcspn(output, "\n");
		written += len + (written[len] == '\n');
	}
	return true;
}

static const char *next_line(const char *at)
{
	at += strcspn(at, "\n");
	return at + (*at == '\n');
}

/* "Write this to `NAME`:" and the block that follows. */
static const char *write_file(const char *at)
{
	char name[80] = "";
	struct th_buf text;

	sscanf(at, "Write this to `%79[^`]", name);
	while (*at && strncmp(at, "```", 3) != 0)
		at = next_line(at);
	th_buf_init(&text, 8192);
	for (at = next_line(at); *at && strncmp(at, "```", 3) != 0;
		at = next_line(at))
		th_buf_add(&text, at, (size_t)(next_line(at) - at));
	put_file(name, text.data);
	th_buf_release(&text);
	return next_line(at);
}

/* A line that is typed and what stands below it. */
static const char *type_line(const char *at)
{
	const char *home = "/usr/share/tidyhull", *found;
	char line[600], real[1200];
	const struct result *result;
	struct th_buf written;
	int code = 0;

	snprintf(line, sizeof(line), "%.*s",
		(int)(strcspn(at, "\n") - strlen(PROMPT)), at + strlen(PROMPT));
	found = strstr(line, home);
	if (found)
		snprintf(real, sizeof(real), "%.*s%s%s", (int)(found - line),
			line, world_build, found + strlen(home));
	else
		snprintf(real, sizeof(real), "%s", line);
	th_buf_init(&written, 8192);
	for (at = next_line(at); strncmp(at, INDENT, 4) == 0 &&
		strncmp(at, PROMPT, strlen(PROMPT)) != 0;
		at = next_line(at)) {
		if (sscanf(at, INDENT "(exit code %d)", &code) != 1)
			th_buf_add(&written, at + 4,
				(size_t)(next_line(at) - at) - 4);
	}
	strncat(real, " 2>&1", sizeof(real) - strlen(real) - 1);
	result = by_shell(real);
	CODE(result, code);
	if (!is_as_written(written.len ? written.data : "", result->out)) {
		printf("\n    %s\n    should say:\n%s\n    and says:\n%s\n",
			line, written.data, result->out);
		CU_FAIL("the tutorial says something else");
	}
	th_buf_release(&written);
	return at;
}

/* How many lines were typed. */
static int follow(const char *document)
{
	struct th_error err = {0};
	struct th_buf text;
	char path[600];
	const char *at;
	int lines = 0;

	th_buf_init(&text, 1 << 20);
	snprintf(path, sizeof(path), "%s/../docs/%s", world_build, document);
	CHECK_INT(th_file_read(AT_FDCWD, path, &text, &err), 1);
	for (at = text.len ? text.data : ""; *at;) {
		if (strncmp(at, "Write this to `", 15) == 0) {
			at = write_file(at);
		} else if (strncmp(at, PROMPT, strlen(PROMPT)) == 0) {
			at = type_line(at);
			lines++;
		} else {
			at = next_line(at);
		}
	}
	th_buf_release(&text);
	return lines;
}

static void the_tutorial_does_what_it_says(void)
{
	CHECK(follow("tutorial.md") > 60);
}

static void troubles_are_as_written(void)
{
	CHECK(follow("troubles.md") > 35);
}

static const CU_TestInfo tests[] = {
	{"the tutorial does what it says", the_tutorial_does_what_it_says},
	{"troubles are as written", troubles_are_as_written},
	{"each mistake says what the book says",
		each_mistake_says_what_the_book_says},
	CU_TEST_INFO_NULL};

const struct suite suite_book = {"mistakes-book", tests};
