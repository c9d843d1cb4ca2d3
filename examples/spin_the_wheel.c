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
    return wheel;
}

static cvk_settings settings_of_the_wheel(void)
{
    cvk_settings s = cvk_settings_default();
    s.motor = (cvk_motor_settings){12, 0.165f, 320e-6f, 470e-6f, 0.0215f};
    s.rotor.kind = CVK_ROTOR_ABSOLUTE;
    s.limit.current_a = 14.0f;
    s.protect = (cvk_protect_settings){25.0f, 18.0f, 30.0f};
    s.speed.gain_a_s = 0.2f;
    s.speed.integral_gain_a = 0.4f;
    return s;
}

static void gate_enable(void *context, bool enable)
{
    cvk_rig_enable_bridge((cvk_rig *)context, enable);
}

int main(void)
{
    const cvk_rig_config wheel = ideal_wheel();
    cvk_rig *rig;
    cvk_refusal why = {0};
    if (cvk_rig_open(&rig, &wheel, 1) != CVK_OK) {
        fprintf(stderr, "the rig is refused\n");
        return EXIT_FAILURE;
    }
    static cvk_drive drive;
    const cvk_port port = {.context = rig, .gate_enable = gate_enable};
    const cvk_hardware hardware = cvk_hardware_default(); /* 20 kHz */
    const cvk_settings settings = settings_of_the_wheel();
    const float rad_s_per_rpm = CVK_TWO_PI / 60.0f * 12.0f; /* electrical */
    const cvk_request request = {.mode = CVK_MODE_SPEED, .speed_rad_s = 120.0f * rad_s_per_rpm};
    if (cvk_drive_init(&drive, &port, &hardware, &settings, &why) != CVK_OK ||
        cvk_drive_claim(&drive, 1, 5.0f) != CVK_OK || /* longer than this program runs */
        cvk_drive_request(&drive, 1, &request, &why) != CVK_OK) {
        fprintf(stderr, "refused: %s\n", why.field);
        return EXIT_FAILURE;
    }

    const cvk_moment *now = cvk_drive_now(&drive);
    double duty[3] = {0.5, 0.5, 0.5}; /* computed in one period, acting in the next */
    for (int tick = 0; tick <= 20000; tick++) {
        const cvk_rig_sample read = cvk_rig_read(rig);
        const cvk_readings readings = {
            .current_a = {(float)read.current_a[0], (float)read.current_a[1],
                          (float)read.current_a[2]},
            .current_valid = CVK_ALL_CURRENTS_VALID,
            .bus_v = (float)read.bus_v,
            .rotor = {.absolute_mech_rad = (float)read.absolute_mech_rad},
        };
        const cvk_abc next = cvk_drive_control(&drive, &readings);
        cvk_rig_advance(rig, duty);
        duty[0] = (double)next.a;
        duty[1] = (double)next.b;
        duty[2] = (double)next.c;
        if (tick % 2000 == 0) {
            printf("t = %.1f s   %6.1f rpm   phase a %+6.2f A\n", cvk_rig_time_s(rig),
                   (double)(now->angle.speed_rad_s / rad_s_per_rpm), (double)now->phase_a.a);
        }
    }
    cvk_rig_close(rig);
    return now->fault == CVK_FAULT_NONE ? EXIT_SUCCESS : EXIT_FAILURE;
}
