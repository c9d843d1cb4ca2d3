/* SPDX-License-Identifier: Apache-2.0
 *
 * Currents and voltages as the converters deliver them.
 */
#include "parts.h"
#include "random.h"

static cvk_rig_channel draw(cvk_rig *rig, double gain_tolerance, double offset, double drift)
{
    double g = cvk_rig_random_even(&rig->random), o = cvk_rig_random_even(&rig->random),
           d = cvk_rig_random_even(&rig->random);
    return (cvk_rig_channel){1.0 + gain_tolerance * g, offset * o, drift * d, NAN, 0.0};
}

/* One count of a converter over this span; 0 without quantisation. */
static double count_of(double span, double bits)
{
    return bits > 0.0 ? span / (exp2(floor(bits)) - 1.0) : 0.0;
}

void cvk_sensing_draw(cvk_rig *rig)
{
    const cvk_rig_sensing *s = &rig->config.sensing;
    for (int n = 0; n < 3; n++) {
        rig->current[n] =
            draw(rig, s->current_gain_tolerance, s->current_offset_a, s->current_drift_a_s);
        rig->terminal[n] = draw(rig, s->voltage_gain_tolerance, 0.0, 0.0);
    }
    if (s->current_sensing == CVK_SENSING_SINGLE_SHUNT) { /* one amplifier for all */
        rig->current[1] = rig->current[2] = rig->current[0];
    }
    rig->bus = draw(rig, s->voltage_gain_tolerance, 0.0, 0.0);
    rig->derived.adc_current_a = count_of(2.0 * s->current_range_a, s->adc_bits);
    rig->derived.adc_voltage_v = count_of(s->voltage_range_v, s->adc_bits);
}

/* Linear nearly up to the end of the range, then flat. */
static double amplifier(double x, double range)
{
    const double z = x / range, z2 = z * z, z4 = z2 * z2, z8 = z4 * z4;
    return z8 < 1e-4 ? x * (1.0 - 0.125 * z8) : x / sqrt(sqrt(sqrt(1.0 + z8)));
}

static double convert(cvk_rig_channel *c, double analogue, double low, double high, double count)
{
    double reading = cvk_clamp(analogue, low, high);
    if (count > 0.0) {
        reading = low + count * (double)(long)((reading - low) / count + 0.5); /* never below low */
    }
    if (!isnan(c->stuck)) {
        return c->stuck;
    }
    c->last = reading;
    return reading;
}

static double read_current(cvk_rig *rig, int leg, double truth_a, double ringing_a)
{
    const cvk_rig_sensing *s = &rig->config.sensing;
    cvk_rig_channel *c = &rig->current[leg];
    double x = c->gain * truth_a + c->offset + c->drift_per_s * rig->time_s + ringing_a;
    if (s->current_noise_a > 0.0) {
        x += s->current_noise_a * cvk_rig_random_normal(&rig->random);
    }
    if (s->amplifier_range_a > 0.0) {
        x = amplifier(x, s->amplifier_range_a);
    }
    return convert(c, x, -s->current_range_a, s->current_range_a, rig->derived.adc_current_a);
}

static double read_voltage(cvk_rig *rig, cvk_rig_channel *c, double truth_v)
{
    const cvk_rig_sensing *s = &rig->config.sensing;
    double x = c->gain * truth_v;
    if (s->voltage_noise_v > 0.0) {
        x += s->voltage_noise_v * cvk_rig_random_normal(&rig->random);
    }
    return convert(c, x, 0.0, s->voltage_range_v, rig->derived.adc_voltage_v);
}

/* What is left at the sample of the ringing that the leg's last edge caused. */
static double ringing_of(const cvk_rig_sensing *s, double since_edge_s)
{
    double x = since_edge_s / s->ringing_decay_s;
    return s->ringing_a > 0.0 && x < 40.0 ? s->ringing_a * exp(-x) * cos(3.0 * x) : 0.0;
}

