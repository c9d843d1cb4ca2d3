/* SPDX-License-Identifier: Apache-2.0
 *
 * A timer that counts instructions, where there is one: the SysTick of an emulated Cortex-M4F that
 * is told to take 1 ns for each (qemu -icount shift=0): 25 MHz are 40 instructions a tick.
 */
#ifndef CORVAK_PORTS_TIMER_H
#define CORVAK_PORTS_TIMER_H

#include <stdint.h>

#if defined(__ARM_ARCH_7EM__)
#define TIMER_INSTRUCTIONS 40
#define SYST_CSR (*(volatile uint32_t *)0xE000E010u)
#define SYST_RVR (*(volatile uint32_t *)0xE000E014u)
#define SYST_CVR (*(volatile uint32_t *)0xE000E018u)

static inline uint32_t timer_now(void)
{
    SYST_RVR = 0xFFFFFFu;
    SYST_CSR = 5u; /* on, by the processor's clock */
    return SYST_CVR;
}

/* It counts down. */
static inline uint32_t timer_since(uint32_t before)
{
    return (before - SYST_CVR) & 0xFFFFFFu;
}
#else
#define TIMER_INSTRUCTIONS 0

static inline uint32_t timer_now(void)
{
    return 0;
}

static inline uint32_t timer_since(uint32_t before)
{
    return before;
}
#endif

#endif
