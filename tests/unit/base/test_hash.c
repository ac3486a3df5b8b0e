#include "base/hash.h"

#include <string.h>

#include "unit/unit.h"

static void known_digests_come_out(void)
{
	static const struct {
		const char *text, *digest;
	} cases[] = {/* FIPS 180-4's own examples. */
		{"abc",
			"sha256:ba7816bf8f01cfea414140de5dae2223b00361a396177a9"
			"cb410ff61f20015ad"},
		{"abcdbcdecdefdefgefghfghighijhijkijkljklmklmnlmnomnopnopq",
			"sha256:248d6a61d20638b8e5c026930c3e6039a33ce45964ff216"
			"7f6ecedd419db06c1"},
		{"",
			"sha256:"
			"e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca4"
			"95991b7852b855"}};

	for (size_t i = 0; i < COUNT_OF(cases); i++) {
		char digest[TH_HASH_TEXT];

		CHECK_INT(th_hash_once(
				  cases[i].text, strlen(cases[i].text), digest),
			0);
		CHECK_TEXT(digest, cases[i].digest);
	}
}

static void pieces_do_not_matter(void)
{
	static const char text[] = "high water at the north mole";
	char whole[TH_HASH_TEXT], digest[TH_HASH_TEXT];

	th_hash_once(text, sizeof(text), whole);
	for (size_t piece = 1; piece <= sizeof(text); piece++) {
		struct th_hash *hash = th_hash_new(NULL);

		for (size_t at = 0; at < sizeof(text); at += piece)
			th_hash_add(hash, text + at,
				sizeof(text) - at < piece ? sizeof(text) - at
							  : piece);
		th_hash_digest(hash, digest);
		CHECK_TEXT(digest, whole);
		/* It begins anew. */
		th_hash_add(hash, text, sizeof(text));
		th_hash_digest(hash, digest);
		CHECK_TEXT(digest, whole);
		th_hash_free(hash);
	}
}

/* The known answer of FIPS 180-4's example, and of nothing. */
static void wide_ones_are_like_their_example(void)
{
	static const char like
		[] = "sha512:",
	    abc[] = "sha512:"
		    "ddaf35a193617abacc417349ae20413112e6fa4e89a97ea20a9eeee"
		    "64b55d39a2192992a274fc1a836ba3c23a3feebbd454d4423643ce80e2"
		    "a9ac"
		    "94fa54ca49f";
	char digest[TH_HASH_TEXT];
	struct th_hash *hash = th_hash_new(like);

	CHECK_INT(th_hash_like(like, "abc", 3, digest), 0);
	CHECK_TEXT(digest, abc);
	for (int i = 0; i < 2; i++) {
		th_hash_add(hash, "ab", 2);
		th_hash_add(hash, "c", 1);
		th_hash_digest(hash, digest);
		CHECK_TEXT(digest, abc);
	}
	th_hash_free(hash);
}

/* Both ways of computing them, around the bounds of blocks. */
static void small_ones_are_as_large_ones(void)
{
	char text[300], one[TH_HASH_TEXT], two[TH_HASH_TEXT];

	for (size_t i = 0; i < sizeof(text); i++)
		text[i] = (char)(i * 7);
	for (size_t len = 0; len <= sizeof(text); len++) {
		struct th_hash *hash = th_hash_new(NULL);

		th_hash_add(hash, text, len);
		th_hash_digest(hash, two);
		th_hash_free(hash);
		CHECK_INT(th_hash_once(text, len, one), 0);
		CHECK_TEXT(one, two);
	}
}

static const CU_TestInfo tests[] = {
	{"known digests come out", known_digests_come_out},
	{"wide ones are like their example", wide_ones_are_like_their_example},
	{"pieces do not matter", pieces_do_not_matter},
	{"small ones are as large ones", small_ones_are_as_large_ones},
	CU_TEST_INFO_NULL};

const struct suite suite_hash = {"hash", tests};
