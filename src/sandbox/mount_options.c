#include "sandbox/mount_options.h"

#include <string.h>

#include "base/buffer.h"
#include "base/libc.h"
#include "sandbox/mounts.h"

#define COUNT(list) (sizeof(list) / sizeof(*(list)))

/* An "r" before the word means all mounts below as well. */
static const struct {
	const char *word;
	uint64_t set, clear;
} attributes[] = {{"ro", MOUNT_ATTR_RDONLY, 0}, {"rw", 0, MOUNT_ATTR_RDONLY},
	{"nosuid", MOUNT_ATTR_NOSUID, 0}, {"suid", 0, MOUNT_ATTR_NOSUID},
	{"nodev", MOUNT_ATTR_NODEV, 0}, {"dev", 0, MOUNT_ATTR_NODEV},
	{"noexec", MOUNT_ATTR_NOEXEC, 0}, {"exec", 0, MOUNT_ATTR_NOEXEC},
	{"noatime", MOUNT_ATTR_NOATIME, MOUNT_ATTR__ATIME},
	{"atime", MOUNT_ATTR_RELATIME, MOUNT_ATTR__ATIME},
	{"relatime", MOUNT_ATTR_RELATIME, MOUNT_ATTR__ATIME},
	{"norelatime", MOUNT_ATTR_STRICTATIME, MOUNT_ATTR__ATIME},
	{"strictatime", MOUNT_ATTR_STRICTATIME, MOUNT_ATTR__ATIME},
	{"nostrictatime", MOUNT_ATTR_RELATIME, MOUNT_ATTR__ATIME},
	{"nodiratime", MOUNT_ATTR_NODIRATIME, 0},
	{"diratime", 0, MOUNT_ATTR_NODIRATIME},
	{"nosymfollow", MOUNT_ATTR_NOSYMFOLLOW, 0},
	{"symfollow", 0, MOUNT_ATTR_NOSYMFOLLOW}};

static const struct {
	const char *word;
	uint64_t flags;
} propagations[] = {{"private", MS_PRIVATE}, {"slave", MS_SLAVE},
	{"shared", MS_SHARED}, {"unbindable", MS_UNBINDABLE}};

static const char *const kinds[] = {
	"bind", "rbind", "remount", "tmpcopyup", "idmap", "ridmap"};
/* Versions of inodes are no option of a mount any more. */
static const char *const nothing[] = {
	"defaults", "silent", "loud", "iversion", "noiversion"};
/* Of a file system as a whole. */
static const char *const of_file_systems[] = {
	"async", "dirsync", "lazytime", "mand", "nolazytime", "nomand", "sync"};

static int add_word(struct th_strings *words, const char *word, bool all)
{
	return th_strings_add(words, word) ||
			(all && th_strings_take(words, th_format("r%s", word)))
		? -1
		: 0;
}

int th_mount_options(struct th_strings *words)
{
	int rc = 0;

	for (size_t i = 0; i < COUNT(attributes); i++)
		rc |= add_word(words, attributes[i].word, true);
	for (size_t i = 0; i < COUNT(propagations); i++)
		rc |= add_word(words, propagations[i].word, true);
	for (size_t i = 0; i < COUNT(kinds); i++)
		rc |= add_word(words, kinds[i], false);
	for (size_t i = 0; i < COUNT(nothing); i++)
		rc |= add_word(words, nothing[i], false);
	for (size_t i = 0; i < COUNT(of_file_systems); i++)
		rc |= add_word(words, of_file_systems[i], false);
	return rc;
}

static void add(struct mount_attributes *to, uint64_t set, uint64_t clear)
{
	to->set = (to->set & ~clear) | set;
	to->clear = (to->clear & ~set) | clear;
}

static bool take_attribute(const char *option, struct mount_plan *plan)
{
	for (size_t i = 0; i < COUNT(attributes); i++) {
		uint64_t set = attributes[i].set, clear = attributes[i].clear;

		if (strcmp(option, attributes[i].word) == 0) {
			add(&plan->top, set, clear);
			return true;
		}
		if (option[0] == 'r' &&
			strcmp(option + 1, attributes[i].word) == 0) {
			add(&plan->all, set, clear);
			return true;
		}
	}
	return false;
}

static bool take_propagation(const char *option, struct mount_plan *plan)
{
	for (size_t i = 0; i < COUNT(propagations); i++) {
		bool all = option[0] == 'r' &&
			strcmp(option + 1, propagations[i].word) == 0;

		if (!all && strcmp(option, propagations[i].word) != 0)
			continue;
		plan->propagation = propagations[i].flags;
		plan->propagation_all = all;
		return true;
	}
	return false;
}

static bool take_kind(const char *option, struct mount_plan *plan)
{
	if (strcmp(option, "bind") == 0) {
		plan->bind = true;
	} else if (strcmp(option, "rbind") == 0) {
		plan->bind = plan->recursive = true;
	} else if (strcmp(option, "remount") == 0) {
		plan->remount = true;
	} else if (strcmp(option, "tmpcopyup") == 0) {
		plan->copy_up = true;
	} else if (strcmp(option, "idmap") == 0) {
		plan->id_mapped = true;
	} else if (strcmp(option, "ridmap") == 0) {
		plan->id_mapped = plan->id_mapped_all = true;
	} else {
		for (size_t i = 0; i < COUNT(nothing); i++) {
			if (strcmp(option, nothing[i]) == 0)
				return true;
		}
		return false;
	}
	return true;
}

/* What is bound has a file system already, and mount(2)
 * takes no notice of them there. */
static bool is_of_file_system(const char *option)
{
	for (size_t i = 0; i < COUNT(of_file_systems); i++) {
		if (strcmp(option, of_file_systems[i]) == 0)
			return true;
	}
	return false;
}

static bool is_bind(const struct th_mount *mount)
{
	bool bind = !mount->type || strcmp(mount->type, "bind") == 0;

	for (size_t i = 0; i < mount->options.count; i++) {
		const char *option = mount->options.items[i];

		bind |= strcmp(option, "bind") == 0 ||
			strcmp(option, "rbind") == 0 ||
			strcmp(option, "remount") == 0;
	}
	return bind;
}

int mount_plan_read(const struct th_mount *mount, struct mount_plan *plan,
	struct th_error *err)
{
	bool bind = is_bind(mount);

	memset(plan, 0, sizeof(*plan));
	for (size_t i = 0; i < mount->options.count; i++) {
		const char *option = mount->options.items[i];

		if (take_attribute(option, plan) ||
			take_propagation(option, plan) ||
			take_kind(option, plan) ||
			(bind && is_of_file_system(option)))
			continue;
		if (th_strings_add(&plan->rest, option))
			return th_fail_memory(err);
	}
	if (!mount->type || strcmp(mount->type, "bind") == 0)
		plan->bind = true;
	plan->id_mapped |= mount->uids.count > 0;
	if ((plan->bind || plan->remount) && plan->rest.count)
		return th_fail(err, TH_NOT_POSSIBLE,
			"the mount at %s has the option \"%.100s\", which does "
			"not apply to a bind mount",
			mount->target, plan->rest.items[0]);
	if (plan->id_mapped && !plan->bind)
		return th_fail(err, TH_NOT_POSSIBLE,
			"the mount at %s asks for mapped IDs, which only bind "
			"mounts can have",
			mount->target);
	if (plan->copy_up &&
		(!mount->type || strcmp(mount->type, "tmpfs") != 0))
		return th_fail(err, TH_NOT_POSSIBLE,
			"the mount at %s asks for tmpcopyup, which only tmpfs "
			"mounts can have",
			mount->target);
	return 0;
}
