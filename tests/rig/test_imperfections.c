/* SPDX-License-Identifier: Apache-2.0
 *
 * Every imperfection has its switch: each is put alone on an ideal rig, must leave its signature
 * there, and must leave none when its switch is off.
 */
#include "corvak/rig/rig.h"
#include "ideal_rig.h"
#include "suite.h"

#include <math.h>
#include <string.h>

#define PI 3.14159265358979323846
#define READINGS 4000

static cvk_rig *rig;

static void start(const cvk_rig_config *config)
{
    cvk_rig_close(rig);
    ck_assert_int_eq(cvk_rig_open(&rig, config, 4), CVK_OK);
    cvk_rig_place(rig, 0.0);
}

/* Phase a's current after a held voltage, rotor blocked with the magnets along phase a. */
static double blocked_current(const cvk_rig_config *config, double duty_a)
{
    const double others = duty_a > 0.4 ? 0.45 : 0.0, duty[3] = {duty_a, others, others};
    double i[3];
    start(config);
    cvk_rig_hold_shaft(rig, true);
    cvk_rig_enable_bridge(rig, true);
    for (int k = 0; k < 2000; k++) {
        cvk_rig_advance(rig, duty);
    }
    cvk_rig_true_current(rig, i);
    return i[0];
}

/* Lets a turning shaft coast for a second; its speed then. */
static double coasted_speed(const cvk_rig_config *config)
{
    const double duty[3] = {0.5, 0.5, 0.5};
    start(config);
    cvk_rig_spin(rig, 100.0, cvk_rig_state_of(rig)->load_speed_mech_rad_s);
    for (int k = 0; k < 20000; k++) {
        cvk_rig_advance(rig, duty);
    }
    return cvk_rig_state_of(rig)->speed_mech_rad_s;
}

/* How far a reading is off while the back-EMF moves the current of a shorted winding. */
static double error_while_turning(const cvk_rig_config *config)
{
    const double duty[3] = {0.5, 0.5, 0.5};
    double i[3], worst = 0.0;
    start(config);
    cvk_rig_spin(rig, 100.0, 0.0);
    cvk_rig_enable_bridge(rig, true);
    cvk_rig_advance(rig, duty);
    cvk_rig_true_current(rig, i);
    const cvk_rig_sample seen = cvk_rig_read(rig);
    for (int n = 0; n < 3; n++) {
        worst = fmax(worst, fabs(seen.current_a[n] - i[n]));
    }
    return worst;
}

typedef double reading(const cvk_rig_sample *sample);

static double read_ia(const cvk_rig_sample *s)
{
    return s->current_a[0];
}
static double read_bus(const cvk_rig_sample *s)
{
    return s->bus_v;
}
static double read_temp(const cvk_rig_sample *s)
{
    return s->winding_degc;
}
static double read_absolute(const cvk_rig_sample *s)
{
    return s->absolute_mech_rad;
}
static double read_encoder(const cvk_rig_sample *s)
{
    return s->encoder_counts;
}
static double read_sin(const cvk_rig_sample *s)
{
    return s->sin_v;
}
static double read_tach(const cvk_rig_sample *s)
{
    return s->tachometer_v;
}
static double read_pedal(const cvk_rig_sample *s)
{
    return s->pedal_v;
}

/* Standard deviation of many readings of a resting rig; the mean goes to `mean`. */
static double scatter(const cvk_rig_config *config, reading *read, double *mean)
{
    double sum = 0.0, squares = 0.0;
    start(config);
    cvk_rig_place(rig, 1.0);
    double first = 0.0;
    for (int k = 0; k < READINGS; k++) {
        cvk_rig_pass_time(rig, 1e-3 * k - cvk_rig_time_s(rig));
        cvk_rig_sample s = cvk_rig_read(rig);
        first = k == 0 ? read(&s) : first;
        sum += read(&s) - first;
        squares += (read(&s) - first) * (read(&s) - first);
    }
    if (mean != NULL) {
        *mean = first + sum / READINGS;
    }
    return sqrt(fmax(0.0, squares / READINGS - pow(sum / READINGS, 2)));
}

