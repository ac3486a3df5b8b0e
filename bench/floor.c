/* The start floor: the same namespaces, mounts, filter and control group as a
 * container of ours, and the same program, by plain calls: no store, no log,
 * no keeper. One static program.
 *
 *   floor [lean|link] SCRATCH FILTER PROGRAM LOWER...
 *
 * link: with a veth device on a bridge of its own that stays, an address and a
 * route, as a container on a network has them. lean: no files from outside,
 * nothing masked, and no copy of the caller's memory. */
#include <errno.h>
#include <fcntl.h>
#include <linux/filter.h>
#include <linux/rtnetlink.h>
#include <linux/sched.h>
#include <linux/seccomp.h>
#include <linux/veth.h>
#include <net/if.h>
#include <sched.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/mount.h>
#include <sys/prctl.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/sysmacros.h>
#include <sys/wait.h>
#include <unistd.h>

#define GROUP "/sys/fs/cgroup/unified/tidyhull-floor"

#define SEAL_BYTES 32

static struct sock_filter program[4096];
static size_t program_len;
static char root[300];
static int is_lean, is_linked;

static int go[2]; /* the link is there */

static void check(int ok, const char *what)
{
	if (!ok) {
		perror(what);
		_exit(9);
	}
}

/* ---- a link, by as few messages as it takes ---- */

#define BRIDGE "hullfloor"

static struct {
	struct nlmsghdr head;
	char body[1024];
} message;

static void begin(int type, int flags, const void *body, size_t len)
{
	memset(&message, 0, sizeof(message));
	message.head.nlmsg_type = (unsigned short)type;
	message.head.nlmsg_flags =
		(unsigned short)(NLM_F_REQUEST | NLM_F_ACK | flags);
	message.head.nlmsg_len = (unsigned int)NLMSG_LENGTH(len);
	memcpy(NLMSG_DATA(&message.head), body, len);
}

static struct rtattr *add(int type, const void *data, size_t len)
{
	struct rtattr *attribute = (void *)((char *)&message.head +
		NLMSG_ALIGN(message.head.nlmsg_len));

	attribute->rta_type = (unsigned short)type;
	attribute->rta_len = (unsigned short)RTA_LENGTH(len);
	if (len)
		memcpy(RTA_DATA(attribute), data, len);
	message.head.nlmsg_len = NLMSG_ALIGN(message.head.nlmsg_len) +
		(unsigned int)RTA_ALIGN(attribute->rta_len);
	return attribute;
}

static void end(struct rtattr *nest)
{
	nest->rta_len = (unsigned short)((char *)&message.head +
		message.head.nlmsg_len - (char *)nest);
}

static void ask(int fd, const char *what)
{
	struct {
		struct nlmsghdr head;
		struct nlmsgerr error;
		char more[512];
	} answer;

	check(send(fd, &message, message.head.nlmsg_len, 0) > 0 &&
			recv(fd, &answer, sizeof(answer), 0) > 0,
		what);
	errno = -answer.error.error;
	check(errno == 0 || errno == EEXIST, what);
}

static int netlink(void)
{
	int fd = socket(AF_NETLINK, SOCK_RAW | SOCK_CLOEXEC, NETLINK_ROUTE);

	check(fd >= 0, "netlink");
	return fd;
}

static void make_bridge(int fd)
{
	struct ifinfomsg up = {.ifi_flags = IFF_UP, .ifi_change = IFF_UP};
	struct rtattr *info;

	begin(RTM_NEWLINK, NLM_F_CREATE | NLM_F_EXCL, &up, sizeof(up));
	add(IFLA_IFNAME, BRIDGE, sizeof(BRIDGE));
	info = add(IFLA_LINKINFO, NULL, 0);
	add(IFLA_INFO_KIND, "bridge", 6);
	end(info);
	ask(fd, "bridge");
}

