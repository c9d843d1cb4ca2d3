/* SPDX-License-Identifier: Apache-2.0
 *
 * Rotor sensors and set-point inputs. Every rotor sensor looks at the same angle: the shaft's,
 * counted in the sensor's own direction from where the motor's electrical angle is zero.
 */
#include "parts.h"

#include "corvak/core/units.h"
#include "random.h"

#define SLOW_EVERY_S 0.001 /* pedal and temperature share a converter */
#define PULSE_EVERY_S 0.02
#define DIGITAL_EVERY_S 0.01

static double sensor_angle(const cvk_rig *rig)
{
    double angle = rig->state.angle_mech_rad;
    return (rig->config.wiring.sensor_reversed ? -angle : angle) +
           rig->config.rotor_sensor.offset_mech_rad;
}

static double sensor_speed(const cvk_rig *rig)
{
    double speed = rig->state.speed_mech_rad_s;
    return rig->config.wiring.sensor_reversed ? -speed : speed;
}

static double noise(cvk_rig *rig, double rms)
{
    return rms > 0.0 ? rms * cvk_rig_random_normal(&rig->random) : 0.0;
}

static bool chance(cvk_rig *rig, double share)
{
    return share > 0.0 && 0.5 + 0.5 * cvk_rig_random_even(&rig->random) < share;
}

static bool fitted(const cvk_rig *rig, cvk_rotor_kind kind)
{
    const cvk_rig_rotor_sensor *s = &rig->config.rotor_sensor;
    return s->kind == (int)kind || (s->all_fitted && s->kind != CVK_ROTOR_NONE);
}

static double within_turn(double angle)
{
    double turn = angle - CVK_TWO_PI_WIDE * floor(angle * (1.0 / CVK_TWO_PI_WIDE));
    return turn < CVK_TWO_PI_WIDE ? turn : 0.0;
}

static double read_absolute(cvk_rig *rig)
{
    const cvk_rig_rotor_sensor *s = &rig->config.rotor_sensor;
    double angle = sensor_angle(rig) - s->latency_s * sensor_speed(rig);
    if (s->harmonic_1_mech_rad != 0.0 || s->harmonic_2_mech_rad != 0.0) {
        angle += s->harmonic_1_mech_rad * sin(angle) + s->harmonic_2_mech_rad * sin(2.0 * angle);
    }
    angle += noise(rig, s->noise_mech_rad);
    if (s->counts > 0.0) {
        double step = CVK_TWO_PI_WIDE / s->counts;
        angle = step * floor(angle / step);
    }
    return within_turn(angle);
}

static double encoder_angle(const cvk_rig *rig)
{
    double angle = sensor_angle(rig);
    return angle + rig->config.rotor_sensor.eccentricity_mech_rad * sin(angle);
}

static double encoder_position(const cvk_rig *rig)
{
    return floor(encoder_angle(rig) / CVK_TWO_PI_WIDE * rig->config.rotor_sensor.counts);
}

static void read_encoder(cvk_rig *rig, cvk_rig_sample *sample)
{
    const cvk_rig_rotor_sensor *s = &rig->config.rotor_sensor;
    cvk_rig_sensor_state *x = &rig->sensors;
    double position = encoder_position(rig), step = position - x->encoder_edge;
    double turn = floor(encoder_angle(rig) / CVK_TWO_PI_WIDE);
    if (s->missing_share > 0.0 && step != 0.0) {
        double lost =
            floor(fabs(step) * s->missing_share + 0.5 * (1.0 + cvk_rig_random_even(&rig->random)));
        x->encoder_counts += copysign(fabs(step) - cvk_smaller(lost, fabs(step)), step);
    } else {
        x->encoder_counts += step;
    }
    sample->index_passed = s->index > 0.0 && turn != x->encoder_turn;
    sample->encoder_counts = x->encoder_counts;
    x->encoder_edge = position;
    x->encoder_turn = turn;
}

static void read_sincos(cvk_rig *rig, cvk_rig_sample *sample)
{
    const cvk_rig_rotor_sensor *s = &rig->config.rotor_sensor;
    const cvk_rig_sensor_state *x = &rig->sensors;
    double periods = s->periods_per_turn > 0.0 ? s->periods_per_turn : rig->config.motor.pole_pairs;
    double a = periods * sensor_angle(rig), third = s->harmonic_3;
    sample->sin_v = s->amplitude_v * ((1.0 + 0.5 * x->gain_mismatch) * sin(a + x->quadrature_rad) +
                                      third * sin(3.0 * a)) +
                    x->sin_offset_v + noise(rig, s->sincos_noise_v);
    sample->cos_v =
        s->amplitude_v * ((1.0 - 0.5 * x->gain_mismatch) * cos(a) + third * cos(3.0 * a)) +
        x->cos_offset_v + noise(rig, s->sincos_noise_v);
}

