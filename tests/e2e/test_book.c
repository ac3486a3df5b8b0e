/* The mistakes book (docs/mistakes.md): each of its lines is made, and has to
 * say what stands there. With BOOK=FILE in the environment the book is written
 * anew to that file. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/buffer.h"
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

/* What the line says, by a shell in the test's folder. */
static const struct result *make(const char *line)
{
	char text[1200];

	snprintf(text, sizeof(text),
		"PATH=%s:$PATH\nTIDYHULL_ROOT=%s\nexport PATH TIDYHULL_ROOT\n"
		"%s\n",
		world_build, world_store, line);
	put_file("line", text);
	return other("sh line");
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
		result = make(line);
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

static const CU_TestInfo tests[] = {
	{"each mistake says what the book says",
		each_mistake_says_what_the_book_says},
	CU_TEST_INFO_NULL};

const struct suite suite_book = {"mistakes-book", tests};