/* Low-side shunts and in-line sensors: all legs at one instant. */
static void read_legs(cvk_rig *rig, const double truth_a[3], cvk_rig_sample *sample)
{
    const cvk_rig_sensing *s = &rig->config.sensing;
    const double half_s = 0.5 / rig->config.inverter.pwm_hz;
    const bool shunts = s->current_sensing != CVK_SENSING_INLINE;
    for (int n = 0; n < 3; n++) {
        double since_edge_s = half_s * (rig->second_half ? rig->duty[n] : 1.0 - rig->duty[n]);
        double settled = 1.0;
        sample->current_valid[n] = true;
        if (shunts && rig->bridge_on && s->settling_s > 0.0) {
            double window_s = since_edge_s - rig->config.inverter.dead_time_s;
            settled = cvk_clamp(window_s / s->settling_s, 0.0, 1.0);
            sample->current_valid[n] = settled >= 1.0;
        }
        double ringing_a = rig->bridge_on ? ringing_of(s, since_edge_s) : 0.0;
        sample->current_a[n] = read_current(rig, n, settled * truth_a[n], ringing_a);
    }
    if (s->current_sensing == CVK_SENSING_TWO_SHUNTS) {
        sample->current_a[2] = NAN;
        sample->current_valid[2] = false;
    }
}

/* Single shunt: two samples of the period before, each of one leg. */
static void read_single(cvk_rig *rig, const double truth_a[3], cvk_rig_sample *sample)
{
    const cvk_rig_sensing *s = &rig->config.sensing;
    const cvk_shunt_plan plan = cvk_plan_shunt(rig, rig->duty);
    for (int n = 0; n < 3; n++) {
        sample->current_a[n] = NAN;
        sample->current_valid[n] = false;
    }
    for (int k = 0; k < 2; k++) {
        int leg = plan.leg[k];
        double truth = rig->bridge_on ? rig->shunt_a[leg] : truth_a[leg];
        double settled = 1.0, sign = k == 0 ? 1.0 : -1.0;
        if (rig->bridge_on && s->settling_s > 0.0) {
            settled = cvk_clamp(plan.window_s[k] / s->settling_s, 0.0, 1.0);
        }
        double ringing_a = rig->bridge_on ? ringing_of(s, cvk_larger(0.0, plan.window_s[k])) : 0.0;
        sample->current_a[leg] = sign * read_current(rig, leg, sign * settled * truth, ringing_a);
        sample->current_valid[leg] = settled >= 1.0 && (!rig->bridge_on || plan.window_s[k] > 0.0);
    }
}

/* The legs' currents a little earlier, in the zero vector that the sample falls into: there the
 * winding gets no voltage, and the current moves by back-EMF over inductance. */
static void look_back(const cvk_rig *rig, double lag_s, double leg_a[3])
{
    const double turned = rig->state.speed_mech_rad_s * lag_s;
    cvk_vec half;
    const cvk_rig_rotor before = cvk_rotor_turned(rig, &rig->rotor, -turned, &half);
    const cvk_vec flux =
        cvk_flux_now(rig) + lag_s * rig->derived.resistance_ohm * cvk_current_now(rig);
    double phase_a[3];
    cvk_to_phases(cvk_current_of(&rig->derived, flux, &before), phase_a);
    for (int n = 0; n < 3; n++) {
        leg_a[n] = phase_a[rig->derived.leg_phase[n]];
    }
}

void cvk_sensing_read(cvk_rig *rig, cvk_rig_sample *sample)
{
    const cvk_rig_sensing *s = &rig->config.sensing;
    const cvk_rig_derived *d = &rig->derived;
    double i[3], emf[3] = {0.0, 0.0, 0.0};
    cvk_leg_currents(rig, i);
    if (rig->bridge_on && s->amplifier_lag_s > 0.0) {
        look_back(rig, s->amplifier_lag_s, i);
    }
    if (rig->bridge_on) { /* the sample falls into a zero vector: the iron takes its share */
        double share = 1.0 - d->inv_iron * d->weaken * d->resistance_ohm;
        i[0] *= share;
        i[1] *= share;
        i[2] *= share;
    } else {
        cvk_to_phases(cvk_vec_of(rig->rotor.slope_wb) * rig->state.speed_mech_rad_s, emf);
    }
    if (s->current_sensing == CVK_SENSING_SINGLE_SHUNT) {
        read_single(rig, i, sample);
    } else {
        read_legs(rig, i, sample);
    }
    for (int n = 0; n < 3; n++) {
        /* bridge off: the star point floats at about half the bus */
        double v = 0.5 * rig->state.bus_v + emf[d->leg_phase[n]];
        sample->terminal_v[n] = rig->bridge_on || s->terminal_voltages == CVK_TERMINALS_NOT_MEASURED
                                    ? NAN
                                    : read_voltage(rig, &rig->terminal[n], v);
    }
    /* no leg draws while all rest on one side of the bus */
    const double source_v = rig->config.supply.capacitor_resistance_ohm * rig->state.supply_a;
    sample->bus_v = read_voltage(rig, &rig->bus, rig->state.bus_v + source_v);
}
