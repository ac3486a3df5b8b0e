#include "base/buffer.h"

#include <stdlib.h>
#include <string.h>

#include "unit/unit.h"

static void grows_up_to_its_limit(void)
{
	struct th_buf buf;

	th_buf_init(&buf, 10);
	th_buf_adds(&buf, "12345");
	th_buf_addf(&buf, "%d", 67890);
	CHECK(!buf.failed);
	CHECK_TEXT(buf.data, "1234567890");
	th_buf_adds(&buf, "x");
	CHECK(buf.failed);
	CHECK_INT(buf.len, 10);
	CHECK(th_buf_take(&buf) == NULL);
	th_buf_release(&buf);
}

static void is_text_even_when_empty(void)
{
	struct th_buf buf;

	th_buf_init(&buf, 10);
	CHECK_TEXT(buf.data, "");
	th_buf_release(&buf);
}

static void drops_from_the_front(void)
{
	struct th_buf buf;

	th_buf_init(&buf, 100);
	th_buf_adds(&buf, "north mole");
	th_buf_drop(&buf, 6);
	CHECK_TEXT(buf.data, "mole");
	th_buf_drop(&buf, 99);
	CHECK_TEXT(buf.data, "");
	th_buf_release(&buf);
}

static void hands_its_data_over(void)
{
	struct th_buf buf;
	char *text;

	th_buf_init(&buf, 1000);
	for (int i = 0; i < 100; i++)
		th_buf_adds(&buf, "tide");
	text = th_buf_take(&buf);
	CHECK(text && strlen(text) == 400);
	CHECK_INT(buf.len, 0);
	free(text);
}

static void lists_end_with_null(void)
{
	struct th_strings list = {0};

	CHECK_INT(th_strings_add(&list, "a"), 0);
	CHECK_INT(th_strings_take(&list, th_format("%d", 7)), 0);
	CHECK_INT(th_strings_take(&list, NULL), -1);
	CHECK_INT(list.count, 2);
	CHECK_TEXT(list.items[1], "7");
	CHECK(list.items[2] == NULL);
	th_strings_release(&list);
	CHECK_INT(list.count, 0);
}

static const CU_TestInfo tests[] = {
	{"grows up to its limit", grows_up_to_its_limit},
	{"is text even when empty", is_text_even_when_empty},
	{"drops from the front", drops_from_the_front},
	{"hands its data over", hands_its_data_over},
	{"lists end with NULL", lists_end_with_null}, CU_TEST_INFO_NULL};

const struct suite suite_buffer = {"buffer", tests};
