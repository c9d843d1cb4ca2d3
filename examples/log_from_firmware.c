/* SPDX-License-Identifier: Apache-2.0
 *
 * What a controller of your own should print, one row per control period, so that `corvak estimate`
 * reads it: here to stdout, on a microcontroller to whatever carries bytes. Currents are those that
 * were sampled in the period, duties those that were computed from them.
 */
#include <stdio.h>

static void log_header(void)
{
    printf("# current_gain_tolerance: 0.006\n");
    printf("t [us],ia [A],ib [A],ic [A],duty_a,duty_b,duty_c,vdc [V]\n");
}

static void log_row(unsigned long t_us, const float i_a[3], const float duty[3], float bus_v)
{
    printf("%lu,%.4f,%.4f,%.4f,%.5f,%.5f,%.5f,%.3f\n", t_us, (double)i_a[0], (double)i_a[1],
           (double)i_a[2], (double)duty[0], (double)duty[1], (double)duty[2], (double)bus_v);
}

int main(void)
{
    static const float i_a[3] = {1.0f, -0.5f, -0.5f}, duty[3] = {0.55f, 0.475f, 0.475f};
    log_header();
    for (unsigned long period = 0; period < 4; period++) {
        log_row(50u * period, i_a, duty, 24.0f);
    }
    return 0;
}
