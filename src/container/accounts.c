#include "container/accounts.h"

#include <fcntl.h>
#include <string.h>

#include "base/file.h"
#include "base/path.h"
#include "container/apart.h"

#define FILE_BYTES (4u << 20)
#define PATIENCE_MS 5000
/* What th_apart adds, and reads ahead. */
#define READ_ROOM (1u << 18)

static int read_files(void *arg, struct th_buf *reply, struct th_error *err)
{
	static const char *const names[2] = {"etc/passwd", "etc/group"};
	const int root = *(int *)arg;

	(void)err;
	for (int i = 0; i < 2; i++) {
		int fd = th_path_open_in_root(
			root, names[i], O_RDONLY | O_NONBLOCK, 0);
		struct th_error ignored = {0}; /* as if empty */
		struct th_buf text;

		th_buf_init(&text, FILE_BYTES);
		if (fd >= 0)
			th_fd_read_regular(fd, names[i], &text, &ignored);
		/* A NUL in the file ends it, as in every line of it. */
		if (text.len)
			th_buf_add(reply, text.data, strlen(text.data));
		th_buf_add(reply, "", 1);
		th_buf_release(&text);
		th_close(&fd);
	}
	return 0;
}

int th_accounts_read(
	int root, struct th_account_files *files, struct th_error *err)
{
	const struct th_wall_folder folder = {.fd = root};
	const struct th_apart how = {.folders = &folder,
		.count = 1,
		.root = root,
		.patience_ms = PATIENCE_MS};

	th_buf_init(&files->text, 2 * FILE_BYTES + READ_ROOM);
	files->passwd = files->group = NULL;
	if (th_apart(&how, read_files, &root, &files->text, err)) {
		th_buf_release(&files->text);
		return -1;
	}
	files->passwd = files->text.data;
	files->group = files->passwd + strlen(files->passwd) + 1;
	return 0;
}

void th_accounts_release(struct th_account_files *files)
{
	th_buf_release(&files->text);
}
