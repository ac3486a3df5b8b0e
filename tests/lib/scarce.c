#include "lib/scarce.h"

#include <stddef.h>
#include <stdlib.h>
#include <string.h>

void *__real_malloc(size_t size);
void *__real_calloc(size_t count, size_t size);
void *__real_realloc(void *old, size_t size);
char *__real_strdup(const char *text);
char *__real_strndup(const char *text, size_t len);
void *__wrap_malloc(size_t size);
void *__wrap_calloc(size_t count, size_t size);
void *__wrap_realloc(void *old, size_t size);
char *__wrap_strdup(const char *text);
char *__wrap_strndup(const char *text, size_t len);

static _Thread_local bool counting, refused;
static _Thread_local long left;

void scarce_begin(long number)
{
	counting = true;
	refused = false;
	left = number;
}

bool scarce_end(void)
{
	counting = false;
	return refused;
}

static bool is_out(void)
{
	if (!counting)
		return false;
	if (left-- > 0)
		return false;
	refused = true;
	return true;
}

void *__wrap_malloc(size_t size)
{
	return is_out() ? NULL : __real_malloc(size);
}

void *__wrap_calloc(size_t count, size_t size)
{
	return is_out() ? NULL : __real_calloc(count, size);
}

void *__wrap_realloc(void *old, size_t size)
{
	return is_out() ? NULL : __real_realloc(old, size);
}

char *__wrap_strdup(const char *text)
{
	return is_out() ? NULL : __real_strdup(text);
}

char *__wrap_strndup(const char *text, size_t len)
{
	return is_out() ? NULL : __real_strndup(text, len);
}
