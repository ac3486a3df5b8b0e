/* Units for systemd: their text, where they are put, and what the keeper tells
 * a service manager. scripts/check-vm-systemd has the real one. */
#include <errno.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <unistd.h>

#include "e2e/bus.h"
#include "e2e/harness.h"

/* Where units lie: the user's own folder, or the system's, covered by one of
 * the test's. */
static char folder[200];

static void begin_folder(void)
{
	if (world_user) {
		snprintf(folder, sizeof(folder), "%s/.config/systemd/user",
			world_folder);
		return;
	}
	snprintf(folder, sizeof(folder), "/etc/systemd/system");
	as_root("mkdir -p %s", folder);
	CODE(as_root("mount -t tmpfs units %s", folder), 0);
}

static void end_folder(void)
{
	if (!world_user)
		CODE(as_root("umount %s", folder), 0);
}

/* systemd itself reads it. */
static void verify(const char *name, const char *arguments)
{
	struct result *result = hull("unit %s", arguments);
	char path[300];

	CODE(result, 0);
	put_file(name, result->out);
	snprintf(path, sizeof(path), "%s/%s", world_folder, name);
	result = as_root("systemd-analyze verify %s", path);
	CODE(result, 0);
	CHECK_TEXT(result->err, "");
}

static void systemd_can_read_them(void)
{
	const char *text;

	CODE(hull("create selwick/gauge --name g --port 80=8080 --mount "
		  "'/x=./a b%%c,make' --probe http:80/health --restart always"),
		0);
	CODE(hull("create selwick/base --name plain --network none -- true"),
		0);
	put_file("harbour.yaml",
		"group: harbour\ncontainers: {a: {image: selwick/base, "
		"network: none, command: [sleep, '1000']}}\n");
	CODE(hull("launch --settings harbour.yaml"), 0);
	verify("tidyhull-container-g.service", "g");
	verify("tidyhull-container-g.service", "g --recreate --fetch always");
	verify("tidyhull-container-plain.service", "plain --restarts systemd");
	verify("tidyhull-group-harbour.service", "group:harbour");
	verify("tidyhull-all-due.service", "--all-due");
	text = hull("unit g")->out;
	SAYS(text, "/a b%%c\"");
	SAYS(text, "Type=notify");
	SAYS(text,
		"# Its keeper restarts it (always), so systemd does not.\n"
		"Restart=no\n");
	SAYS(text,
		world_user ? "WantedBy=default.target"
			   : "After=network-online.target");
	CHECK(strstr(text, "WatchdogSec") == NULL);
	text = hull("unit plain --restarts systemd")->out;
	SAYS(text, "Restart=on-failure");
	CHECK(strstr(text, "network-online") == NULL);
	CODE(hull("adjust g --restart never"), 0);
	SAYS(hull("unit g")->out, "WatchdogSec=");
	CODE(hull("remove g plain group:harbour --force"), 0);
}

static void never_two_restart_it(void)
{
	struct result *result;

	CODE(hull("create selwick/base --name g --network none --restart "
		  "always -- true"),
		0);
	result = hull("unit g --restarts systemd");
	CODE(result, 2);
	SAYS(result->err, "two must not restart it");
	CODE(hull("unit g --restarts nobody"), 2);
	CODE(hull("unit g --fetch always"), 2);
	CODE(hull("unit --all-due --recreate"), 2);
	CODE(hull("unit nosuch"), 3);
	CODE(hull("unit --install"), 2);
	CODE(hull("unit g --install --remove"), 2);
	SAYS(hull("unit --plain")->out, "@reboot /");
	CODE(hull("remove g"), 0);
}

static void it_is_put_in_place(void)
{
	const char *name = "tidyhull-container-g.service";
	struct result *result;
	char path[300];

	begin_folder();
	bus_begin("");
	snprintf(path, sizeof(path), "%s/%s", folder, name);
	SAYS(hull("unit")->out, "no unit is installed");
	CODE(hull("create selwick/base --name g --network none -- true"), 0);
	result = hull("unit g --install");
	CODE(result, 0);
	SAYS(result->out, "installed tidyhull-container-g.service");
	CHECK_INT(access(path, F_OK), 0);
	CHECK(file_holds("manager.out", "reload"));
	CHECK(file_holds("manager.out", "enable tidyhull-container-g.service"));
	if (world_user) {
		SAYS(result->err, "loginctl enable-linger " WORLD_USER_NAME);
		CHECK(file_holds("manager.out", "linger"));
	}
	SAYS(hull("unit")->out, name);
	SAYS(hull("unit --json")->out, "\"state\": \"active\"");
	/* Once more is no harm; one that was edited is not lost. */
	CODE(hull("unit g --install"), 0);
	CODE(as_root("sed -i s/Restart=no/Restart=always/ %s", path), 0);
	result = hull("unit g --install");
	CODE(result, 4);
	SAYS(result->err, "was edited after it was written");
	CODE(hull("unit g --remove"), 4);
	SAYS(hull("unit")->out, "edited since it was written");
	CODE(hull("unit g --install --yes"), 0);
	/* Also when its container has gone. */
	CODE(hull("remove g"), 0);
	result = hull("unit g --remove");
	CODE(result, 0);
	CHECK(file_holds(
		"manager.out", "disable tidyhull-container-g.service"));
	CHECK_INT(access(path, F_OK), -1);
	CODE(hull("unit g --remove"), 3);
	/* Of somebody else nothing is touched. */
	as_root("sh -c 'echo [Unit] > %s'", path);
	CODE(hull("unit g --remove"), 4);
	SAYS(hull("unit")->out, "no unit is installed");
	as_root("rm %s", path);
	bus_end();
	end_folder();
}