/* One hall: high over half an electrical turn, keeping its state within the hysteresis. */
static int read_one_hall(cvk_rig *rig, int n, double angle_e)
{
    const cvk_rig_rotor_sensor *s = &rig->config.rotor_sensor;
    cvk_rig_sensor_state *x = &rig->sensors;
    double level = cos(angle_e - n * CVK_TWO_PI_WIDE / 3.0 - x->hall_place_rad[n]);
    double late = sin(0.5 * s->hall_hysteresis_e_rad);
    int now = level > late ? 1 : (level < -late ? 0 : x->hall[n]);
    if (now != x->hall[n]) {
        x->hall[n] = now;
        x->hall_edge_s[n] = rig->time_s;
    }
    bool bounces = rig->time_s - x->hall_edge_s[n] < s->hall_bounce_s;
    if (s->hall_dead == n + 1) {
        return 1;
    }
    return bounces && chance(rig, 0.5) ? !now : now;
}

static int read_halls(cvk_rig *rig)
{
    const int *order = cvk_order((cvk_rig_phases)rig->config.wiring.hall_wires);
    double angle_e = rig->config.motor.pole_pairs * sensor_angle(rig);
    int hall[3], word = 0;
    for (int n = 0; n < 3; n++) {
        hall[n] = read_one_hall(rig, n, angle_e);
    }
    for (int n = 0; n < 3; n++) {
        word |= hall[order[n]] << n;
    }
    return word;
}

static double read_tachometer(cvk_rig *rig)
{
    const cvk_rig_rotor_sensor *s = &rig->config.rotor_sensor;
    double v = s->tachometer_v_s * sensor_speed(rig);
    if (s->tachometer_ripple > 0.0) {
        v *= 1.0 + s->tachometer_ripple * cos(14.0 * sensor_angle(rig));
    }
    return v + noise(rig, s->tachometer_noise_v);
}

void cvk_sensors_draw(cvk_rig *rig)
{
    const cvk_rig_rotor_sensor *s = &rig->config.rotor_sensor;
    cvk_rig_sensor_state *x = &rig->sensors;
    x->sin_offset_v = s->centre_offset_v * cvk_rig_random_even(&rig->random);
    x->cos_offset_v = s->centre_offset_v * cvk_rig_random_even(&rig->random);
    x->gain_mismatch = s->gain_mismatch * cvk_rig_random_even(&rig->random);
    x->quadrature_rad = s->quadrature_rad * cvk_rig_random_even(&rig->random);
    double angle_e = rig->config.motor.pole_pairs * sensor_angle(rig);
    for (int n = 0; n < 3; n++) {
        x->hall_place_rad[n] = s->hall_misplacement_e_rad * cvk_rig_random_even(&rig->random);
        x->hall[n] = cos(angle_e - n * CVK_TWO_PI_WIDE / 3.0 - x->hall_place_rad[n]) > 0.0;
        x->hall_edge_s[n] = -INFINITY;
    }
    x->encoder_edge = encoder_position(rig);
    x->encoder_turn = floor(encoder_angle(rig) / CVK_TWO_PI_WIDE);
    x->encoder_start = sensor_angle(rig);
}

void cvk_rig_true_halls(const cvk_rig *rig, double place_e_rad[3])
{
    for (int n = 0; n < 3; n++) {
        place_e_rad[n] = rig->sensors.hall_place_rad[n];
    }
}

void cvk_rig_true_sincos(const cvk_rig *rig, double *sin_offset_v, double *cos_offset_v,
                         double *gain_mismatch, double *quadrature_rad)
{
    *sin_offset_v = rig->sensors.sin_offset_v;
    *cos_offset_v = rig->sensors.cos_offset_v;
    *gain_mismatch = rig->sensors.gain_mismatch;
    *quadrature_rad = rig->sensors.quadrature_rad;
}

