#include "base/sha256.h"

#include <stdint.h>
#include <string.h>

static const uint32_t constants[64] = {0x428a2f98, 0x71374491, 0xb5c0fbcf,
	0xe9b5dba5, 0x3956c25b, 0x59f111f1, 0x923f82a4, 0xab1c5ed5, 0xd807aa98,
	0x12835b01, 0x243185be, 0x550c7dc3, 0x72be5d74, 0x80deb1fe, 0x9bdc06a7,
	0xc19bf174, 0xe49b69c1, 0xefbe4786, 0x0fc19dc6, 0x240ca1cc, 0x2de92c6f,
	0x4a7484aa, 0x5cb0a9dc, 0x76f988da, 0x983e5152, 0xa831c66d, 0xb00327c8,
	0xbf597fc7, 0xc6e00bf3, 0xd5a79147, 0x06ca6351, 0x14292967, 0x27b70a85,
	0x2e1b2138, 0x4d2c6dfc, 0x53380d13, 0x650a7354, 0x766a0abb, 0x81c2c92e,
	0x92722c85, 0xa2bfe8a1, 0xa81a664b, 0xc24b8b70, 0xc76c51a3, 0xd192e819,
	0xd6990624, 0xf40e3585, 0x106aa070, 0x19a4c116, 0x1e376c08, 0x2748774c,
	0x34b0bcb5, 0x391c0cb3, 0x4ed8aa4a, 0x5b9cca4f, 0x682e6ff3, 0x748f82ee,
	0x78a5636f, 0x84c87814, 0x8cc70208, 0x90befffa, 0xa4506ceb, 0xbef9a3f7,
	0xc67178f2};

static uint32_t rotate(uint32_t x, int n)
{
	return x >> n | x << (32 - n);
}

/* One round; instead of moving the state on, the next takes its words under
 * other names. */
#define ROUND(a, b, c, d, e, f, g, h, at)                                      \
	do {                                                                   \
		uint32_t one = (h) +                                           \
			(rotate(e, 6) ^ rotate(e, 11) ^ rotate(e, 25)) +       \
			((g) ^ ((e) & ((f) ^ (g)))) + constants[at] + w[at];   \
		(d) += one;                                                    \
		(h) = one + (rotate(a, 2) ^ rotate(a, 13) ^ rotate(a, 22)) +   \
			(((a) & (b)) | ((c) & ((a) | (b))));                   \
	} while (0)

static void block(uint32_t state[8], const unsigned char *data)
{
	uint32_t w[64], s[8];

	for (size_t i = 0; i < 16; i++)
		w[i] = (uint32_t)data[4 * i] << 24 |
			(uint32_t)data[4 * i + 1] << 16 |
			(uint32_t)data[4 * i + 2] << 8 | data[4 * i + 3];
	for (size_t i = 16; i < 64; i++)
		w[i] = w[i - 16] + w[i - 7] +
			(rotate(w[i - 15], 7) ^ rotate(w[i - 15], 18) ^
				w[i - 15] >> 3) +
			(rotate(w[i - 2], 17) ^ rotate(w[i - 2], 19) ^
				w[i - 2] >> 10);
	memcpy(s, state, sizeof(s));
	for (size_t i = 0; i < 64; i += 8) {
		ROUND(s[0], s[1], s[2], s[3], s[4], s[5], s[6], s[7], i);
		ROUND(s[7], s[0], s[1], s[2], s[3], s[4], s[5], s[6], i + 1);
		ROUND(s[6], s[7], s[0], s[1], s[2], s[3], s[4], s[5], i + 2);
		ROUND(s[5], s[6], s[7], s[0], s[1], s[2], s[3], s[4], i + 3);
		ROUND(s[4], s[5], s[6], s[7], s[0], s[1], s[2], s[3], i + 4);
		ROUND(s[3], s[4], s[5], s[6], s[7], s[0], s[1], s[2], i + 5);
		ROUND(s[2], s[3], s[4], s[5], s[6], s[7], s[0], s[1], i + 6);
		ROUND(s[1], s[2], s[3], s[4], s[5], s[6], s[7], s[0], i + 7);
	}
	for (size_t i = 0; i < 8; i++)
		state[i] += s[i];
}

void th_sha256(const void *data, size_t len, unsigned char digest[32])
{
	uint32_t state[8] = {0x6a09e667, 0xbb67ae85, 0x3c6ef372, 0xa54ff53a,
		0x510e527f, 0x9b05688c, 0x1f83d9ab, 0x5be0cd19};
	const unsigned char *at = data;
	unsigned char last[128] = {0};
	uint64_t bits = (uint64_t)len * 8;
	size_t rest, end;

	for (rest = len; rest >= 64; rest -= 64, at += 64)
		block(state, at);
	if (rest)
		memcpy(last, at, rest);
	last[rest] = 0x80;
	end = rest < 56 ? 64 : 128;
	for (size_t i = 0; i < 8; i++)
		last[end - 1 - i] = (unsigned char)(bits >> 8 * i);
	block(state, last);
	if (end == 128)
		block(state, last + 64);
	for (size_t i = 0; i < 32; i++)
		digest[i] = (unsigned char)(state[i / 4] >> (24 - 8 * (i % 4)));
}
