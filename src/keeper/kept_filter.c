/* The compiled system-call filter: in a sealed file that all containers share,
 * in memory only while it is used. */
#include "base/file.h"
#include "keeper/keeper.h"
#include "sandbox/filter.h"
#include "sandbox/filter_file.h"

void keeper_filter_init(struct kept_filter *filter)
{
	filter->fd = -1;
	th_buf_init(&filter->code, TH_FILTER_MAX);
}

bool keeper_open_filter(struct keeper *keeper)
{
	struct kept_filter *filter = &keeper->kept_filter;
	const char *name = keeper->plan.filter;

	keeper_filter_release(filter);
	if (name)
		filter->fd = th_filter_open(keeper->store->root_fd, name);
	if (filter->fd >= 0 &&
		th_filter_unseal_file(filter->fd, name, &filter->code))
		return true;
	th_close(&filter->fd);
	return false;
}

/* Compiled when the container was made, as that takes longer than the rest of
 * a start; what has been lost is compiled again. */
int keeper_load_filter(struct keeper *keeper, struct th_error *err)
{
	struct th_error ignored = {0}; /* compiled again */
	const char *name = keeper->plan.filter;

	if (!keeper->bundle.seccomp.given || keeper->kept_filter.code.len)
		return 0;
	if (th_filter_compile(
		    &keeper->bundle.seccomp, &keeper->kept_filter.code, err))
		return -1;
	/* For the next one; where that fails, it is compiled again. */
	if (name)
		th_filter_seal(keeper->store->root_fd, name,
			&keeper->kept_filter.code, &ignored);
	return 0;
}

int keeper_filter(struct keeper *keeper, const struct th_buf **filter,
	struct th_error *err)
{
	*filter = NULL;
	if (!keeper->bundle.seccomp.given)
		return 0;
	if (!keeper->kept_filter.code.len &&
		(keeper->kept_filter.fd < 0 ||
			!th_filter_unseal_file(keeper->kept_filter.fd,
				keeper->plan.filter,
				&keeper->kept_filter.code)))
		return th_fail(err, TH_FAILED,
			"the container's system-call filter cannot be read");
	*filter = &keeper->kept_filter.code;
	return 0;
}

void keeper_drop_filter(struct keeper *keeper)
{
	if (keeper->kept_filter.fd < 0)
		return;
	th_buf_release(&keeper->kept_filter.code);
}

bool keeper_filter_is_loaded(const struct keeper *keeper)
{
	return keeper->kept_filter.code.len && keeper->kept_filter.fd >= 0;
}

void keeper_filter_release(struct kept_filter *filter)
{
	th_buf_release(&filter->code);
	th_close(&filter->fd);
}
