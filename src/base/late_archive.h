/* libarchive, loaded when it is first needed: most commands have no use for it,
 * and loading it with all that it brings takes longer than they do. The names
 * are the library's own, so that its manual applies. */
#ifndef TH_BASE_LATE_ARCHIVE_H
#define TH_BASE_LATE_ARCHIVE_H

#include <archive.h>
#include <archive_entry.h>

#include "base/error.h"

struct late_archive {
	mode_t (*entry_filetype)(struct archive_entry *);
	void (*entry_free)(struct archive_entry *);
	la_int64_t (*entry_gid)(struct archive_entry *);
	const char *(*entry_hardlink)(struct archive_entry *);
	time_t (*entry_mtime)(struct archive_entry *);
	long int (*entry_mtime_nsec)(struct archive_entry *);
	struct archive_entry *(*entry_new)(void);
	const char *(*entry_pathname)(struct archive_entry *);
	const char *(*entry_pathname_utf8)(struct archive_entry *);
	mode_t (*entry_perm)(struct archive_entry *);
	dev_t (*entry_rdev)(struct archive_entry *);
	void (*entry_set_filetype)(struct archive_entry *, unsigned int);
	void (*entry_set_mtime)(struct archive_entry *, time_t, long int);
	void (*entry_set_pathname)(struct archive_entry *, const char *);
	void (*entry_set_perm)(struct archive_entry *, mode_t);
	void (*entry_set_size)(struct archive_entry *, la_int64_t);
	void (*entry_set_gid)(struct archive_entry *, la_int64_t);
	void (*entry_set_rdev)(struct archive_entry *, dev_t);
	void (*entry_set_symlink)(struct archive_entry *, const char *);
	void (*entry_set_uid)(struct archive_entry *, la_int64_t);
	la_int64_t (*entry_size)(struct archive_entry *);
	void (*entry_sparse_add_entry)(
		struct archive_entry *, la_int64_t, la_int64_t);
	int (*entry_sparse_count)(struct archive_entry *);
	const char *(*entry_symlink)(struct archive_entry *);
	la_int64_t (*entry_uid)(struct archive_entry *);
	int (*entry_xattr_count)(struct archive_entry *);
	int (*entry_xattr_next)(
		struct archive_entry *, const char **, const void **, size_t *);
	int (*entry_xattr_reset)(struct archive_entry *);
	const char *(*error_string)(struct archive *);
	la_int64_t (*filter_bytes)(struct archive *, int);
	int (*read_data_block)(
		struct archive *, const void **, size_t *, la_int64_t *);
	int (*read_free)(struct archive *);
	struct archive *(*read_new)(void);
	int (*read_next_header)(struct archive *, struct archive_entry **);
	int (*read_open)(struct archive *, void *, archive_open_callback *,
		archive_read_callback *, archive_close_callback *);
	int (*read_open_fd)(struct archive *, int, size_t);
	int (*read_support_format_empty)(struct archive *);
	int (*read_support_format_tar)(struct archive *);
	void (*set_error)(struct archive *, int, const char *, ...);
	int (*write_close)(struct archive *);
	la_ssize_t (*write_data)(struct archive *, const void *, size_t);
	int (*write_free)(struct archive *);
	int (*write_header)(struct archive *, struct archive_entry *);
	struct archive *(*write_new)(void);
	int (*write_open)(struct archive *, void *, archive_open_callback *,
		archive_write_callback *, archive_close_callback *);
	int (*write_set_bytes_in_last_block)(struct archive *, int);
	int (*write_set_bytes_per_block)(struct archive *, int);
	int (*write_set_format_pax_restricted)(struct archive *);
};
extern struct late_archive late_archive;

/* Loads it, once; -1 with TH_NOT_POSSIBLE where it is not installed. To be
 * called before any of its functions. */
int th_late_archive(struct th_error *err);