/* Inputs that nothing drives: all ones, or about zero volts. */
static void read_nothing(cvk_rig *rig, cvk_rig_sample *sample)
{
    const cvk_rig_rotor_sensor *s = &rig->config.rotor_sensor;
    sample->absolute_mech_rad = s->counts > 0.0 ? CVK_TWO_PI_WIDE * (1.0 - 1.0 / s->counts) : 0.0;
    sample->encoder_counts = rig->sensors.encoder_counts;
    sample->sin_v = noise(rig, 0.01);
    sample->cos_v = noise(rig, 0.01);
    sample->hall = 7;
    sample->tachometer_v = 0.0;
}

void cvk_sensors_read(cvk_rig *rig, cvk_rig_sample *sample)
{
    sample->absolute_mech_rad = sample->encoder_counts = sample->sin_v = sample->cos_v =
        sample->tachometer_v = NAN;
    sample->hall = 0;
    sample->index_passed = false;
    if (rig->acting.sensor_unplugged) {
        read_nothing(rig, sample);
        return;
    }
    if (rig->acting.sensor_stuck) {
        const cvk_rig_sample *last = &rig->sensors.last;
        sample->absolute_mech_rad = last->absolute_mech_rad;
        sample->encoder_counts = last->encoder_counts;
        sample->sin_v = last->sin_v;
        sample->cos_v = last->cos_v;
        sample->hall = last->hall;
        sample->tachometer_v = last->tachometer_v;
        return;
    }
    if (fitted(rig, CVK_ROTOR_ABSOLUTE)) {
        sample->absolute_mech_rad = read_absolute(rig);
    }
    if (fitted(rig, CVK_ROTOR_ENCODER)) {
        read_encoder(rig, sample);
    }
    if (fitted(rig, CVK_ROTOR_SINCOS)) {
        read_sincos(rig, sample);
    }
    if (fitted(rig, CVK_ROTOR_HALLS)) {
        sample->hall = read_halls(rig);
    }
    if (fitted(rig, CVK_ROTOR_TACHOMETER)) {
        sample->tachometer_v = read_tachometer(rig);
    }
}

void cvk_inputs_read(cvk_rig *rig, cvk_rig_sample *sample)
{
    const cvk_rig_inputs *in = &rig->config.inputs;
    cvk_rig_sensor_state *x = &rig->sensors;
    bool lost = rig->acting.set_point_lost;
    sample->pulse_s = sample->digital = NAN;
    sample->pedal_v = x->last.pedal_v;
    sample->winding_degc = x->last.winding_degc;
    if (rig->time_s >= x->slow_due_s) {
        const cvk_rig_sensing *sensing = &rig->config.sensing;
        x->slow_due_s += SLOW_EVERY_S;
        sample->pedal_v = lost ? 0.0 : 0.5 + 4.0 * rig->set_point + noise(rig, in->pedal_noise_v);
        sample->winding_degc = rig->state.winding_degc + sensing->temperature_offset_k +
                               noise(rig, sensing->temperature_noise_k);
    }
    if (rig->time_s >= x->pulse_due_s) {
        x->pulse_due_s += PULSE_EVERY_S;
        if (!lost && !chance(rig, in->pulse_loss)) {
            sample->pulse_s = 1e-3 * (1.0 + rig->set_point) + noise(rig, in->pulse_noise_s);
        }
    }
    if (rig->time_s >= x->digital_due_s) {
        x->digital_due_s += DIGITAL_EVERY_S;
        if (!lost && !chance(rig, in->digital_loss)) {
            sample->digital = rig->set_point;
        }
    }
}

/* The controller's angle is that of its legs: leg a's axis lies on its motor phase, and legs in
 * reverse order see the motor turn the other way. */
void cvk_rig_calibration(const cvk_rig *rig, double *direction, double *offset_e_rad)
{
    const int *phase = rig->derived.leg_phase;
    double sign = (phase[1] - phase[0] + 3) % 3 == 1 ? 1.0 : -1.0;
    double axis = phase[0] * CVK_TWO_PI_WIDE / 3.0, p = rig->config.motor.pole_pairs;
    double zero = rig->config.rotor_sensor.kind == CVK_ROTOR_ENCODER
                      ? rig->config.rotor_sensor.offset_mech_rad - rig->sensors.encoder_start
                      : rig->config.rotor_sensor.offset_mech_rad;
    *direction = rig->config.wiring.sensor_reversed ? -sign : sign;
    *offset_e_rad = remainder(-*direction * p * zero - sign * axis, CVK_TWO_PI_WIDE);
}
