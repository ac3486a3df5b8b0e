#include "container/image_root.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "base/file.h"
#include "image/stage.h"
#include "layer/attributes.h"

static int open_tree_of(
	struct th_store *store, const char *tree, struct th_error *err)
{
	char path[TH_TREE_TEXT + 16];
	int fd;

	snprintf(path, sizeof(path), "trees/%s", th_digest_hex(tree));
	fd = openat(store->root_fd, path, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	return fd >= 0 ? fd
		       : th_fail_sys(err, TH_FAILED, errno,
				 "a layer of the image is missing from the "
				 "store");
}

static int add_trees(struct th_store *store, struct th_image_root *root,
	const char *attributes, struct th_error *err)
{
	for (size_t i = 0; i < root->trees.count; i++) {
		const char *name = root->trees.items[i];
		int tree = open_tree_of(store, name, err);
		int rc = tree < 0 ? -1
				  : th_view_add(root->view, tree, NULL, err);

		if (rc == 0 && strcmp(name, attributes) == 0) {
			root->attributes = tree;
			root->nobodys = th_stage_is_borrowed(store, name);
		} else {
			th_close(&tree);
		}
		if (rc)
			return -1;
	}
	return 0;
}

int th_image_root_open(struct th_store *store, const char *digest,
	struct th_image_root *root, struct th_error *err)
{
	char attributes[TH_TREE_TEXT];
	int rc;

	memset(root, 0, sizeof(*root));
	root->attributes = -1;
	root->view = th_view_new();
	if (!root->view)
		return th_fail_memory(err);
	rc = th_image_state_trees(store, digest, &root->trees, attributes, err);
	/* An image that goes meanwhile loses its rows first. */
	if (rc == 0 && !root->trees.count)
		rc = th_fail(err, TH_NOT_FOUND,
			"the image has been removed meanwhile");
	if (rc == 0)
		rc = add_trees(store, root, attributes, err);
	if (rc)
		th_image_root_release(root);
	return rc;
}

void th_image_root_release(struct th_image_root *root)
{
	if (!root->view)
		return;
	th_view_free(root->view);
	th_strings_release(&root->trees);
	th_close(&root->attributes);
	root->view = NULL;
}

int th_image_root_read(const struct th_image_root *root, const char *path,
	struct th_buf *buf, struct th_error *err)
{
	char name[TH_FD_PATH];
	struct th_sight found;
	int rc = th_view_find(root->view, path, &found, err), fd;

	if (rc <= 0)
		return rc;
	/* Of what is open: nothing that waits, as a FIFO would. */
	if (S_ISREG(found.st.st_mode)) {
		fd = open(th_fd_path(found.fd, "", name), O_RDONLY | O_CLOEXEC);
		rc = fd < 0 ? th_fail_sys(err, TH_FAILED, errno,
				      "cannot read the image's %s", path)
			    : th_fd_read_regular(fd, path, buf, err);
		th_close(&fd);
	}
	th_close(&found.fd);
	return rc < 0 ? -1 : 0;
}

int th_image_root_dress(
	const struct th_image_root *root, int folder, struct th_error *err)
{
	struct stat st;
	int rc;

	if (root->attributes < 0)
		return 0;
	rc = fstat(root->attributes, &st);
	if (root->nobodys)
		st.st_uid = st.st_gid = 0;
	return rc || th_layer_copy_attributes(root->attributes, &st, folder)
		? th_fail_sys(err, TH_FAILED, errno,
			  "cannot set the attributes of the container's root")
		: 0;
}
