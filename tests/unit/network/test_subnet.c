#include "network/subnet.h"

#include <arpa/inet.h>
#include <string.h>

#include "network/network.h"
#include "unit/unit.h"

static void blocks_are_read_and_written(void)
{
	static const char *const good[] = {"10.20.30.0/24", "192.168.0.0/16",
		"10.20.30.16/28", "10.0.0.0/8", "172.16.4.8/29"};
	char four[TH_ADDRESS_TEXT], six[TH_ADDRESS_TEXT];

	for (size_t i = 0; i < COUNT_OF(good); i++) {
		struct th_subnet subnet = {0};
		struct th_error err = {0};

		CHECK_INT(th_network_parse_subnet(good[i], &subnet, &err), 0);
		/* The other family comes beside it. */
		CHECK_INT(th_network_parse_subnet(
				  "fd20:0:0:7::/64", &subnet, &err),
			0);
		subnet_write(&subnet, four, six);
		CHECK_TEXT(four, good[i]);
		CHECK_TEXT(six, "fd20:0:0:7::/64");
	}
}

static void what_is_no_block_is_told(void)
{
	static const char *const bad[] = {"", "/", "10.20.30.0", "10.20.30.0/",
		"10.20.30.0/x", "10.20.30.0/24x", "10.20.30.0/-1",
		"10.20.30.0/ 24", "10.20.30/24", "10.20.30.0/33", "10.0.0.0/7",
		"10.20.30.0/30", "10.20.30.1/24", "fd20::/129", "fd20::/113",
		"fd20::/4", "fd20::1/64", "fd20:::/64", "harbour/24",
		"99999999999999999999999999999999999999999999999999999/24"};

	for (size_t i = 0; i < COUNT_OF(bad); i++) {
		struct th_subnet subnet = {0};
		struct th_error err = {0};

		CHECK_INT(th_network_parse_subnet(bad[i], &subnet, &err), -1);
		CHECK_INT(err.code, TH_USAGE);
		CHECK(err.hint[0] != '\0');
	}
}

static void places_have_addresses(void)
{
	struct th_subnet subnet = {0};
	struct th_error err = {0};
	struct in_addr four;
	struct in6_addr six;
	char text[TH_ADDRESS_TEXT];

	CHECK_INT(th_network_parse_subnet("10.20.16.0/20", &subnet, &err), 0);
	CHECK_INT(th_network_parse_subnet("fd20::/112", &subnet, &err), 0);
	CHECK_INT(th_subnet_last(&subnet), 4094);
	four = th_subnet_address4(&subnet, 4094);
	inet_ntop(AF_INET, &four, text, sizeof(text));
	CHECK_TEXT(text, "10.20.31.254");
	CHECK_INT(subnet_slot4(&subnet, four), 4094);
	/* The last one is for everybody. */
	four.s_addr = htonl(ntohl(four.s_addr) + 1);
	CHECK_INT(subnet_slot4(&subnet, four), -1);
	four.s_addr = htonl(ntohl(four.s_addr) + 1);
	CHECK_INT(subnet_slot4(&subnet, four), -1);
	six = th_subnet_address6(&subnet, 4094);
	inet_ntop(AF_INET6, &six, text, sizeof(text));
	CHECK_TEXT(text, "fd20::ffe");
}

static const CU_TestInfo tests[] = {
	{"blocks are read and written", blocks_are_read_and_written},
	{"what is no block is told", what_is_no_block_is_told},
	{"places have addresses", places_have_addresses}, CU_TEST_INFO_NULL};

const struct suite suite_subnet = {"subnets", tests};
