/* SPDX-License-Identifier: Apache-2.0
 *
 * For loops over lanes, parameter sets side by side: constant bounds, all in one function, which
 * also exists for wider registers: the same arithmetic, so the same result, in less time.
 */
#ifndef CORVAK_IDENT_MATH_WIDE_H
#define CORVAK_IDENT_MATH_WIDE_H

#if defined(__GNUC__)
#define INLINED static inline __attribute__((always_inline))
#else
#define INLINED static inline
#endif
#if defined(__GNUC__) && !defined(__clang__) && defined(__x86_64__) && defined(__linux__) &&       \
    !defined(__SANITIZE_ADDRESS__)
#define WIDE __attribute__((target_clones("avx512f", "avx2", "default")))
#else
#define WIDE
#endif

#endif