/* A pair: one end on the bridge, the other in the child's namespace. */
static void make_link(int fd, pid_t child)
{
	struct ifinfomsg up = {.ifi_flags = IFF_UP, .ifi_change = IFF_UP};
	const struct ifinfomsg down = {0};
	unsigned int bridge = if_nametoindex(BRIDGE);
	struct rtattr *info, *data, *peer;
	char name[16];

	snprintf(name, sizeof(name), "hf%d", (int)child);
	begin(RTM_NEWLINK, NLM_F_CREATE | NLM_F_EXCL, &down, sizeof(down));
	add(IFLA_IFNAME, name, strlen(name) + 1);
	add(IFLA_MASTER, &bridge, sizeof(bridge));
	info = add(IFLA_LINKINFO, NULL, 0);
	add(IFLA_INFO_KIND, "veth", 4);
	data = add(IFLA_INFO_DATA, NULL, 0);
	peer = add(VETH_INFO_PEER, &down, sizeof(down));
	add(IFLA_IFNAME, "eth0", 5);
	add(IFLA_NET_NS_PID, &child, sizeof(child));
	end(peer);
	end(data);
	end(info);
	ask(fd, "veth");
	begin(RTM_NEWLINK, 0, &up, sizeof(up));
	add(IFLA_IFNAME, name, strlen(name) + 1);
	ask(fd, "veth up");
}

static void set_address(void)
{
	unsigned char address[4] = {10, 254, 0, 2}, gate[4] = {10, 254, 0, 1};
	struct ifaddrmsg at = {.ifa_family = AF_INET, .ifa_prefixlen = 24};
	struct rtmsg route = {.rtm_family = AF_INET,
		.rtm_table = RT_TABLE_MAIN,
		.rtm_protocol = RTPROT_STATIC,
		.rtm_type = RTN_UNICAST};
	struct ifinfomsg up = {.ifi_family = AF_UNSPEC,
		.ifi_flags = IFF_UP,
		.ifi_change = IFF_UP};
	int fd = netlink();

	at.ifa_index = if_nametoindex("eth0");
	up.ifi_index = (int)at.ifa_index;
	begin(RTM_NEWLINK, 0, &up, sizeof(up));
	ask(fd, "eth0");
	begin(RTM_NEWADDR, NLM_F_CREATE, &at, sizeof(at));
	add(IFA_LOCAL, address, 4);
	add(IFA_ADDRESS, address, 4);
	ask(fd, "address");
	begin(RTM_NEWROUTE, NLM_F_CREATE, &route, sizeof(route));
	add(RTA_GATEWAY, gate, 4);
	ask(fd, "route");
	close(fd);
}

/* ---- the container ---- */

static void devices(void)
{
	static const struct {
		const char *path;
		unsigned int major_id, minor_id;
	} nodes[] = {{"dev/null", 1, 3}, {"dev/zero", 1, 5}, {"dev/full", 1, 7},
		{"dev/random", 1, 8}, {"dev/urandom", 1, 9}, {"dev/tty", 5, 0}};

	for (size_t i = 0; i < 6; i++)
		check(mknod(nodes[i].path, S_IFCHR | 0666,
			      makedev(nodes[i].major_id, nodes[i].minor_id)) ==
				0,
			nodes[i].path);
}

/* Three files from outside, as every container has them. */
static void files(void)
{
	static const char *const names[] = {
		"etc/hosts", "etc/hostname", "etc/resolv.conf"};

	mkdir("etc", 0755);
	for (size_t i = 0; i < 3; i++) {
		char source[32];

		close(open(names[i], O_CREAT | O_WRONLY, 0644));
		snprintf(source, sizeof(source), "/%s", names[i]);
		mount(source, names[i], NULL, MS_BIND, NULL);
		mount(NULL, names[i], NULL,
			MS_BIND | MS_REMOUNT | MS_NOSUID | MS_NODEV, NULL);
	}
}