/* Largest difference of a sensor from what `truth` says, over one turn by hand. */
static double worst_over_turn(const cvk_rig_config *config, reading *read, double factor,
                              double period)
{
    double worst = 0.0;
    start(config);
    cvk_rig_sample at_zero = cvk_rig_read(rig);
    for (int k = 1; k < 720; k++) {
        double angle = k * PI / 360.0;
        cvk_rig_place(rig, angle);
        cvk_rig_sample s = cvk_rig_read(rig);
        double off = read(&s) - read(&at_zero) - factor * angle;
        worst = fmax(worst, fabs(remainder(off, period)));
    }
    return worst;
}

/* ---- motor and shaft ------------------------------------------------------------------------- */

static double lost_inductance(const cvk_rig_config *config)
{
    double d, q[4];
    cvk_rig_flux_at(config, 0.0, -0.01, &d, &q[0]);
    cvk_rig_flux_at(config, 0.0, 0.01, &d, &q[1]);
    cvk_rig_flux_at(config, 0.0, 19.99, &d, &q[2]);
    cvk_rig_flux_at(config, 0.0, 20.01, &d, &q[3]);
    return 1.0 - (q[3] - q[2]) / (q[1] - q[0]);
}

/* Ripple of the back-EMF vector's length over an electrical turn, as a share. */
static double emf_ripple(const cvk_rig_config *config)
{
    double low = 1e9, high = 0.0;
    start(config);
    cvk_rig_spin(rig, 100.0, cvk_rig_state_of(rig)->load_speed_mech_rad_s);
    for (int k = 0; k < 360; k++) {
        cvk_rig_place(rig, k * PI / 180.0 / 4.0);
        cvk_rig_sample s = cvk_rig_read(rig);
        double alpha = (2 * s.terminal_v[0] - s.terminal_v[1] - s.terminal_v[2]) / 3;
        double length = hypot(alpha, (s.terminal_v[1] - s.terminal_v[2]) / sqrt(3.0));
        low = fmin(low, length);
        high = fmax(high, length);
    }
    return (high - low) / (high + low);
}

static double pole_pair_spread(const cvk_rig_config *config)
{
    double low = 1e9, high = 0.0;
    start(config);
    cvk_rig_spin(rig, 100.0, cvk_rig_state_of(rig)->load_speed_mech_rad_s);
    for (int k = 0; k < 4; k++) {
        cvk_rig_place(rig, 0.2 + k * PI / 2.0);
        cvk_rig_sample s = cvk_rig_read(rig);
        double line = hypot(s.terminal_v[0] - s.terminal_v[1], s.terminal_v[1] - s.terminal_v[2]);
        low = fmin(low, line);
        high = fmax(high, line);
    }
    return high / low - 1.0;
}

/* Torque on a currentless rotor, from its first acceleration. */
static double resting_torque(const cvk_rig_config *config)
{
    const double duty[3] = {0.5, 0.5, 0.5};
    start(config);
    cvk_rig_place(rig, PI / 2.0 / 6.0 / 4.0);
    cvk_rig_advance(rig, duty);
    return fabs(cvk_rig_state_of(rig)->speed_mech_rad_s) / 50e-6 * config->shaft.inertia_kg_m2;
}

static double coasting_loss(const cvk_rig_config *config)
{
    return 1.0 - coasted_speed(config) / 100.0;
}

static double current_lost_to_heat(const cvk_rig_config *config)
{
    return 1.0 - blocked_current(config, 0.6) / 4.8;
}

