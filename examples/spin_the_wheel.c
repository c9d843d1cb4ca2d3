/* SPDX-License-Identifier: Apache-2.0
 *
 * Spins the simulated potter's wheel in closed loop with its true angle: the controller core on
 * the rig, one control period at a time, as a microcontroller's interrupt would call it.
 */
#include "corvak/core/drive.h"
#include "corvak/rig/rig.h"

#include <stdio.h>
#include <stdlib.h>

/* An ideal measuring chain: the sensor reads the true angle. */
static cvk_rig_config ideal_wheel(void)
{
    cvk_rig_config wheel = cvk_rig_config_default();
    wheel.motor.pole_pairs = 12;
    wheel.motor.resistance_ohm = 0.165;
    wheel.motor.inductance_d_h = 320e-6;
    wheel.motor.inductance_q_h = 470e-6;
    wheel.motor.flux_linkage_wb = 0.0215;
    wheel.shaft = (cvk_rig_shaft){
        .inertia_kg_m2 = 0.085, .friction_coulomb_nm = 0.12, .coupling_nm_rad = 1.0};
    wheel.inverter.pwm_hz = 20000;
    wheel.inverter.dead_time_s = 500e-9;
    wheel.inverter.switch_resistance_ohm = wheel.inverter.diode_drop_v = 0.0;
    wheel.supply.bus_v = 25.6;
    wheel.supply.resistance_ohm = 0.0;
    wheel.sensing = (cvk_rig_sensing){
        .adc_bits = 16, .current_range_a = 33, .voltage_range_v = 40, .ringing_decay_s = 1e-6};
    wheel.drive = (cvk_rig_drive){.current_limit_a = 14,
                                  .trip_current_a = 25,
                                  .bandwidth_hz = 500,
                                  .inductance_d_h = 3e-4,
                                  .inductance_q_h = 4e-4,
                                  .speed_rad_s = 310,
                                  .plateau_s = 1};
    return wheel;
}

static const cvk_drive_config drive_config = {
    .current = {.period_s = 50e-6f,
                .bandwidth_hz = 500.0f,
                .resistance_ohm = 0.165f,
                .inductance_d_h = 320e-6f,
                .inductance_q_h = 470e-6f,
                .flux_linkage_wb = 0.0215f},
    .sensor = {.period_s = 50e-6f, .pole_pairs = 12.0f, .direction = 1.0f, .bandwidth_hz = 100.0f},
    .trip_current_a = 25.0f,
    .bus_min_v = 18.0f,
    .bus_max_v = 30.0f,
    .speed_gain_a_s = 0.2f,
    .speed_integral_gain_a = 0.4f,
    .speed_limit_a = 10.0f,
};

static void gate_enable(void *context, bool enable)
{
    cvk_rig_enable_bridge((cvk_rig *)context, enable);
}

int main(void)
{
    static cvk_rig rig;
    const cvk_rig_config wheel = ideal_wheel();
    static cvk_drive drive;
    const cvk_port port = {.context = &rig, .gate_enable = gate_enable};
    cvk_refusal why = {0};
    if (cvk_rig_init(&rig, &wheel, 1) != CVK_OK ||
        cvk_drive_init(&drive, &port, &drive_config, &why) != CVK_OK) {
        fprintf(stderr, "refused: %s\n", why.field != NULL ? why.field : "rig");
        return EXIT_FAILURE;
    }
    const float rad_s_per_rpm = CVK_TWO_PI / 60.0f * 12.0f; /* electrical */
    cvk_drive_set_angle_source(&drive, CVK_ANGLE_SENSOR);
    const cvk_command command = {.mode = CVK_MODE_SPEED, .speed_rad_s = 120.0f * rad_s_per_rpm};
    if (cvk_drive_set_command(&drive, command, &why) != CVK_OK) {
        fprintf(stderr, "refused: %s\n", why.field);
        return EXIT_FAILURE;
    }

    double duty[3] = {0.5, 0.5, 0.5}; /* computed in one period, acting in the next */
    for (int tick = 0; tick <= 20000; tick++) {
        const cvk_rig_sample read = cvk_rig_read(&rig);
        const cvk_drive_sample sample = {
            .current_a = {(float)read.current_a[0], (float)read.current_a[1],
                          (float)read.current_a[2]},
            .bus_v = (float)read.bus_v,
            .sensor_mech_rad = (float)read.absolute_mech_rad,
        };
        const cvk_abc next = cvk_drive_control(&drive, &sample);
        cvk_rig_advance(&rig, duty);
        duty[0] = next.a;
        duty[1] = next.b;
        duty[2] = next.c;
        if (tick % 2000 == 0) {
            printf("t = %.1f s   %6.1f rpm   phase a %+6.2f A\n", rig.time_s,
                   (double)(drive.angle.speed_rad_s / rad_s_per_rpm), read.current_a[0]);
        }
    }
    return drive.fault == CVK_FAULT_NONE ? EXIT_SUCCESS : EXIT_FAILURE;
}
