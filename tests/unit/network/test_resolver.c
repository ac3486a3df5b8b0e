#include "network/resolver.h"

#include <string.h>

#include "unit/unit.h"

static void expect(const char *host, enum th_resolver kind,
	const char *expected, const char *expected_relay)
{
	char relay[TH_ADDRESS_TEXT];
	struct th_error err = {0};
	struct th_buf text;

	th_buf_init(&text, 4096);
	CHECK_INT(th_resolver_write(host, kind, &text, relay, &err), 0);
	CHECK_TEXT(text.data, expected);
	CHECK_TEXT(relay, expected_relay);
	th_buf_release(&text);
}

static void servers_that_can_be_reached_stay(void)
{
	static const char host[] = "# made by the harbour\nsearch a.example\n"
				   "nameserver 192.0.2.53\n"
				   "nameserver\t127.0.0.1\n"
				   "nameserver fe80::1%eth0\n"
				   "nameserver fd77::53\noptions edns0\n";
	static const char reached[] =
		"search a.example\nnameserver 192.0.2.53\n"
		"nameserver fd77::53\noptions edns0\n";

	expect(host, TH_RESOLVER_RELAY, reached, "");
	expect(host, TH_RESOLVER_UPLINK, reached, "");
	expect(host, TH_RESOLVER_PLAIN, reached, "");
	expect(host, TH_RESOLVER_SAME, strchr(host, '\n') + 1, "");
}

static void those_of_the_loopback_are_led_to(void)
{
	static const char stub[] = "nameserver 127.0.0.53\noptions edns0\n";

	expect(stub, TH_RESOLVER_RELAY,
		"options edns0\nnameserver 127.0.0.53\n", "127.0.0.53");
	expect(stub, TH_RESOLVER_UPLINK,
		"options edns0\nnameserver 10.255.255.3\n", "");
	expect(stub, TH_RESOLVER_PLAIN, "options edns0\n", "");
	expect("nameserver ::1", TH_RESOLVER_RELAY, "nameserver 127.0.0.1\n",
		"127.0.0.1");
	expect("nameserver 0.0.0.0\n", TH_RESOLVER_RELAY,
		"nameserver 127.0.0.1\n", "127.0.0.1");
	/* Only by a device's name: nowhere to lead. */
	expect("nameserver fe80::1%eth0\n", TH_RESOLVER_RELAY, "", "");
}

static void odd_lines_do_no_harm(void)
{
	static const char *const odd[] = {"", "\n\n", "nameserver",
		"nameserver \n", "nameserver\n", "nameserverx 127.0.0.1\n",
		("nameserver "
		 "127.0.0.1.2.3.4.5.6.7.8.9.0.1.2.3.4.5.6.7.8.9.0.1.2"
		 "\n"),
		"nameserver here\n"};

	for (size_t i = 0; i < COUNT_OF(odd); i++) {
		char relay[TH_ADDRESS_TEXT];
		struct th_error err = {0};
		struct th_buf text;

		th_buf_init(&text, 4096);
		CHECK_INT(th_resolver_write(odd[i], TH_RESOLVER_RELAY, &text,
				  relay, &err),
			0);
		CHECK_TEXT(relay, "");
		th_buf_release(&text);
	}
}

static const CU_TestInfo tests[] = {
	{"servers that can be reached stay", servers_that_can_be_reached_stay},
	{"those of the loopback are led to", those_of_the_loopback_are_led_to},
	{"odd lines do no harm", odd_lines_do_no_harm}, CU_TEST_INFO_NULL};

const struct suite suite_resolver = {"name servers", tests};