/* How many times faster a rotor starts than rotor and load together would. */
static double early_start(const cvk_rig_config *config)
{
    const double duty[3] = {0.6, 0.45, 0.45};
    start(config);
    cvk_rig_place(rig, -PI / 2.0 / 4.0);
    cvk_rig_enable_bridge(rig, true);
    for (int k = 0; k < 20; k++) {
        cvk_rig_advance(rig, duty);
    }
    double rotor_alone = cvk_rig_state_of(rig)->speed_mech_rad_s;
    cvk_rig_config rigid = *config;
    ck_assert(cvk_rig_switch(&rigid, "compliance", false));
    start(&rigid);
    cvk_rig_place(rig, -PI / 2.0 / 4.0);
    cvk_rig_enable_bridge(rig, true);
    for (int k = 0; k < 20; k++) {
        cvk_rig_advance(rig, duty);
    }
    return rotor_alone / cvk_rig_state_of(rig)->speed_mech_rad_s - 1.0;
}

/* ---- inverter and supply ----------------------------------------------------------------------
 */

static double current_lost(const cvk_rig_config *config)
{
    return 1.0 - blocked_current(config, 0.6) / 4.8;
}

/* Narrow pulses on leg a, none on the others. */
static double pulses_lost(const cvk_rig_config *config)
{
    return 1.0 - blocked_current(config, 0.006) / (2.0 / 3.0 * 0.006 * 24.0 / 0.5);
}

static double bus_sag(const cvk_rig_config *config)
{
    double current = blocked_current(config, 0.6);
    (void)current;
    return 24.0 - cvk_rig_state_of(rig)->bus_v;
}

/* ---- measuring chain --------------------------------------------------------------------------
 */

static double noise_of_current(const cvk_rig_config *config)
{
    return scatter(config, read_ia, NULL);
}

static double offset_of_current(const cvk_rig_config *config)
{
    double mean;
    (void)scatter(config, read_ia, &mean);
    return fabs(mean);
}

static double drift_of_current(const cvk_rig_config *config)
{
    const double duty[3] = {0.5, 0.5, 0.5};
    start(config);
    double before = cvk_rig_read(rig).current_a[0];
    for (int k = 0; k < 20000; k++) {
        cvk_rig_advance(rig, duty);
    }
    return fabs(cvk_rig_read(rig).current_a[0] - before);
}

static double error_of_current(const cvk_rig_config *config)
{
    double truth = blocked_current(config, 0.6);
    return fabs(cvk_rig_read(rig).current_a[0] / truth - 1.0);
}

/* Leg a's low time is 0.75 us. */
static double error_at_high_duty(const cvk_rig_config *config)
{
    double truth = blocked_current(config, 0.97);
    cvk_rig_sample s = cvk_rig_read(rig);
    return fabs(s.current_a[0] - truth) + (s.current_valid[0] ? 0.0 : 100.0);
}

static double noise_of_bus(const cvk_rig_config *config)
{
    return scatter(config, read_bus, NULL);
}

static double error_of_bus(const cvk_rig_config *config)
{
    double mean;
    (void)scatter(config, read_bus, &mean);
    return fabs(mean / 24.0 - 1.0);
}

static double error_of_temperature(const cvk_rig_config *config)
{
    double mean, noise = scatter(config, read_temp, &mean);
    return noise + fabs(mean - 25.0);
}

/* ---- rotor sensors and inputs -----------------------------------------------------------------
 */

static double noise_of_absolute(const cvk_rig_config *config)
{
    return scatter(config, read_absolute, NULL);
}

static double error_of_absolute(const cvk_rig_config *config)
{
    return worst_over_turn(config, read_absolute, 1.0, 2.0 * PI);
}

static double lag_of_absolute(const cvk_rig_config *config)
{
    start(config);
    cvk_rig_place(rig, 1.0);
    cvk_rig_spin(rig, 100.0, cvk_rig_state_of(rig)->load_speed_mech_rad_s);
    return fabs(cvk_rig_read(rig).absolute_mech_rad - 1.0);
}

static double error_of_encoder(const cvk_rig_config *config)
{
    return worst_over_turn(config, read_encoder, 4096.0 / (2.0 * PI), 1e9);
}

