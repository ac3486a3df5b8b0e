/* selwick/almanac: prints the tide table of Port Selwick and ends. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

/* Seconds between two high waters. */
#define TIDE_SECONDS 44714

static int usage(void)
{
	fputs("almanac [--days N]: the high and low waters of Port Selwick\n",
		stderr);
	return 2;
}

int main(int argc, char **argv)
{
	time_t tide;
	int days = 1;

	for (int i = 1; i < argc; i++) {
		if (strcmp(argv[i], "--days") != 0 || i + 1 == argc)
			return usage();
		days = atoi(argv[++i]);
		if (days < 1 || days > 366)
			return usage();
	}
	/* From the first high water after a fixed day on. */
	tide = 1772323200;
	printf("Port Selwick, tide table for %d day%s\n", days,
		days == 1 ? "" : "s");
	for (int i = 0; i < days * 4; i++) {
		struct tm tm;
		char text[32];

		gmtime_r(&tide, &tm);
		strftime(text, sizeof(text), "%Y-%m-%d %H:%M", &tm);
		printf("%s  %s  %.1f m\n", text, i % 2 ? "low " : "high",
			i % 2 ? 1.2 + i % 3 * 0.1 : 5.0 - i % 5 * 0.1);
		tide += TIDE_SECONDS / 2;
	}
	return 0;
}
