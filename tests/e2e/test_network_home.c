/* Homes on network file systems, as on clusters: the store is kept away from
 * them, and whoever wants it there is told why not. */
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "e2e/harness.h"

/* A call of somebody whose home (the test's folder) says that it is on NFS. */
static struct result *at_home(const char *line)
{
	return other("env -u TIDYHULL_ROOT -u XDG_DATA_HOME HOME=%s "
		     "NETWORK_HOME=%s LD_PRELOAD=%s/preload/network_home.so "
		     "%s/tidyhull %s",
		world_folder, world_folder, world_build, world_build, line);
}

static void a_store_there_is_refused(void)
{
	struct result *result = at_home("sweep --root store");

	CODE(result, 5);
	SAYS(result->err, "on a network file system (NFS)");
	SAYS(result->err, "--root /var/tmp/tidyhull-");
	result = at_home("doctor --root not/made/yet");
	CODE(result, 5);
	SAYS(result->out, "no: it is NFS");
	CODE(other("test ! -e not"), 0);
}

static void the_usual_one_is_the_hosts_own(void)
{
	struct result *result;
	char local[64];
	struct stat st;

	snprintf(local, sizeof(local), "/var/tmp/tidyhull-%s",
		strtok(other("id -u")->out, "\n"));
	CHECK(access(local, F_OK) != 0);
	result = at_home("list");
	CODE(result, 0);
	SAYS(result->err, "your home is on a network file system");
	SAYS(result->err, local);
	CHECK_INT(lstat(local, &st), 0);
	CHECK_INT(st.st_mode & 07777, 0700);
	/* Said once. */
	result = at_home("list");
	CODE(result, 0);
	CHECK_TEXT(result->err, "");
	CODE(other("test ! -e .local"), 0);
	/* What somebody else has put there is not used. */
	as_root("rm -rf %s", local);
	as_root("mkdir %s", local);
	result = at_home("list");
	CHECK(result->code != 0);
	SAYS(result->err, local);
	as_root("rmdir %s", local);
	as_root("ln -s /etc %s", local);
	CHECK(at_home("list")->code != 0);
	as_root("rm %s", local);
}

static const CU_TestInfo tests[] = {
	{"a store there is refused", a_store_there_is_refused},
	{"the usual one is the host's own", the_usual_one_is_the_hosts_own},
	CU_TEST_INFO_NULL};

const struct suite suite_network_home = {"network-home", tests};