static double counts_lost(const cvk_rig_config *config)
{
    start(config);
    double before = cvk_rig_read(rig).encoder_counts;
    for (int k = 1; k <= 1000; k++) {
        cvk_rig_place(rig, k * 0.1);
        (void)cvk_rig_read(rig);
    }
    return 1.0 - (cvk_rig_read(rig).encoder_counts - before) / (100.0 / (2.0 * PI) * 4096.0);
}

/* Half the spread of the radius over a turn. */
static double ellipse(const cvk_rig_config *config)
{
    double low = 1e9, high = 0.0;
    start(config);
    for (int k = 0; k < 720; k++) {
        cvk_rig_place(rig, k * PI / 360.0);
        cvk_rig_sample s = cvk_rig_read(rig);
        low = fmin(low, hypot(s.sin_v, s.cos_v));
        high = fmax(high, hypot(s.sin_v, s.cos_v));
    }
    return 0.5 * (high - low);
}

static double noise_of_sincos(const cvk_rig_config *config)
{
    return scatter(config, read_sin, NULL);
}

typedef struct hall_edges {
    double rise_e_rad[3], fall_e_rad[3]; /* where each hall rises, turning up and then down */
    int changes;
} hall_edges;

/* Turns two electrical turns forward and back by hand, a reading every 10 us. */
static hall_edges turn_halls(const cvk_rig_config *config)
{
    hall_edges e = {.changes = 0};
    start(config);
    cvk_rig_place(rig, 0.01 / 4.0);
    int before = cvk_rig_read(rig).hall;
    for (int k = 0; k < 8000; k++) {
        double angle_e = 0.01 + (k < 4000 ? k : 8000 - k) * 4.0 * PI / 4000.0;
        cvk_rig_pass_time(rig, 1e-5);
        cvk_rig_place(rig, angle_e / 4.0);
        int now = cvk_rig_read(rig).hall;
        for (int n = 0; n < 3; n++) {
            bool changed = ((now ^ before) >> n & 1) != 0;
            e.changes += changed;
            if (changed && k < 4000 && (now >> n & 1) != 0) {
                e.rise_e_rad[n] = remainder(angle_e, 2.0 * PI);
            }
            if (changed && k >= 4000 && (now >> n & 1) == 0) {
                e.fall_e_rad[n] = remainder(angle_e, 2.0 * PI);
            }
        }
        before = now;
    }
    return e;
}

static double hall_place(const cvk_rig_config *config)
{
    hall_edges e = turn_halls(config);
    double worst = 0.0;
    for (int n = 0; n < 3; n++) {
        double ideal = n * 2.0 * PI / 3.0 - PI / 2.0;
        worst = fmax(worst, fabs(remainder(e.rise_e_rad[n] - ideal, 2.0 * PI)));
    }
    return worst;
}

static double hall_width(const cvk_rig_config *config)
{
    hall_edges e = turn_halls(config);
    return fabs(remainder(e.rise_e_rad[0] - e.fall_e_rad[0], 2.0 * PI));
}

/* Changes beyond the 24 of two turns forward and back. */
static double hall_changes(const cvk_rig_config *config)
{
    return fabs(turn_halls(config).changes - 24.0);
}

static double tachometer_error(const cvk_rig_config *config)
{
    double worst = 0.0;
    start(config);
    for (int k = 0; k < 720; k++) {
        cvk_rig_place(rig, k * PI / 360.0);
        cvk_rig_spin(rig, 100.0, cvk_rig_state_of(rig)->load_speed_mech_rad_s);
        worst = fmax(worst, fabs(cvk_rig_read(rig).tachometer_v - 1.0));
    }
    return worst;
}

static double noise_of_tachometer(const cvk_rig_config *config)
{
    return scatter(config, read_tach, NULL);
}

static double noise_of_pedal(const cvk_rig_config *config)
{
    return scatter(config, read_pedal, NULL);
}

