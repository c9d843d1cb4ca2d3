/* SPDX-License-Identifier: Apache-2.0
 *
 * Reset of a bare Cortex-M4F: the vector table, and the floating-point unit switched on before
 * the C library's start.
 */
#include <stdint.h>

void reset(void);
void _start(void);
void trap(void);
/* For programs that have a control interrupt. */
void sys_tick(void) __attribute__((weak, alias("trap")));
extern uint32_t stack_top;

void trap(void)
{
    for (;;) {
    }
}

void reset(void)
{
    *(volatile uint32_t *)0xE000ED88u |= 0xF00000u; /* CPACR: coprocessors 10 and 11 */
    __asm volatile("dsb\n isb");
    _start();
    trap();
}

static const struct vectors {
    const uint32_t *stack;
    void (*handler[15])(void);
} vectors __attribute__((section(".vectors"), used)) = {
    &stack_top, {reset, trap, trap, trap, trap, trap, [14] = sys_tick}};
