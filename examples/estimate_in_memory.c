/* SPDX-License-Identifier: Apache-2.0
 *
 * Estimates a motor from a log in memory. Here the log comes from the simulated rig; with a real
 * controller, fill the same columns from its recorder.
 */
#include "corvak/ident/estimate.h"
#include "corvak/sim/sim.h"

#include <stdio.h>
#include <stdlib.h>

enum { MOST_ROWS = 60000 };
static double t[MOST_ROWS], ia[MOST_ROWS], ib[MOST_ROWS], ic[MOST_ROWS], vdc[MOST_ROWS];
static double duty_a[MOST_ROWS], duty_b[MOST_ROWS], duty_c[MOST_ROWS];

/* A small motor that nobody has measured yet, on a 24 V supply. */
static const cvk_rig_config rig = {
    .name = "unknown motor",
    .motor = {7, 0.31, 210e-6, 260e-6, 0.0091, 0.01, 0.004, 0.004},
    .shaft = {4e-4, 0.02, 2e-4, 0.004},
    .inverter = {20000, 400e-9, 0.006, 0.7, 0.2},
    .supply = {24.0, 0.05},
    .sensing = {12, 20, 0.015, 0.1, 0.004, 40, 0.02, 0.002},
    .drive = {8, 15, 500, 0.3, 2e-4, 2e-4, 0.009, 0.05, 0.2, 1200, 0.3},
};

static size_t record_standstill(void)
{
    static cvk_sim sim;
    static cvk_excitation program;
    cvk_refusal why;
    if (cvk_sim_init(&sim, &rig, 42, &why) != CVK_OK ||
        cvk_sim_start(&sim, "standstill", &program, &why) != CVK_OK) {
        fprintf(stderr, "%s = %g is outside %g .. %g\n", why.field, (double)why.value,
                (double)why.low, (double)why.high);
        exit(EXIT_FAILURE);
    }
    size_t rows = 0;
    for (; rows < MOST_ROWS && !cvk_excitation_finished(&program); rows++) {
        cvk_sim_row row = cvk_sim_step(&sim); /* one control period */
        t[rows] = row.time_s;
        ia[rows] = row.current_a[0];
        ib[rows] = row.current_a[1];
        ic[rows] = row.current_a[2];
        duty_a[rows] = row.duty[0];
        duty_b[rows] = row.duty[1];
        duty_c[rows] = row.duty[2];
        vdc[rows] = row.sample.bus_v;
    }
    return rows;
}

int main(void)
{
    cvk_log log = cvk_log_empty("standstill run");
    log.rows = record_standstill();
    log.column[CVK_COLUMN_T] = t;
    log.column[CVK_COLUMN_IA] = ia;
    log.column[CVK_COLUMN_IB] = ib;
    log.column[CVK_COLUMN_IC] = ic;
    log.column[CVK_COLUMN_DUTY_A] = duty_a;
    log.column[CVK_COLUMN_DUTY_B] = duty_b;
    log.column[CVK_COLUMN_DUTY_C] = duty_c;
    log.column[CVK_COLUMN_VDC] = vdc;
    log.current_gain_tolerance = 0.004; /* of the shunts and amplifiers */
    log.voltage_gain_tolerance = 0.002; /* of the divider */

    static cvk_estimate estimate;
    const cvk_log *logs[] = {&log};
    const cvk_estimate_options options = cvk_estimate_options_default();
    cvk_status status = cvk_estimate_logs(logs, 1, &options, &estimate);
    for (size_t n = 0; n < estimate.findings; n++) {
        printf("about the log: %s\n", estimate.finding[n].text);
    }
    if (status != CVK_OK) {
        printf("no estimate: %s\n", cvk_status_text(status));
        return EXIT_FAILURE;
    }
    for (int key = 0; key < CVK_CARD_COUNT; key++) {
        const cvk_card_entry *entry = &estimate.card.entry[key];
        if (entry->known) {
            printf("%-20s %.4g  (95 %%: %.4g .. %.4g)\n", cvk_card_key_name((cvk_card_key)key),
                   entry->value, entry->low, entry->high);
        } else {
            printf("%-20s not visible: %s\n", cvk_card_key_name((cvk_card_key)key), entry->missing);
        }
    }
    return EXIT_SUCCESS;
}