/* Share of the pulses of ten seconds that did not come. */
static double pulses_missing(const cvk_rig_config *config)
{
    int came = 0;
    start(config);
    for (int k = 0; k < 10000; k++) {
        cvk_rig_pass_time(rig, 1e-3 * k - cvk_rig_time_s(rig));
        came += !isnan(cvk_rig_read(rig).pulse_s);
    }
    return 1.0 - came / 500.0;
}

/* ---- the table --------------------------------------------------------------------------------
 */

#define OF(field) offsetof(cvk_rig_config, field)

/* One row: the switch, up to three fields that make the imperfection, the signature, what it must
 * be with the switch on, and what it may be at most with the switch off. */
static const struct {
    const char *name;
    struct {
        size_t offset;
        double value;
    } field[3];
    double (*signature)(const cvk_rig_config *config);
    double low, high, off;
} rows[] = {
    {"saturation", {{OF(motor.saturation_q_a), 20}}, lost_inductance, 0.499, 0.501, 1e-9},
    {"harmonics", {{OF(motor.emf_harmonic_5), 0.05}}, emf_ripple, 0.24, 0.26, 2e-5},
    {"unequal_magnets", {{OF(motor.magnet_spread), 0.02}}, pole_pair_spread, 0.005, 0.08, 2e-5},
    {"cogging", {{OF(shaft.cogging_nm), 0.02}}, resting_torque, 0.0199, 0.0201, 1e-12},
    /* 1.5 (p flux)^2 / 5 ohm = 4.8e-4 N m s brakes 1e-3 kg m2 */
    {"iron_loss", {{OF(motor.iron_loss_ohm), 5}}, coasting_loss, 0.375, 0.388, 1e-9},
    {"heating",
     {{OF(motor.copper_per_k), 0.004}, {OF(motor.ambient_degc), 125}, {OF(motor.winding_j_k), 1e6}},
     current_lost_to_heat,
     0.2855,
     0.2859,
     2e-3},
    {"friction", {{OF(shaft.friction_viscous_nm_s), 1e-3}}, coasting_loss, 0.631, 0.633, 1e-9},
    {"compliance",
     {{OF(shaft.load_inertia_kg_m2), 1e-3}, {OF(shaft.coupling_nm_rad), 0.1}},
     early_start,
     0.98,
     1.02,
     1e-12},
    {"dead_time", {{OF(inverter.dead_time_s), 1e-6}}, current_lost, 0.26, 0.27, 2e-3},
    {"device_drops", {{OF(inverter.switch_resistance_ohm), 0.05}}, current_lost, 0.09, 0.092, 2e-3},
    {"minimum_pulse", {{OF(inverter.minimum_pulse_s), 4e-7}}, pulses_lost, 0.999, 1.001, 5e-3},
    {"supply_sag", {{OF(supply.resistance_ohm), 0.1}}, bus_sag, 0.07, 0.073, 1e-12},
    {"current_noise", {{OF(sensing.current_noise_a), 0.2}}, noise_of_current, 0.19, 0.21, 1e-4},
    {"current_offset", {{OF(sensing.current_offset_a), 0.5}}, offset_of_current, 1e-3, 0.5, 1e-5},
    {"current_drift", {{OF(sensing.current_drift_a_s), 0.1}}, drift_of_current, 1e-3, 0.1, 1e-5},
    {"current_gain",
     {{OF(sensing.current_gain_tolerance), 0.05}},
     error_of_current,
     1e-4,
     0.05,
     1e-5},
    {"amplifier_lag", {{OF(sensing.amplifier_lag_s), 5e-6}}, error_while_turning, 0.01, 0.02, 1e-5},
    {"amplifier_range", {{OF(sensing.amplifier_range_a), 4.8}}, error_of_current, 0.05, 0.15, 1e-5},
    {"ringing",
     {{OF(sensing.ringing_a), 3}, {OF(sensing.ringing_decay_s), 1e-6}},
     error_at_high_duty,
     0.5,
     3,
     1e-4},
    {"settling",
     {{OF(sensing.settling_s), 1.5e-6}, {OF(inverter.output_capacitance_f), 1e-10}},
     error_at_high_duty,
     100.0,
     120.0,
     1e-4},
    {"quantisation", {{OF(sensing.adc_bits), 8}}, error_of_current, 1e-3, 0.1, 1e-9},
    {"voltage_noise", {{OF(sensing.voltage_noise_v), 0.1}}, noise_of_bus, 0.095, 0.105, 1e-4},
    {"voltage_gain", {{OF(sensing.voltage_gain_tolerance), 0.05}}, error_of_bus, 1e-4, 0.05, 1e-6},
    {"temperature_error",
     {{OF(sensing.temperature_noise_k), 1}, {OF(sensing.temperature_offset_k), 3}},
     error_of_temperature,
     3.9,
     4.1,
     1e-9},
    {"absolute_noise",
     {{OF(rotor_sensor.noise_mech_rad), 0.01}},
     noise_of_absolute,
     0.0095,
     0.0105,
     1e-9},
    {"absolute_harmonics",
     {{OF(rotor_sensor.harmonic_1_mech_rad), 0.02}},
     error_of_absolute,
     0.0199,
     0.0201,
     1e-9},
    {"absolute_latency",
     {{OF(rotor_sensor.latency_s), 1e-4}},
     lag_of_absolute,
     0.00999,
     0.01001,
     1e-9},
    {"encoder_eccentricity",
     {{OF(rotor_sensor.eccentricity_mech_rad), 0.02}},
     error_of_encoder,
     12.5,
     14.5,
     1.01},
    {"encoder_missing", {{OF(rotor_sensor.missing_share), 0.1}}, counts_lost, 0.095, 0.105, 1e-4},
    {"sincos_ellipse", {{OF(rotor_sensor.gain_mismatch), 0.1}}, ellipse, 1e-3, 0.05, 1e-9},
    {"sincos_harmonic", {{OF(rotor_sensor.harmonic_3), 0.02}}, ellipse, 0.0195, 0.0205, 1e-9},
    {"sincos_noise",
     {{OF(rotor_sensor.sincos_noise_v), 0.05}},
     noise_of_sincos,
     0.047,
     0.053,
     1e-9},
    {"hall_misplacement",
     {{OF(rotor_sensor.hall_misplacement_e_rad), 0.2}},
     hall_place,
     0.01,
     0.2,
     4e-3},
    {"hall_hysteresis",
     {{OF(rotor_sensor.hall_hysteresis_e_rad), 0.2}},
     hall_width,
     0.19,
     0.21,
     7e-3},
    {"hall_bounce", {{OF(rotor_sensor.hall_bounce_s), 2e-4}}, hall_changes, 20, 400, 0.0},
    {"tachometer_ripple",
     {{OF(rotor_sensor.tachometer_ripple), 0.05}},
     tachometer_error,
     0.049,
     0.051,
     1e-9},
    {"tachometer_noise",
     {{OF(rotor_sensor.tachometer_noise_v), 0.02}},
     noise_of_tachometer,
     0.019,
     0.021,
     1e-9},
    {"input_noise", {{OF(inputs.pedal_noise_v), 0.1}}, noise_of_pedal, 0.095, 0.105, 1e-9},
    {"input_loss", {{OF(inputs.pulse_loss), 0.2}}, pulses_missing, 0.15, 0.25, 0.003},
};

