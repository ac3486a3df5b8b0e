/* Subnets, and the host's resolv.conf. */
#include <stdlib.h>
#include <string.h>

#include "fuzz.h"
#include "network/network.h"
#include "network/resolver.h"
#include "network/subnet.h"

static void read_subnet(const char *text)
{
	char four[TH_ADDRESS_TEXT], six[TH_ADDRESS_TEXT];
	struct th_subnet subnet = {0}, again = {0};
	struct th_error err = {0};

	if (th_network_parse_subnet(text, &subnet, &err))
		return;
	/* What was taken can be written, and is taken again. */
	subnet_write(&subnet, four, six);
	if (th_network_parse_subnet(four[0] ? four : six, &again, &err) ||
		again.prefix4 != subnet.prefix4 || again.has6 != subnet.has6)
		abort();
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
	char *text = strndup((const char *)data, size);
	char relay[TH_ADDRESS_TEXT];
	struct th_error err = {0};

	if (!text)
		return 0;
	read_subnet(text);
	for (int kind = TH_RESOLVER_PLAIN; kind <= TH_RESOLVER_UPLINK; kind++) {
		struct th_buf out;

		th_buf_init(&out, size * 2 + 4096);
		if (th_resolver_write(
			    text, (enum th_resolver)kind, &out, relay, &err))
			abort();
		if (relay[0] && kind != TH_RESOLVER_RELAY)
			abort();
		th_buf_release(&out);
	}
	free(text);
	return 0;
}
