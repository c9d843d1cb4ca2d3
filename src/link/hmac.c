/* SPDX-License-Identifier: Apache-2.0
 *
 * SHA-256 as FIPS 180-4 (sections 4.1.2, 5, 6.2) describes it, and HMAC as RFC 2104 does.
 */
#include "corvak/link/hmac.h"

#include <string.h>

enum { BLOCK = 64 };

typedef struct sha256 {
    uint32_t state[8];
    uint64_t bytes;
    uint8_t block[BLOCK];
} sha256;

/* The first 32 bits of the fractional parts of the cube roots of the first 64 primes. */
static const uint32_t constants[64] = {
    0x428a2f98, 0x71374491, 0xb5c0fbcf, 0xe9b5dba5, 0x3956c25b, 0x59f111f1, 0x923f82a4, 0xab1c5ed5,
    0xd807aa98, 0x12835b01, 0x243185be, 0x550c7dc3, 0x72be5d74, 0x80deb1fe, 0x9bdc06a7, 0xc19bf174,
    0xe49b69c1, 0xefbe4786, 0x0fc19dc6, 0x240ca1cc, 0x2de92c6f, 0x4a7484aa, 0x5cb0a9dc, 0x76f988da,
    0x983e5152, 0xa831c66d, 0xb00327c8, 0xbf597fc7, 0xc6e00bf3, 0xd5a79147, 0x06ca6351, 0x14292967,
    0x27b70a85, 0x2e1b2138, 0x4d2c6dfc, 0x53380d13, 0x650a7354, 0x766a0abb, 0x81c2c92e, 0x92722c85,
    0xa2bfe8a1, 0xa81a664b, 0xc24b8b70, 0xc76c51a3, 0xd192e819, 0xd6990624, 0xf40e3585, 0x106aa070,
    0x19a4c116, 0x1e376c08, 0x2748774c, 0x34b0bcb5, 0x391c0cb3, 0x4ed8aa4a, 0x5b9cca4f, 0x682e6ff3,
    0x748f82ee, 0x78a5636f, 0x84c87814, 0x8cc70208, 0x90befffa, 0xa4506ceb, 0xbef9a3f7, 0xc67178f2};

static uint32_t turned(uint32_t x, unsigned by)
{
    return x >> by | x << (32u - by);
}

static uint32_t word_at(const uint8_t *bytes)
{
    return (uint32_t)bytes[0] << 24 | (uint32_t)bytes[1] << 16 | (uint32_t)bytes[2] << 8 | bytes[3];
}

static void take_block(sha256 *s)
{
    uint32_t w[16], v[8];
    for (int n = 0; n < 16; n++) {
        w[n] = word_at(&s->block[4 * n]);
    }
    memcpy(v, s->state, sizeof v);
    for (int n = 0; n < 64; n++) {
        if (n >= 16) {
            const uint32_t a = w[(n + 1) & 15], b = w[(n + 14) & 15];
            w[n & 15] += (turned(a, 7) ^ turned(a, 18) ^ a >> 3) + w[(n + 9) & 15] +
                         (turned(b, 17) ^ turned(b, 19) ^ b >> 10);
        }
        const uint32_t one = v[7] + (turned(v[4], 6) ^ turned(v[4], 11) ^ turned(v[4], 25)) +
                             ((v[4] & v[5]) ^ (~v[4] & v[6])) + constants[n] + w[n & 15];
        const uint32_t two = (turned(v[0], 2) ^ turned(v[0], 13) ^ turned(v[0], 22)) +
                             ((v[0] & v[1]) ^ (v[0] & v[2]) ^ (v[1] & v[2]));
        memmove(&v[1], v, 7 * sizeof v[0]);
        v[4] += one;
        v[0] = one + two;
    }
    for (int n = 0; n < 8; n++) {
        s->state[n] += v[n];
    }
}

/* The fractional parts of the square roots of the first eight primes. */
static sha256 begin(void)
{
    return (sha256){.state = {0x6a09e667, 0xbb67ae85, 0x3c6ef372, 0xa54ff53a, 0x510e527f,
                              0x9b05688c, 0x1f83d9ab, 0x5be0cd19}};
}

static void add(sha256 *s, const uint8_t *bytes, size_t count)
{
    for (size_t n = 0; n < count; n++) {
        s->block[s->bytes++ % BLOCK] = bytes[n];
        if (s->bytes % BLOCK == 0) {
            take_block(s);
        }
    }
}

static void end(sha256 *s, uint8_t out[CVK_HMAC_BYTES])
{
    static const uint8_t one = 0x80, zero = 0;
    const uint64_t bits = 8u * s->bytes;
    uint8_t length[8];
    for (int n = 0; n < 8; n++) {
        length[n] = (uint8_t)(bits >> (56 - 8 * n));
    }
    add(s, &one, 1);
    while (s->bytes % BLOCK != BLOCK - sizeof length) {
        add(s, &zero, 1);
    }
    add(s, length, sizeof length);
    for (unsigned n = 0; n < CVK_HMAC_BYTES; n++) {
        out[n] = (uint8_t)(s->state[n / 4u] >> (24u - 8u * (n % 4u)));
    }
}

static void hash_with(const uint8_t pad[BLOCK], uint8_t mask, const uint8_t *bytes, size_t count,
                      uint8_t out[CVK_HMAC_BYTES])
{
    sha256 s = begin();
    for (int n = 0; n < BLOCK; n++) {
        const uint8_t byte = pad[n] ^ mask;
        add(&s, &byte, 1);
    }
    add(&s, bytes, count);
    end(&s, out);
}

void cvk_hmac(const uint8_t *key, size_t key_bytes, const uint8_t *message, size_t message_bytes,
              uint8_t out[CVK_HMAC_BYTES])
{
    uint8_t pad[BLOCK] = {0}, inner[CVK_HMAC_BYTES];
    if (key_bytes > BLOCK) {
        sha256 s = begin();
        add(&s, key, key_bytes);
        end(&s, pad);
    } else {
        memcpy(pad, key, key_bytes);
    }
    hash_with(pad, 0x36, message, message_bytes, inner);
    hash_with(pad, 0x5c, inner, sizeof inner, out);
}

bool cvk_hmac_is(const uint8_t a[CVK_HMAC_BYTES], const uint8_t b[CVK_HMAC_BYTES])
{
    uint8_t differs = 0;
    for (unsigned n = 0; n < CVK_HMAC_BYTES; n++) {
        differs |= (uint8_t)(a[n] ^ b[n]);
    }
    return differs == 0;
}
