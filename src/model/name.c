#include "model/name.h"

#include <ctype.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

#include "base/distance.h"
#include "base/libc.h"

#define LETTERS_AND_DIGITS                                                     \
	"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"                 \
	"0123456789"

bool th_name_valid(const char *name)
{
	size_t len = strlen(name);

	if (len < 1 || len > 63 || !isalnum((unsigned char)name[0]))
		return false;
	return strspn(name, LETTERS_AND_DIGITS "._-") == len;
}

bool th_host_name_valid(const char *name)
{
	size_t len = strlen(name);

	return len > 0 && len <= 63 &&
		strspn(name, LETTERS_AND_DIGITS ".-") == len;
}

/* Letters, digits and the others given, with a letter or digit at both ends. */
static bool is_word(const char *text, size_t len, const char *others,
	bool begins_with_letter)
{
	if (len == 0 || !isalnum((unsigned char)text[len - 1]) ||
		!(begins_with_letter ? isalpha((unsigned char)text[0])
				     : isalnum((unsigned char)text[0])))
		return false;
	for (size_t i = 0; i < len; i++) {
		if (!isalnum((unsigned char)text[i]) &&
			!strchr(others, text[i]))
			return false;
	}
	return true;
}

bool th_device_kind_valid(const char *text, size_t len)
{
	const char *slash = memchr(text, '/', len);

	return slash && is_word(text, (size_t)(slash - text), "_-.", true) &&
		is_word(slash + 1, len - (size_t)(slash + 1 - text), "_-.",
			true);
}

bool th_device_valid(const char *text)
{
	return is_word(text, strlen(text), "_-.:", false);
}

bool th_device_name_valid(const char *text)
{
	const char *equals = strchr(text, '=');

	return equals && th_device_kind_valid(text, (size_t)(equals - text)) &&
		th_device_valid(equals + 1);
}

int th_signal_parse(const char *text)
{
	char *end;
	long number = strtol(text, &end, 10);

	if (end != text && !*end)
		return number >= 1 && number <= 64 ? (int)number : -1;
	if (strncmp(text, "SIG", 3) == 0)
		text += 3;
	for (int i = 1; i < 32; i++) {
		const char *name = sigabbrev_np(i);

		if (name && strcmp(name, text) == 0)
			return i;
	}
	if (strncmp(text, "RTMIN+", 6) == 0) {
		number = strtol(text + 6, &end, 10);
		if (end != text + 6 && !*end && number >= 0 &&
			SIGRTMIN + number <= SIGRTMAX)
			return SIGRTMIN + (int)number;
	}
	return -1;
}

void th_signal_hint(const char *text, struct th_error *err)
{
	const char *names[32] = {NULL}, *found;
	char word[16];
	size_t count = 0, len = 0;

	text += strncasecmp(text, "SIG", 3) == 0 ? 3 : 0;
	for (; text[len] && len + 1 < sizeof(word); len++)
		word[len] = (char)toupper((unsigned char)text[len]);
	word[len] = '\0';
	for (int i = 1; i < 32 && count < 31; i++) {
		if (sigabbrev_np(i))
			names[count++] = sigabbrev_np(i);
	}
	found = th_nearest(word, names);
	if (found)
		th_hint(err, "did you mean %s?", found);
}

const char *th_signal_name(int number)
{
	return number > 0 && number < 32 ? sigabbrev_np(number) : NULL;
}
