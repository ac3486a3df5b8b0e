#include "cli/secret.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <termios.h>
#include <unistd.h>

#include "base/buffer.h"
#include "base/file.h"
#include "cli/verb.h"

#define VALUE_MAX (1u << 20)

char *secret_read(const char *name, struct th_error *err)
{
	struct th_buf buf;

	th_buf_init(&buf, VALUE_MAX);
	/* What stands at standard input may be another user's to open. */
	if ((name ? th_file_read(AT_FDCWD, name, &buf, err)
		  : read_input(&buf, err)) != 1) {
		if (name)
			th_fail(err, TH_NOT_FOUND, "the file %s does not exist",
				name);
		th_buf_release(&buf);
		return NULL;
	}
	if (buf.len && buf.data[buf.len - 1] == '\n')
		buf.data[--buf.len] = '\0';
	if (strlen(buf.data) != buf.len) {
		th_fail(err, TH_USAGE, "the value in %s contains a NUL byte",
			name ? name : "standard input");
		th_buf_release(&buf);
		return NULL;
	}
	th_buf_adds(&buf, "");
	return th_buf_take(&buf);
}

char *secret_ask(const char *key, struct th_error *err)
{
	struct termios before, silent;
	FILE *terminal = fopen("/dev/tty", "r+e");
	char *line = NULL;
	size_t size = 0;
	ssize_t len;

	if (!terminal || tcgetattr(fileno(terminal), &before)) {
		if (terminal)
			fclose(terminal);
		th_fail(err, TH_USAGE, "there is no terminal to ask for %s",
			key);
		return NULL;
	}
	silent = before;
	silent.c_lflag &= ~(tcflag_t)ECHO;
	tcsetattr(fileno(terminal), TCSAFLUSH, &silent);
	fprintf(terminal, "%s: ", key);
	fflush(terminal);
	len = getline(&line, &size, terminal);
	tcsetattr(fileno(terminal), TCSAFLUSH, &before);
	fputc('\n', terminal);
	fclose(terminal);
	if (len < 0) {
		free(line);
		th_fail(err, TH_USAGE, "no value was entered for %s", key);
		return NULL;
	}
	line[strcspn(line, "\n")] = '\0';
	return line;
}

int secret_add(struct th_strings *list, const char *text, struct th_error *err)
{
	const char *from = strchr(text, '=');
	char *value = NULL;
	int rc;

	if (from && strncmp(from, "=@file:", 7) == 0)
		value = secret_read(from + 7, err);
	else if (from && strcmp(from, "=@stdin") == 0)
		value = secret_read(NULL, err);
	else if (from && strcmp(from, "=@ask") == 0)
		value = secret_ask(text, err);
	else
		th_fail(err, TH_USAGE, "\"%.*s\" is not a secret",
			(int)strcspn(text, "="), text);
	if (!value && (!from || (from[1] != '@' && !strchr(from, '/'))))
		return th_hint(err,
			"values on a command line can be read by others: "
			"--secret %.*s=@ask",
			(int)(strcspn(text, "=") > 60 ? 60
						      : strcspn(text, "=")),
			text);
	if (!value && from[1] != '@')
		return th_hint(err, "it is: --secret %.*s=@file:%s",
			(int)(from - text > 60 ? 60 : from - text), text,
			from + 1);
	if (!value)
		return th_hint(err,
			"use --secret NAME=@file:PATH, NAME=@ask or "
			"NAME=@stdin");
	rc = th_strings_take(
		list, th_format("%.*s=%s", (int)(from - text), text, value));
	free(value);
	return rc ? th_fail_memory(err) : 0;
}
