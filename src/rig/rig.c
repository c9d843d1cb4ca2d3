/* SPDX-License-Identifier: Apache-2.0
 *
 * The rig as a whole: drawing its imperfections, the supply, one PWM period, and the readings.
 */
#include "corvak/rig/rig.h"

#include "physics.h"
#include "random.h"

#include <math.h>
#include <stddef.h>

#define TWO_PI 6.28318530717958647693

/* Fastest time constant against one integration step: keeps the Runge-Kutta error far below the
 * converters' resolution. */
#define LARGEST_STEP 0.5
#define MOST_STEPS 64

static cvk_rig_channel draw_channel(cvk_rig *rig, double gain_tolerance, double offset)
{
    cvk_rig_channel channel = {1.0 + gain_tolerance * cvk_rig_random_even(&rig->random),
                               offset * cvk_rig_random_even(&rig->random)};
    return channel;
}

/* Integration steps in one PWM period: the winding behind the steepest part of the dead time. */
static int steps_for(const cvk_rig_config *config)
{
    double slope = cvk_rig_visible_resistance(config) +
                   cvk_rig_dead_time_voltage(config) / config->inverter.soft_current_a;
    double low = fmin(config->motor.inductance_d_h, config->motor.inductance_q_h);
    double steps = ceil(slope / (low * config->inverter.pwm_hz * LARGEST_STEP));
    return steps > MOST_STEPS ? MOST_STEPS : (int)steps;
}

cvk_status cvk_rig_init(cvk_rig *rig, const cvk_rig_config *config, uint64_t seed)
{
    cvk_status status = cvk_rig_check(config, NULL);
    if (status != CVK_OK) {
        return status;
    }
    *rig = (cvk_rig){.config = *config, .bus_v = config->supply.bus_v};
    cvk_rig_random_seed(&rig->random, seed);
    rig->steps = steps_for(config);
    const cvk_rig_sensing *sensing = &config->sensing;
    for (int n = 0; n < 3; n++) {
        rig->current[n] =
            draw_channel(rig, sensing->current_gain_tolerance, sensing->current_offset_a);
        rig->terminal[n] = draw_channel(rig, sensing->voltage_gain_tolerance, 0.0);
    }
    rig->bus = draw_channel(rig, sensing->voltage_gain_tolerance, 0.0);
    for (int n = 0; n < CVK_RIG_MAGNET_ORDERS; n++) {
        rig->magnet_phase_rad[n] = 0.5 * TWO_PI * cvk_rig_random_even(&rig->random);
    }
    rig->state.angle_mech_rad = 0.5 * TWO_PI * cvk_rig_random_even(&rig->random);
    cvk_magnet_flux m = cvk_rig_magnet_flux(rig, rig->state.angle_mech_rad);
    rig->state.flux_alpha_wb = creal(m.flux_wb);
    rig->state.flux_beta_wb = cimag(m.flux_wb);
    return CVK_OK;
}

void cvk_rig_hold_shaft(cvk_rig *rig, bool held)
{
    rig->shaft_held = held;
    if (held) {
        rig->state.speed_mech_rad_s = 0.0;
    }
}

void cvk_rig_enable_bridge(cvk_rig *rig, bool on)
{
    rig->bridge_on = on;
}

static cvk_vec current_now(const cvk_rig *rig)
{
    cvk_magnet_flux m = cvk_rig_magnet_flux(rig, rig->state.angle_mech_rad);
    return cvk_rig_current_of(&rig->config.motor,
                              rig->state.flux_alpha_wb + I * rig->state.flux_beta_wb, &m);
}

static double convert(cvk_rig *rig, const cvk_rig_channel *channel, double truth, double noise,
                      double low, double high)
{
    double step = (high - low) / (exp2(floor(rig->config.sensing.adc_bits)) - 1.0);
    double analogue = channel->gain * truth + channel->offset;
    analogue += noise * cvk_rig_random_normal(&rig->random);
    return low + step * round((fmax(low, fmin(high, analogue)) - low) / step);
}

static double read_rotor_sensor(cvk_rig *rig)
{
    const cvk_rig_rotor_sensor *sensor = &rig->config.rotor_sensor;
    double reading = rig->state.angle_mech_rad + sensor->offset_mech_rad +
                     sensor->noise_mech_rad * cvk_rig_random_normal(&rig->random);
    if (sensor->counts > 0.0) {
        double step = TWO_PI / sensor->counts;
        reading = step * floor(reading / step);
    }
    return reading - TWO_PI * floor(reading / TWO_PI);
}

cvk_rig_sample cvk_rig_read(cvk_rig *rig)
{
    const cvk_rig_sensing *sensing = &rig->config.sensing;
    cvk_magnet_flux m = cvk_rig_magnet_flux(rig, rig->state.angle_mech_rad);
    double i[3], emf[3];
    cvk_rig_to_phases(current_now(rig), i);
    cvk_rig_to_phases(m.slope_wb * rig->state.speed_mech_rad_s, emf);

    cvk_rig_sample sample;
    for (int n = 0; n < 3; n++) {
        sample.current_a[n] = convert(rig, &rig->current[n], i[n], sensing->current_noise_a,
                                      -sensing->current_range_a, sensing->current_range_a);
        /* bridge off: the star point floats at about half the bus. Bridge on: the sample falls
         * into the zero vector, where all three low switches conduct. */
        double terminal = rig->bridge_on ? 0.0 : 0.5 * rig->bus_v + emf[n];
        sample.terminal_v[n] = convert(rig, &rig->terminal[n], terminal, sensing->voltage_noise_v,
                                       0.0, sensing->voltage_range_v);
    }
    sample.bus_v = convert(rig, &rig->bus, rig->bus_v, sensing->voltage_noise_v, 0.0,
                           sensing->voltage_range_v);
    sample.sensor_mech_rad = read_rotor_sensor(rig);
    return sample;
}

/* The bus current of the period follows from the power that goes into the phases. */
static void update_bus(cvk_rig *rig, const double duty[3])
{
    double i[3], bus_current_a = 0.0;
    cvk_rig_to_phases(current_now(rig), i);
    for (int n = 0; n < 3 && rig->bridge_on; n++) {
        bus_current_a += duty[n] * i[n];
    }
    rig->bus_v = rig->config.supply.bus_v - rig->config.supply.resistance_ohm * bus_current_a;
}

void cvk_rig_advance(cvk_rig *rig, const double duty[3])
{
    const double period_s = 1.0 / rig->config.inverter.pwm_hz;
    update_bus(rig, duty);
    for (int n = 0; n < rig->steps; n++) {
        if (rig->bridge_on) {
            cvk_rig_integrate(rig, duty, period_s / rig->steps);
        } else {
            cvk_rig_integrate_off(rig, period_s / rig->steps);
        }
    }
    rig->time_s += period_s;
}

double cvk_rig_electrical_angle(const cvk_rig *rig)
{
    double turns = rig->config.motor.pole_pairs * rig->state.angle_mech_rad / TWO_PI;
    return TWO_PI * (turns - floor(turns));
}

void cvk_rig_true_current(const cvk_rig *rig, double current_a[3])
{
    cvk_rig_to_phases(current_now(rig), current_a);
}