static void mounts(void)
{
	unsigned long plain = MS_NOSUID | MS_NODEV | MS_NOEXEC;

	mkdir("proc", 0755);
	mkdir("dev", 0755);
	mkdir("sys", 0755);
	check(mount("proc", "proc", "proc", plain, NULL) == 0, "proc");
	check(mount("dev", "dev", "tmpfs", MS_NOSUID, "mode=755") == 0, "dev");
	devices();
	mkdir("dev/pts", 0755);
	mkdir("dev/shm", 01777);
	mkdir("dev/mqueue", 0755);
	check(mount("pts", "dev/pts", "devpts", MS_NOSUID | MS_NOEXEC,
		      "newinstance,ptmxmode=0666") == 0,
		"pts");
	check(mount("shm", "dev/shm", "tmpfs", plain, NULL) == 0, "shm");
	check(mount("mq", "dev/mqueue", "mqueue", plain, NULL) == 0, "mqueue");
	check(mount("sys", "sys", "sysfs", plain | MS_RDONLY, NULL) == 0,
		"sys");
	mount("cgroup", "sys/fs/cgroup", "cgroup2", plain | MS_RDONLY, NULL);
	if (!is_lean)
		files();
}

/* The same ones as a container's; a folder is covered by an empty one. */
static void masks(void)
{
	static const char *const masked[] = {"proc/acpi", "proc/asound",
		"proc/interrupts", "proc/kallsyms", "proc/kcore", "proc/keys",
		"proc/kmsg", "proc/latency_stats", "proc/sched_debug",
		"proc/scsi", "proc/timer_list", "proc/timer_stats",
		"sys/devices/virtual/powercap", "sys/firmware",
		"sys/kernel/debug", "sys/kernel/tracing"};
	static const char *const readonly[] = {"proc/bus", "proc/fs",
		"proc/irq", "proc/sys", "proc/sysrq-trigger"};
	const char *empty = NULL;
	struct stat st;

	for (size_t i = 0; i < 16; i++) {
		if (stat(masked[i], &st))
			continue;
		if (S_ISDIR(st.st_mode) && empty)
			mount(empty, masked[i], NULL, MS_BIND, NULL);
		else if (S_ISDIR(st.st_mode))
			mount("none", empty = masked[i], "tmpfs", MS_RDONLY,
				"size=4k");
		else
			mount("dev/null", masked[i], NULL, MS_BIND, NULL);
	}
	for (size_t i = 0; i < 5; i++) {
		mount(readonly[i], readonly[i], NULL, MS_BIND, NULL);
		mount(NULL, readonly[i], NULL, MS_BIND | MS_REMOUNT | MS_RDONLY,
			NULL);
	}
}

static void inside(const char *path)
{
	struct sock_fprog filter = {
		.len = (unsigned short)program_len, .filter = program};
	struct ifreq request = {0};
	static char *const env[] = {NULL};
	char *args[] = {NULL, NULL};
	int fd;

	mount(NULL, "/", NULL, MS_REC | MS_PRIVATE, NULL);
	check(mount(root, root, NULL, MS_BIND | MS_REC, NULL) == 0 &&
			chdir(root) == 0,
		"root");
	mounts();
	check(syscall(SYS_pivot_root, ".", ".") == 0 &&
			umount2(".", MNT_DETACH) == 0,
		"pivot");
	if (!is_lean)
		masks();
	fd = socket(AF_INET, SOCK_DGRAM, 0);
	memcpy(request.ifr_name, "lo", 3);
	request.ifr_flags = IFF_UP;
	ioctl(fd, SIOCSIFFLAGS, &request);
	close(fd);
	if (is_linked) {
		char byte;

		check(read(go[0], &byte, 1) == 1, "link");
		set_address();
	}
	check(sethostname("floor", 5) == 0, "hostname");
	for (int i = 0; i < 41; i++)
		prctl(PR_CAPBSET_DROP, i, 0, 0, 0);
	prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
	if (program_len)
		check(syscall(SYS_seccomp, SECCOMP_SET_MODE_FILTER, 0,
			      &filter) == 0,
			"filter");
	args[0] = strdup(path);
	execve(path, args, env);
	check(0, path);
}

