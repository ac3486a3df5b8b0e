#include "base/late_archive.h"

#include "base/late.h"

struct late_archive late_archive;

#define FUNCTION(name)                                                         \
	{                                                                      \
		"archive_" #name, &late_archive.name                           \
	}

int th_late_archive(struct th_error *err)
{
	static const struct late_function functions[] = {
		FUNCTION(entry_filetype), FUNCTION(entry_free),
		FUNCTION(entry_gid), FUNCTION(entry_hardlink),
		FUNCTION(entry_mtime), FUNCTION(entry_mtime_nsec),
		FUNCTION(entry_new), FUNCTION(entry_pathname),
		FUNCTION(entry_pathname_utf8), FUNCTION(entry_perm),
		FUNCTION(entry_rdev), FUNCTION(entry_set_filetype),
		FUNCTION(entry_set_gid), FUNCTION(entry_set_rdev),
		FUNCTION(entry_set_symlink), FUNCTION(entry_set_uid),
		FUNCTION(entry_set_mtime), FUNCTION(entry_set_pathname),
		FUNCTION(entry_set_perm), FUNCTION(entry_set_size),
		FUNCTION(entry_size), FUNCTION(entry_sparse_add_entry),
		FUNCTION(entry_sparse_count), FUNCTION(entry_symlink),
		FUNCTION(entry_uid), FUNCTION(entry_xattr_count),
		FUNCTION(entry_xattr_next), FUNCTION(entry_xattr_reset),
		FUNCTION(error_string), FUNCTION(filter_bytes),
		FUNCTION(read_data_block), FUNCTION(read_free),
		FUNCTION(read_new), FUNCTION(read_next_header),
		FUNCTION(read_open), FUNCTION(read_open_fd),
		FUNCTION(read_support_format_empty),
		FUNCTION(read_support_format_tar), FUNCTION(set_error),
		FUNCTION(write_close), FUNCTION(write_data),
		FUNCTION(write_free), FUNCTION(write_header),
		FUNCTION(write_new), FUNCTION(write_open),
		FUNCTION(write_set_bytes_in_last_block),
		FUNCTION(write_set_bytes_per_block),
		FUNCTION(write_set_format_pax_restricted), {NULL, NULL}};
	static struct late_library library = {"libarchive.so.13", functions, 0};

	return late_load(&library, err);
}