static void what_systemd_refuses_is_undone(void)
{
	struct result *result;
	char path[300];

	begin_folder();
	CODE(hull("create selwick/base --name g --network none -- true"), 0);
	snprintf(path, sizeof(path), "%s/tidyhull-container-g.service", folder);
	bus_begin("refuse-enable allow-linger");
	result = hull("unit g --install");
	CODE(result, 5);
	SAYS(result->err, "systemd refused to enable the unit: Access denied");
	CHECK_INT(access(path, F_OK), -1);
	/* On a bus without systemd. */
	bus_end_manager();
	result = hull("unit g --install");
	CODE(result, 5);
	CHECK_INT(access(path, F_OK), -1);
	bus_end();
	/* Without a bus. */
	setenv("DBUS_SESSION_BUS_ADDRESS", "unix:path=/nosuch", 1);
	setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path=/nosuch", 1);
	result = hull("unit g --install");
	CODE(result, 5);
	SAYS(result->err, "over D-Bus");
	CHECK_INT(access(path, F_OK), -1);
	unsetenv("DBUS_SESSION_BUS_ADDRESS");
	unsetenv("DBUS_SYSTEM_BUS_ADDRESS");
	CODE(hull("remove g"), 0);
	end_folder();
}

/* ---- what the keeper tells ---- */

static int service_socket(char path[108])
{
	struct sockaddr_un at = {.sun_family = AF_UNIX};
	const struct timeval patience = {.tv_sec = 10};
	int fd = socket(AF_UNIX, SOCK_DGRAM | SOCK_CLOEXEC, 0);

	snprintf(path, 108, "%.90s/notify", world_folder);
	memcpy(at.sun_path, path, strlen(path));
	CHECK_INT(bind(fd, (struct sockaddr *)(void *)&at, sizeof(at)), 0);
	chmod(path, 0666);
	setsockopt(fd, SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof(patience));
	return fd;
}

/* Messages until one has the text. */
static bool hears(int fd, const char *text)
{
	char message[600];
	ssize_t got;

	while ((got = recv(fd, message, sizeof(message) - 1, 0)) > 0) {
		message[got] = '\0';
		if (strstr(message, text))
			return true;
	}
	printf("\n    never heard: %s\n", text);
	return false;
}

static bool is_stopped(void *arg)
{
	(void)arg;
	return strcmp(field("g", "state"), "stopped") == 0;
}

static void a_service_manager_is_told(void)
{
	char path[108], main_pid[40], message[600];
	int fd = service_socket(path);

	setenv("NOTIFY_SOCKET", path, 1);
	CODE(hull("create selwick/base --name g --network none --probe "
		  "'exec:test -e /ok,every=100ms,limit=2' --stop grace=0s -- "
		  "sleep 1000"),
		0);
	CODE(hull("start g"), 0);
	/* Before the command ends, it is known which process counts. */
	memset(message, 0, sizeof(message));
	CHECK(recv(fd, message, sizeof(message) - 1, MSG_DONTWAIT) > 0);
	snprintf(main_pid, sizeof(main_pid), "MAINPID=%d\n",
		(int)keeper_of("g"));
	SAYS(message, main_pid);
	CHECK(strstr(message, "READY=1") == NULL);
	CODE(hull("exec g -- touch /ok"), 0);
	CHECK(hears(fd, "READY=1"));
	CHECK(hears(fd, "WATCHDOG=1"));
	/* A service that is another one's is none. */
	CODE(hull("start g"), 4);
	CODE(hull("exec g -- rm /ok"), 0);
	CHECK(hears(fd, "STATUS=ailing"));
	/* The manager ends its main process, and the container with it. */
	signal_to(keeper_of("g"), SIGTERM);
	CHECK(hears(fd, "STOPPING=1"));
	CHECK(wait_until(is_stopped, NULL));
	SAYS(hull("why g")->out, "the service manager");
	unsetenv("NOTIFY_SOCKET");
	close(fd);
	CODE(hull("remove g"), 0);
}

static void a_stop_can_stay_due(void)
{
	CODE(hull("launch selwick/base --name g --network none --restart "
		  "always --stop grace=0s -- sleep 1000"),
		0);
	CODE(hull("launch selwick/base --name h --network none --restart "
		  "always --stop grace=0s -- sleep 1000"),
		0);
	CODE(hull("stop g --stay-due"), 0);
	CODE(hull("stop h"), 0);
	CHECK_TEXT(field("g", "state"), "stopped");
	CHECK_TEXT(hull("start --all-due")->out, "started g\n");
	/* One that waits for its next try, too. */
	CODE(hull("recreate g --restart always,delay=1h -- false "
		  "--ready-within "
		  "1s"),
		0);
	CODE(hull("stop --all --stay-due"), 0);
	CHECK_TEXT(field("g", "state"), "stopped");
	CHECK_TEXT(hull("start --all-due -q")->out, field("g", "id"));
	CODE(hull("remove g h --force"), 0);
}

static const CU_TestInfo tests[] = {
	{"systemd can read them", systemd_can_read_them},
	{"never two restart it", never_two_restart_it},
	{"it is put in place", it_is_put_in_place},
	{"what systemd refuses is undone", what_systemd_refuses_is_undone},
	{"a service manager is told", a_service_manager_is_told},
	{"a stop can stay due", a_stop_can_stay_due}, CU_TEST_INFO_NULL};

const struct suite suite_unit = {"unit", tests};
