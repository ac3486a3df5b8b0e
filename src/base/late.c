#include "base/late.h"

#include <dlfcn.h>
#include <pthread.h>
#include <string.h>

int late_load(struct late_library *library, struct th_error *err)
{
	static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
	void *handle;
	int rc = 0;

	pthread_mutex_lock(&lock);
	if (library->loaded)
		goto out;
	handle = dlopen(library->file, RTLD_NOW | RTLD_LOCAL);
	if (!handle) {
		rc = th_fail(err, TH_NOT_POSSIBLE,
			"the library %s cannot be loaded", library->file);
		th_hint(err, "is tidyhull installed completely?");
		goto out;
	}
	for (const struct late_function *one = library->functions; one->name;
		one++) {
		/* POSIX lets a function's address stand in a void pointer. */
		void *address = dlsym(handle, one->name);

		if (!address) {
			rc = th_fail(err, TH_NOT_POSSIBLE,
				"the library %s lacks %s: it is too old",
				library->file, one->name);
			goto out;
		}
		memcpy(one->place, &address, sizeof(address));
	}
	library->loaded = 1;
out:
	pthread_mutex_unlock(&lock);
	return rc;
}