#undef archive_entry_filetype
#define archive_entry_filetype late_archive.entry_filetype
#undef archive_entry_free
#define archive_entry_free late_archive.entry_free
#undef archive_entry_gid
#define archive_entry_gid late_archive.entry_gid
#undef archive_entry_hardlink
#define archive_entry_hardlink late_archive.entry_hardlink
#undef archive_entry_mtime
#define archive_entry_mtime late_archive.entry_mtime
#undef archive_entry_mtime_nsec
#define archive_entry_mtime_nsec late_archive.entry_mtime_nsec
#undef archive_entry_new
#define archive_entry_new late_archive.entry_new
#undef archive_entry_pathname
#define archive_entry_pathname late_archive.entry_pathname
#undef archive_entry_pathname_utf8
#define archive_entry_pathname_utf8 late_archive.entry_pathname_utf8
#undef archive_entry_perm
#define archive_entry_perm late_archive.entry_perm
#undef archive_entry_rdev
#define archive_entry_rdev late_archive.entry_rdev
#undef archive_entry_set_filetype
#define archive_entry_set_filetype late_archive.entry_set_filetype
#undef archive_entry_set_mtime
#define archive_entry_set_mtime late_archive.entry_set_mtime
#undef archive_entry_set_pathname
#define archive_entry_set_pathname late_archive.entry_set_pathname
#undef archive_entry_set_perm
#define archive_entry_set_perm late_archive.entry_set_perm
#undef archive_entry_set_size
#define archive_entry_set_size late_archive.entry_set_size
#undef archive_entry_set_gid
#define archive_entry_set_gid late_archive.entry_set_gid
#undef archive_entry_set_rdev
#define archive_entry_set_rdev late_archive.entry_set_rdev
#undef archive_entry_set_symlink
#define archive_entry_set_symlink late_archive.entry_set_symlink
#undef archive_entry_set_uid
#define archive_entry_set_uid late_archive.entry_set_uid
#undef archive_entry_size
#define archive_entry_size late_archive.entry_size
#undef archive_entry_sparse_add_entry
#define archive_entry_sparse_add_entry late_archive.entry_sparse_add_entry
#undef archive_entry_sparse_count
#define archive_entry_sparse_count late_archive.entry_sparse_count
#undef archive_entry_symlink
#define archive_entry_symlink late_archive.entry_symlink
#undef archive_entry_uid
#define archive_entry_uid late_archive.entry_uid
#undef archive_entry_xattr_count
#define archive_entry_xattr_count late_archive.entry_xattr_count
#undef archive_entry_xattr_next
#define archive_entry_xattr_next late_archive.entry_xattr_next
#undef archive_entry_xattr_reset
#define archive_entry_xattr_reset late_archive.entry_xattr_reset
#undef archive_error_string
#define archive_error_string late_archive.error_string
#undef archive_filter_bytes
#define archive_filter_bytes late_archive.filter_bytes
#undef archive_read_data_block
#define archive_read_data_block late_archive.read_data_block
#undef archive_read_free
#define archive_read_free late_archive.read_free
#undef archive_read_new
#define archive_read_new late_archive.read_new
#undef archive_read_next_header
#define archive_read_next_header late_archive.read_next_header
#undef archive_read_open
#define archive_read_open late_archive.read_open
#undef archive_read_open_fd
#define archive_read_open_fd late_archive.read_open_fd
#undef archive_read_support_format_empty
#define archive_read_support_format_empty late_archive.read_support_format_empty
#undef archive_read_support_format_tar
#define archive_read_support_format_tar late_archive.read_support_format_tar
#undef archive_set_error
#define archive_set_error late_archive.set_error
#undef archive_write_close
#define archive_write_close late_archive.write_close
#undef archive_write_data
#define archive_write_data late_archive.write_data
#undef archive_write_free
#define archive_write_free late_archive.write_free
#undef archive_write_header
#define archive_write_header late_archive.write_header
#undef archive_write_new
#define archive_write_new late_archive.write_new
#undef archive_write_open
#define archive_write_open late_archive.write_open
#undef archive_write_set_bytes_in_last_block
#define archive_write_set_bytes_in_last_block                                  \
	late_archive.write_set_bytes_in_last_block
#undef archive_write_set_bytes_per_block
#define archive_write_set_bytes_per_block late_archive.write_set_bytes_per_block
#undef archive_write_set_format_pax_restricted
#define archive_write_set_format_pax_restricted                                \
	late_archive.write_set_format_pax_restricted

#endif