/* Where caller and child have one stack, no function may return twice. */
__attribute__((always_inline)) static inline long clone_in_place(
	struct clone_args *args, size_t size)
{
#ifdef __x86_64__
	long rc;

	__asm__ volatile("syscall"
			 : "=a"(rc)
			 : "0"(SYS_clone3), "D"(args), "S"(size)
			 : "rcx", "r11", "memory");
	return rc;
#else
	args->flags &= ~(uint64_t)(CLONE_VM | CLONE_VFORK);
	return syscall(SYS_clone3, args, size);
#endif
}

int main(int argc, char **argv)
{
	static char options[8192], lower[6000];
	struct clone_args args = {.exit_signal = SIGCHLD};
	int fd, group, status = 0;
	ssize_t len;
	pid_t pid;

	is_lean = argc > 1 && strcmp(argv[1], "lean") == 0;
	is_linked = argc > 1 && strcmp(argv[1], "link") == 0;
	argv += is_lean + is_linked;
	argc -= is_lean + is_linked;
	if (argc < 5)
		return 2;
	fd = open(argv[2], O_RDONLY);
	/* Behind its seal (docs/formats.md). */
	len = fd < 0 || lseek(fd, SEAL_BYTES, SEEK_SET) < 0
		? 0
		: read(fd, program, sizeof(program));
	program_len = len > 0 ? (size_t)len / sizeof(*program) : 0;
	for (int i = argc - 1; i >= 4; i--)
		snprintf(lower + strlen(lower), sizeof(lower) - strlen(lower),
			"%s%s", *lower ? ":" : "", argv[i]);
	check(chdir(argv[1]) == 0, argv[1]);
	snprintf(root, sizeof(root), "%s/root", argv[1]);
	mkdir("root", 0755);
	mkdir("upper", 0755);
	mkdir("work", 0755);
	snprintf(options, sizeof(options),
		"lowerdir=%s,upperdir=upper,workdir=work,volatile", lower);
	check(unshare(CLONE_NEWNS) == 0 &&
			mount(NULL, "/", NULL, MS_REC | MS_PRIVATE, NULL) ==
				0 &&
			mount("floor", root, "overlay", 0, options) == 0,
		"overlay");
	check(pipe2(go, O_CLOEXEC) == 0, "pipe");
	mkdir(GROUP, 0755);
	group = open(GROUP, O_RDONLY | O_DIRECTORY);
	args.flags = CLONE_NEWNS | CLONE_NEWPID | CLONE_NEWNET | CLONE_NEWUTS |
		CLONE_NEWIPC | CLONE_NEWCGROUP | CLONE_VFORK | CLONE_VM;
	if (!is_lean)
		args.flags &= ~(uint64_t)(CLONE_VM | CLONE_VFORK);
	if (group >= 0) {
		args.flags |= CLONE_INTO_CGROUP;
		args.cgroup = (uint64_t)group;
	}
	pid = (pid_t)clone_in_place(&args, sizeof(args));
	if (pid == 0)
		inside(argv[3]);
	if (is_linked) {
		int links = netlink();

		make_bridge(links);
		make_link(links, pid);
		check(write(go[1], "g", 1) == 1, "go");
	}
	waitpid(pid, &status, 0);
	umount2(root, 0);
	rmdir(GROUP);
	unlink("work/work/incompat/volatile/dirty");
	rmdir("work/work/incompat/volatile");
	rmdir("work/work/incompat");
	rmdir("work/work");
	rmdir("work");
	unlink("upper/etc/hosts");
	unlink("upper/etc/hostname");
	unlink("upper/etc/resolv.conf");
	rmdir("upper/etc");
	rmdir("upper/proc");
	rmdir("upper/dev");
	rmdir("upper/sys");
	rmdir("upper");
	return WIFEXITED(status) ? WEXITSTATUS(status) : 1;
}