enum { ROWS = sizeof rows / sizeof rows[0] };

static cvk_rig_config flawed(int row)
{
    cvk_rig_config config = ideal_rig();
    config.rotor_sensor.all_fitted = 1;
    config.rotor_sensor.counts = 4096;
    if (strncmp(rows[row].name, "absolute", 8) == 0) {
        config.rotor_sensor.all_fitted = 0;
        config.rotor_sensor.counts = 0;
    }
    if (strcmp(rows[row].name, "settling") == 0) {
        config.sensing.current_sensing = CVK_SENSING_THREE_SHUNTS;
    }
    for (int n = 0; n < 3 && rows[row].field[n].offset != 0; n++) {
        memcpy((char *)&config + rows[row].field[n].offset, &rows[row].field[n].value,
               sizeof(double));
    }
    return config;
}

START_TEST(each_leaves_its_signature_and_can_be_switched_off)
{
    cvk_rig_config config = flawed(_i);
    double on = rows[_i].signature(&config);
    ck_assert_msg(on >= rows[_i].low && on <= rows[_i].high, "%s on: %g, not %g .. %g",
                  rows[_i].name, on, rows[_i].low, rows[_i].high);
    ck_assert(cvk_rig_switch(&config, rows[_i].name, false));
    double off = rows[_i].signature(&config);
    ck_assert_msg(fabs(off) <= rows[_i].off, "%s off: %g, not below %g", rows[_i].name, off,
                  rows[_i].off);
}
END_TEST

