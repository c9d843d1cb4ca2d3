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
static cvk_rig_config unknown_motor(void)
{
    cvk_rig_config rig = cvk_rig_config_default();
    snprintf(rig.name, sizeof rig.name, "unknown motor");
    rig.motor.pole_pairs = 7;
    rig.motor.resistance_ohm = 0.31;
    rig.motor.inductance_d_h = 210e-6;
    rig.motor.inductance_q_h = 260e-6;
    rig.motor.flux_linkage_wb = 0.0091;
    rig.shaft.inertia_kg_m2 = 4e-4;
    rig.shaft.friction_coulomb_nm = 0.02;
    rig.shaft.friction_viscous_nm_s = 2e-4;
    rig.shaft.cogging_nm = 0.004;
    rig.inverter.pwm_hz = 20000;
    rig.inverter.dead_time_s = 400e-9;
    rig.inverter.switch_resistance_ohm = 0.006;
    rig.inverter.diode_drop_v = 0.7;
    rig.supply.bus_v = 24.0;
    rig.supply.resistance_ohm = 0.05;
    rig.sensing.adc_bits = 12;
    rig.sensing.current_range_a = 20;
    rig.sensing.current_noise_a = 0.015;
    rig.sensing.current_offset_a = 0.1;
    rig.sensing.current_gain_tolerance = 0.004;
    rig.sensing.voltage_range_v = 40;
    rig.sensing.voltage_noise_v = 0.02;
    rig.sensing.voltage_gain_tolerance = 0.002;
    rig.tune.limit.current_a = 8.0f;
    rig.tune.protect = (cvk_protect_settings){15.0f, 12.0f, 36.0f};
    return rig;
}

static size_t record_standstill(void)
{
    static cvk_sim sim;
    static cvk_excitation program;
    const cvk_rig_config rig = unknown_motor();
    cvk_refusal why;
    if (cvk_sim_init(&sim, &rig, 42, &why) != CVK_OK ||
        cvk_sim_start(&sim, cvk_program_named("standstill"), &program, &why) != CVK_OK) {
        fprintf(stderr, "%s = %g is outside %g .. %g\n", why.field, (double)why.value,
                (double)why.low, (double)why.high);
        exit(EXIT_FAILURE);
    }
    size_t rows = 0;
    for (; rows < MOST_ROWS && !cvk_excitation_finished(&program); rows++) {
        cvk_sim_row row = cvk_sim_step(&sim); /* one control period */
        t[rows] = row.time_s;
        ia[rows] = (double)row.now->phase_a.a;
        ib[rows] = (double)row.now->phase_a.b;
        ic[rows] = (double)row.now->phase_a.c;
        duty_a[rows] = (double)row.now->duty.a;
        duty_b[rows] = (double)row.now->duty.b;
        duty_c[rows] = (double)row.now->duty.c;
        vdc[rows] = row.sample.bus_v;
    }
    cvk_sim_close(&sim);
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
