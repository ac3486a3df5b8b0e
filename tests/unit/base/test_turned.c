/* Settings that are written the other way round. */
#include <string.h>

#include "base/turned.h"
#include "unit/unit.h"

struct turning {
	const char *text, *turned; /* NULL: it is nothing of the kind */
};

static void check(const struct turning *all, size_t count,
	bool (*turn)(const char *text, char turned[TH_TURNED_TEXT]))
{
	char text[TH_TURNED_TEXT];

	for (size_t i = 0; i < count; i++) {
		bool is = turn(all[i].text, text);

		CHECK(is == (all[i].turned != NULL));
		if (is && all[i].turned)
			CHECK_TEXT(text, all[i].turned);
	}
}

static void ports(void)
{
	static const struct turning all[] = {{"8080:80", "80=8080"},
		{"127.0.0.1:8080:80/tcp", "80=127.0.0.1:8080"},
		{"[::1]:8080:80", "80=[::1]:8080"}, {"53:53/udp", "53=53/udp"},
		{":80", "80"}, {"127.0.0.1::80", "80"},
		{"9000-9009:8000-8009", "8000-8009=9000-9009"}, {"80", NULL},
		{"80=8080", NULL}, {"80=127.0.0.1:8080", NULL}, {"a:b", NULL},
		{"8080:", NULL}, {"", NULL}, {"80:123456789012", NULL}};

	check(all, sizeof(all) / sizeof(*all), th_turned_port);
}

static void mounts(void)
{
	static const struct turning all[] = {
		{"./site:/srv/www", "/srv/www=./site"},
		{"/srv/site:/srv/www:ro", "/srv/www=/srv/site,ro"},
		{"tides:/data", "/data=volume:tides"},
		{"./site=/srv/www", "/srv/www=./site"},
		{"~/site:/srv/www:rw", "/srv/www=~/site"},
		{"source=./site,target=/srv/www", "/srv/www=./site"},
		{"to=/data,from=tides,ro", "/data=volume:tides,ro"},
		{"source=./site", NULL}, {"/srv/www=./site", NULL},
		{"/srv/www=/site", NULL}, {"/srv/www", NULL},
		{"relative=./site", NULL}, {":/data", NULL}, {"", NULL}};

	check(all, sizeof(all) / sizeof(*all), th_turned_mount);
}

static const CU_TestInfo tests[] = {
	{"ports", ports}, {"mounts", mounts}, CU_TEST_INFO_NULL};

const struct suite suite_turned = {"turned", tests};