/* One of the halls does not move; it is a choice, not a number. */
START_TEST(a_dead_hall_is_dead_and_can_be_switched_off)
{
    cvk_rig_config config = flawed(0);
    config.rotor_sensor.hall_dead = 2;
    ck_assert_double_eq(hall_changes(&config), 8.0);
    ck_assert(cvk_rig_switch(&config, "hall_dead", false));
    ck_assert_double_eq(hall_changes(&config), 0.0);
}
END_TEST

/* No switch without a test: every one of the table of fields stands above. */
START_TEST(no_switch_is_forgotten)
{
    unsigned count;
    const cvk_rig_field *fields = cvk_rig_fields(&count);
    for (unsigned n = 0; n < count; n++) {
        if (strcmp(fields[n].section, "imperfections") != 0 ||
            strcmp(fields[n].name, "hall_dead") == 0) {
            continue;
        }
        bool found = false;
        for (int k = 0; k < ROWS; k++) {
            found = found || strcmp(rows[k].name, fields[n].name) == 0;
        }
        ck_assert_msg(found, "imperfections.%s has no signature test", fields[n].name);
    }
}
END_TEST

/* What of the period a leg draws from the bus alone, the bus capacitor's resistance adds to the
 * winding's; of the dead times, the diode's. */
START_TEST(capacitor_and_diodes_add_to_the_resistance)
{
    cvk_rig_config config = ideal_rig();
    config.inverter.fidelity = _i;
    config.supply.resistance_ohm = 0.05;
    const double before_a = blocked_current(&config, 0.6);
    config.supply.capacitor_resistance_ohm = 0.2;
    /* its current for 0.15 of the period, less what the source brings meanwhile */
    const double alone = 0.6 - 0.45, source_ohm = 2.0 / 3.0 * alone * alone * 0.05;
    const double more_ohm = 2.0 / 3.0 * (alone - alone * alone) * 0.2;
    ck_assert_double_eq_tol(before_a / blocked_current(&config, 0.6),
                            1.0 + more_ohm / (0.5 + source_ohm), 2e-3);
    config.supply.capacitor_resistance_ohm = 0.0;
    config.inverter.dead_time_s = 1e-6;
    const double dead_a = blocked_current(&config, 0.6);
    config.inverter.diode_resistance_ohm = 1.0; /* 4 % of the period */
    ck_assert_double_eq_tol(dead_a / blocked_current(&config, 0.6), 1.0 + 0.04 / (0.5 + source_ohm),
                            4e-3);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, capacitor_and_diodes_add_to_the_resistance, 0, 2);
    tcase_add_loop_test(tests, each_leaves_its_signature_and_can_be_switched_off, 0, ROWS);
    tcase_add_test(tests, a_dead_hall_is_dead_and_can_be_switched_off);
    tcase_add_test(tests, no_switch_is_forgotten);
}

int main(void)
{
    return run_suite("imperfections", add);
}
