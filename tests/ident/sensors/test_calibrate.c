/* SPDX-License-Identifier: Apache-2.0
 *
 * Calibration from logs: wiring for every permutation, direction and sensor; offsets, hall edges,
 * ellipse, harmonics, latency, channels within their bars and their intervals, averaged and
 * switched; and each wrong situation by its name.
 */
#include "corvak/ident/calibrate.h"
#include "sensor_log.h"
#include "suite.h"

#include <math.h>
#include <string.h>

#define TWO_PI 6.28318530717958647693
#define DEGREE (TWO_PI / 360.0)

static cvk_calibration found;
static sensor_log made;

static const cvk_sensor_calibration *calibrate(cvk_rotor_kind kind)
{
    const cvk_calibrate_options options = cvk_calibrate_options_default();
    const cvk_status status = cvk_calibrate_log(&made.log, &options, &found);
    ck_assert(status == CVK_OK || status == CVK_NOT_IN_LOG);
    return &found.sensor[kind];
}

static double off(const cvk_measured *x, double truth)
{
    return fabs(remainder(x->value - truth, TWO_PI));
}

static bool holds(const cvk_measured *x, double truth)
{
    return off(x, truth) <= 0.5 * (x->high - x->low);
}

static cvk_rig_config bench_wired(int bench, unsigned draw, int fidelity)
{
    cvk_rig_config config = sensor_bench(bench);
    config.inverter.fidelity = fidelity;
    config.wiring.phases = (int)(draw % 6u);
    config.wiring.sensor_reversed = (int)(draw / 6u % 2u);
    config.wiring.hall_wires = CVK_PHASES_ABC;
    return config;
}

static int parity(const char *phases)
{
    return (phases[1] - phases[0] + 3) % 3 == 1 ? 1 : -1;
}

/* What the answer says of the sensor's direction against the log's columns. */
static void check_wiring(double direction)
{
    const cvk_wiring_answer *w = &found.wiring;
    ck_assert_msg(w->undecided[0] == '\0', "%s", w->undecided);
    const int order = w->phases[0] != '\0' ? parity(w->phases) : 1;
    ck_assert_int_eq(order * w->sensor_direction, (int)direction);
    ck_assert((w->phases[0] == '\0') == (w->phases_open[0] != '\0'));
    ck_assert_msg(w->by == CVK_ROTOR_HALLS || w->phases[0] == '\0',
                  "the zero of a sensor that is no hall names no phase");
    ck_assert_double_gt(w->probability, 0.9);
    ck_assert_int_gt((int)strlen(w->cure), 20);
}

/* Six permutations, two directions, four sensors, logs of three kinds. */
START_TEST(wiring_is_right_for_every_permutation)
{
    static const char *const programs[] = {"spin", "sweep", "hand"};
    for (unsigned draw = 0; draw < 12; draw++) {
        const cvk_rig_config config = bench_wired((int)draw % 8, draw, (int)(draw / 3 % 2));
        const char *program = programs[draw % 3];
        if (strcmp(program, "hand") == 0) {
            sensor_log_by_hand(&made, &config, draw + 1u, 12.0, 1.2);
        } else {
            sensor_log_record(&made, &config, program, draw + 1u);
        }
        for (int kind = 0; kind < CVK_ROTOR_ANGLE_KINDS; kind++) {
            sensor_log_keep(&made, (cvk_rotor_kind)kind);
            (void)calibrate((cvk_rotor_kind)kind);
            check_wiring(made.direction);
            ck_assert_int_eq(found.wiring.by, kind);
        }
        sensor_log_free(&made);
    }
}
END_TEST

/* Counts whose number in a turn nobody knows still go with the field or against it. */
START_TEST(counts_alone_have_a_direction)
{
    static const char *const programs[] = {"spin", "sweep", "hand"};
    for (unsigned draw = 0; draw < 9; draw++) {
        const cvk_rig_config config = bench_wired((int)draw % 8, 5u * draw, (int)(draw % 2));
        if (draw % 3 == 2) {
            sensor_log_by_hand(&made, &config, draw + 1u, 12.0, 1.2);
        } else {
            sensor_log_record(&made, &config, programs[draw % 3], draw + 1u);
        }
        sensor_log_keep(&made, CVK_ROTOR_ENCODER);
        made.log.column[CVK_COLUMN_INDEX] = NULL;
        made.log.encoder_counts = 0.0;
        const cvk_sensor_calibration *s = calibrate(CVK_ROTOR_ENCODER);
        ck_assert(!cvk_measured_known(&s->electrical_offset_rad));
        ck_assert_msg(strstr(s->why, "counts per turn") != NULL, "draw %u: %s", draw, s->why);
        check_wiring(made.direction);
        sensor_log_free(&made);
    }
}
END_TEST

/* A rotor that was dragged first and ran then: what it does at speed decides. */
START_TEST(a_drag_before_a_run_does_not_bend_halls)
{
    for (int bench = 0; bench < SENSOR_BENCHES; bench++) {
        const cvk_rig_config config = bench_wired(bench, (unsigned)bench * 7u, bench % 2);
        sensor_log ran;
        sensor_log_record(&made, &config, "sweep", 70u + (unsigned)bench);
        sensor_log_record(&ran, &config, "spin", 70u + (unsigned)bench);
        sensor_log_join(&made, &ran);
        sensor_log_free(&ran);
        sensor_log_keep(&made, CVK_ROTOR_HALLS);
        const cvk_sensor_calibration *s = calibrate(CVK_ROTOR_HALLS);
        const double error = off(&s->electrical_offset_rad, made.offset_rad[CVK_ROTOR_HALLS]);
        ck_assert_int_eq(s->direction, (int)made.direction);
        ck_assert_int_eq(s->reference, CVK_REFERENCE_BACK_EMF);
        ck_assert_msg(error < 1.0 * DEGREE, "%s: %.2f deg", config.name, error / DEGREE);
        sensor_log_free(&made);
    }
}
END_TEST

/* Halls bear the phases' names: with them in their places the permutation itself is found. */
START_TEST(halls_name_the_phases)
{
    static const char *const names[] = {"abc", "bca", "cab"};
    for (unsigned phases = 0; phases < 3; phases++) {
        cvk_rig_config config = bench_wired(2, phases, 0);
        config.rotor_sensor.offset_mech_rad = 0.0;
        sensor_log_record(&made, &config, "spin", 4);
        sensor_log_keep(&made, CVK_ROTOR_HALLS);
        (void)calibrate(CVK_ROTOR_HALLS);
        ck_assert_str_eq(found.wiring.phases, names[phases]);
        ck_assert_int_eq(found.wiring.sensor_direction, 1);
        ck_assert(phases == 0 ? strstr(found.wiring.cure, "nothing to swap") != NULL
                              : strstr(found.wiring.cure, "move each motor wire on") != NULL);
        sensor_log_free(&made);
    }
}
END_TEST

/* Each sensor alone, spun both ways: within one degree, and held. */
START_TEST(offsets_are_right_and_held)
{
    int logs = 0, held = 0;
    for (int bench = 0; bench < SENSOR_BENCHES; bench++) {
        const cvk_rig_config config = bench_wired(bench, (unsigned)bench * 7u, bench % 2);
        sensor_log_record(&made, &config, "spin", 20u + (unsigned)bench);
        for (int kind = 0; kind < CVK_ROTOR_ANGLE_KINDS; kind++) {
            sensor_log_keep(&made, (cvk_rotor_kind)kind);
            const cvk_sensor_calibration *s = calibrate((cvk_rotor_kind)kind);
            const double error = off(&s->electrical_offset_rad, made.offset_rad[kind]);
            ck_assert_msg(error < 1.0 * DEGREE, "%s, %s: %.2f deg", config.name,
                          cvk_rotor_kind_name((cvk_rotor_kind)kind), error / DEGREE);
            logs++;
            held += holds(&s->electrical_offset_rad, made.offset_rad[kind]);
        }
        sensor_log_free(&made);
    }
    ck_assert_int_ge(held, logs - 2);
}
END_TEST

/* A sweep: the offset is the middle of both ways; halls by the better sensor in the same log. */
START_TEST(friction_is_told_from_offset)
{
    for (int bench = 0; bench < 4; bench++) {
        cvk_rig_config config = bench_wired(bench, (unsigned)bench * 5u + 1u, 0);
        config.shaft.friction_coulomb_nm *= 2.0;
        config.shaft.friction_static_nm *= 2.0;
        sensor_log_record(&made, &config, "sweep", 31u + (unsigned)bench);
        const cvk_sensor_calibration *s = calibrate(CVK_ROTOR_ABSOLUTE);
        ck_assert_double_lt(off(&s->electrical_offset_rad, made.offset_rad[CVK_ROTOR_ABSOLUTE]),
                            1.0 * DEGREE);
        const cvk_sensor_calibration *h = &found.sensor[CVK_ROTOR_HALLS];
        ck_assert_int_eq(h->reference, CVK_REFERENCE_SENSOR);
        ck_assert_double_lt(off(&h->electrical_offset_rad, made.offset_rad[CVK_ROTOR_HALLS]),
                            1.0 * DEGREE);
        if (s->reference == CVK_REFERENCE_CURRENT) {
            ck_assert_double_gt(s->lag_rad.value, 1.0 * DEGREE);
        }
        sensor_log_free(&made);
    }
}
END_TEST

/* Where the code changes, by the rig's own places of the halls. */
static double true_edge(const cvk_rig_config *config, int edge)
{
    static const int hall_of[6] = {1, 0, 2, 1, 0, 2};     /* that changes */
    static const double where[6] = {-1, 1, -1, 1, -1, 1}; /* its rising (-) or falling edge */
    const int n = hall_of[edge];
    const double own = n * TWO_PI / 3.0 + made.hall_place_rad[n] + where[edge] * TWO_PI / 4.0;
    const double plain =
        made.offset_rad[CVK_ROTOR_HALLS] -
        made.direction *
            (made.hall_place_rad[0] + made.hall_place_rad[1] + made.hall_place_rad[2]) / 3.0;
    (void)config;
    return made.direction * own + plain;
}

START_TEST(hall_edges_are_within_a_degree)
{
    int edges = 0, held = 0;
    for (int bench = 0; bench < SENSOR_BENCHES; bench += 2) {
        const cvk_rig_config config = bench_wired(bench, (unsigned)bench, 1);
        sensor_log_record(&made, &config, "spin", 40u + (unsigned)bench);
        sensor_log_keep(&made, CVK_ROTOR_HALLS);
        const cvk_hall_calibration *h = &calibrate(CVK_ROTOR_HALLS)->hall;
        for (int n = 0; n < CVK_HALL_EDGES; n++) {
            const double error = off(&h->edge_rad[n], true_edge(&config, n));
            ck_assert_msg(error < 1.0 * DEGREE, "%s, edge %d: %.2f deg", config.name, n,
                          error / DEGREE);
            ck_assert_double_eq_tol(h->hysteresis_rad[n].value,
                                    config.rotor_sensor.hall_hysteresis_e_rad, 1.5 * DEGREE);
            edges++;
            held += holds(&h->edge_rad[n], true_edge(&config, n));
        }
        sensor_log_free(&made);
    }
    ck_assert_int_ge(held, edges - 2);
}
END_TEST

/* Errors over a turn, ellipse and latency, against what the rig has. */
START_TEST(errors_over_a_turn_are_found)
{
    int close = 0;
    for (int bench = 0; bench < SENSOR_BENCHES; bench++) {
        const cvk_rig_config config = bench_wired(bench, 11u * (unsigned)bench, bench % 2);
        const cvk_rig_rotor_sensor *truth = &config.rotor_sensor;
        sensor_log_record(&made, &config, "spin", 50u + (unsigned)bench);
        const cvk_sensor_calibration *a = calibrate(CVK_ROTOR_ABSOLUTE);
        const double once = a->sine_rad[0].value - truth->harmonic_1_mech_rad;
        const double twice = a->sine_rad[1].value - truth->harmonic_2_mech_rad;
        ck_assert_double_lt(hypot(hypot(once, twice), a->cosine_rad[0].value), 0.2 * DEGREE);
        const double late_s = fabs(a->latency_s.value - truth->latency_s);
        ck_assert_msg(late_s < 10e-6 && holds(&a->latency_s, truth->latency_s),
                      "%s: latency %.1f us, not %.1f", config.name, 1e6 * a->latency_s.value,
                      1e6 * truth->latency_s);
        close += late_s < 4e-6; /* ripple at the edges of the dead time moves it by as much */
        /* at the blower's few microhenry a step's back-EMF is itself no better than half a degree
         */
        ck_assert_double_lt(a->error_after_rad, (bench == 1 ? 0.6 : 0.5) * DEGREE);
        const cvk_sensor_calibration *s = &found.sensor[CVK_ROTOR_SINCOS];
        /* at the blower's few microhenry the back-EMF of a step is itself no better than half a
         * degree */
        ck_assert_msg(s->error_after_rad < (bench == 1 ? 0.6 : 0.3) * DEGREE, "%s: %.2f deg",
                      config.name, s->error_after_rad / DEGREE);
        sensor_log_free(&made);
    }
    ck_assert_int_ge(close, 5);
}
END_TEST

/* Gains of the current channels, against each other. */
START_TEST(current_gains_are_within_three_tenths_of_a_percent)
{
    for (int bench = 1; bench < SENSOR_BENCHES; bench += 2) {
        const cvk_rig_config config = bench_wired(bench, 0, bench / 2 % 2);
        sensor_log_record(&made, &config, "spin", 60u + (unsigned)bench);
        (void)calibrate(CVK_ROTOR_ABSOLUTE);
        if (cvk_measured_known(&found.channels.gain[0])) {
            for (int n = 0; n < 3; n++) {
                ck_assert_double_eq_tol(found.channels.gain[n].value, made.channel_gain[n], 0.003);
            }
        } else {
            ck_assert(found.channels.why_gain[0] != '\0');
        }
        sensor_log_free(&made);
    }
}
END_TEST

/* ---- other logs ------------------------------------------------------------------------------ */

/* Columns that say nothing, fewer rows, halls one by one, another start of the clock. */
START_TEST(what_the_log_looks_like_changes_nothing)
{
    const cvk_rig_config config = bench_wired(2, 9, 0);
    sensor_log_record(&made, &config, "spin", 5);
    sensor_log_keep(&made, CVK_ROTOR_HALLS);
    const double plain = calibrate(CVK_ROTOR_HALLS)->electrical_offset_rad.value;
    for (int n = 0; n < 3; n++) {
        double *bit = malloc(made.log.rows * sizeof *bit);
        for (size_t k = 0; k < made.log.rows; k++) {
            bit[k] = (int)made.cells[CVK_COLUMN_HALL][k] >> n & 1;
        }
        made.cells[CVK_COLUMN_HALL_A + n] = bit;
        made.log.column[CVK_COLUMN_HALL_A + n] = bit;
    }
    made.log.column[CVK_COLUMN_HALL] = NULL;
    for (size_t k = 0; k < made.log.rows; k++) {
        made.cells[CVK_COLUMN_T][k] += 1000.0;
    }
    const cvk_sensor_calibration *again = calibrate(CVK_ROTOR_HALLS);
    ck_assert_double_eq_tol(again->electrical_offset_rad.value, plain, 1e-6);
    sensor_log_free(&made);
}
END_TEST

/* An encoder's counts per turn, when nobody says them: by its mark, or by another sensor. */
START_TEST(counts_per_turn_are_found)
{
    const cvk_rig_config config = bench_wired(3, 4, 0);
    sensor_log_record(&made, &config, "spin", 6);
    made.log.encoder_counts = 0.0;
    sensor_log_keep(&made, CVK_ROTOR_ENCODER);
    (void)calibrate(CVK_ROTOR_ENCODER);
    ck_assert_double_eq(found.sensor[CVK_ROTOR_ENCODER].encoder.counts_per_turn, 8192.0);
    made.log.column[CVK_COLUMN_INDEX] = NULL;
    made.log.column[CVK_COLUMN_THETA_M] = made.cells[CVK_COLUMN_THETA_M];
    const cvk_sensor_calibration *s = calibrate(CVK_ROTOR_ENCODER);
    ck_assert_double_eq(s->encoder.counts_per_turn, 8192.0);
    ck_assert(holds(&s->electrical_offset_rad, made.offset_rad[CVK_ROTOR_ENCODER]));
    sensor_log_free(&made);
}
END_TEST

static void says(cvk_rotor_kind kind, const char *words)
{
    const cvk_sensor_calibration *s = calibrate(kind);
    ck_assert(!cvk_measured_known(&s->electrical_offset_rad));
    ck_assert_msg(strstr(s->why, words) != NULL, "\"%s\" does not say \"%s\"", s->why, words);
    ck_assert_msg(strstr(found.wiring.undecided, words) != NULL || s->direction != 0, "%s",
                  found.wiring.undecided);
}

static void record_with(cvk_rig_event_kind what, double value, cvk_rotor_kind kind)
{
    cvk_rig_scenario s = {.count = 1};
    const cvk_rig_config config = bench_wired(2, 3, 0);
    s.item[0] = cvk_rig_event_default(what);
    s.item[0].value[0] = value;
    sensor_log_record_in(&made, &config, "sweep", 3, &s);
    sensor_log_keep(&made, kind);
}

START_TEST(wrong_situations_are_named)
{
    record_with(CVK_LOAD_BLOCKED, 0.0, CVK_ROTOR_ABSOLUTE);
    says(CVK_ROTOR_ABSOLUTE, "the shaft is blocked");
    says(CVK_ROTOR_ABSOLUTE, "too little current");
    sensor_log_keep(&made, CVK_ROTOR_HALLS);
    says(CVK_ROTOR_HALLS, "the shaft is blocked");
    sensor_log_free(&made);
    record_with(CVK_MISHAP_SENSOR_UNPLUGGED, 0.0, CVK_ROTOR_HALLS);
    says(CVK_ROTOR_HALLS, "unplugged");
    sensor_log_keep(&made, CVK_ROTOR_ABSOLUTE);
    says(CVK_ROTOR_ABSOLUTE, "unplugged");
    sensor_log_free(&made);
    record_with(CVK_LOAD_CONSTANT, 0.18, CVK_ROTOR_ABSOLUTE);
    says(CVK_ROTOR_ABSOLUTE, "a load pulls");
    sensor_log_free(&made);
    record_with(CVK_LOAD_DRIVEN, 15.0, CVK_ROTOR_ABSOLUTE);
    (void)calibrate(CVK_ROTOR_ABSOLUTE);
    ck_assert(found.sensor[CVK_ROTOR_ABSOLUTE].direction != -(int)made.direction);
    sensor_log_free(&made);
}
END_TEST

START_TEST(a_dead_hall_is_named)
{
    cvk_rig_config config = bench_wired(2, 3, 0);
    config.rotor_sensor.hall_dead = 3;
    sensor_log_record(&made, &config, "sweep", 3);
    sensor_log_keep(&made, CVK_ROTOR_HALLS);
    says(CVK_ROTOR_HALLS, "hall c never changes");
    sensor_log_free(&made);
}
END_TEST

/* From the middle on the sensor counts the other way: neither direction is the answer. */
START_TEST(a_direction_reversed_half_way_is_named)
{
    const cvk_rig_config config = bench_wired(0, 3, 0);
    sensor_log_record(&made, &config, "duty", 3);
    sensor_log_keep(&made, CVK_ROTOR_ABSOLUTE);
    for (size_t k = made.log.rows / 2; k < made.log.rows; k++) {
        made.cells[CVK_COLUMN_THETA_M][k] = TWO_PI - made.cells[CVK_COLUMN_THETA_M][k];
    }
    const cvk_sensor_calibration *s = calibrate(CVK_ROTOR_ABSOLUTE);
    ck_assert_int_eq(s->direction, 0);
    made.log.pole_pairs = config.motor.pole_pairs;
    says(CVK_ROTOR_ABSOLUTE, "reversed in between");
    sensor_log_free(&made);
}
END_TEST

/* Another rotor's sensor: it turns, but not with this field. */
START_TEST(a_sensor_that_does_not_follow_is_named)
{
    const cvk_rig_config config = bench_wired(0, 3, 0);
    sensor_log_record(&made, &config, "duty", 3);
    sensor_log_keep(&made, CVK_ROTOR_ABSOLUTE);
    made.log.pole_pairs = config.motor.pole_pairs;
    for (size_t k = 0; k < made.log.rows; k++) {
        const double t = made.cells[CVK_COLUMN_T][k];
        made.cells[CVK_COLUMN_THETA_M][k] = fmod(8.0 * t + 3.0 * sin(7.0 * t) + 6.0, TWO_PI);
    }
    says(CVK_ROTOR_ABSOLUTE, "nothing turns with it");
    sensor_log_free(&made);
}
END_TEST

/* Too short a way decides nothing; and a log without a sensor says so. */
START_TEST(a_log_that_cannot_decide_says_so)
{
    const cvk_rig_config config = bench_wired(3, 3, 0);
    sensor_log_by_hand(&made, &config, 3, 0.1, 0.2);
    sensor_log_keep(&made, CVK_ROTOR_ABSOLUTE);
    says(CVK_ROTOR_ABSOLUTE, "turn the shaft further");
    made.log.column[CVK_COLUMN_THETA_M] = NULL;
    (void)calibrate(CVK_ROTOR_ABSOLUTE);
    ck_assert_ptr_nonnull(strstr(found.wiring.undecided, "no rotor sensor"));
    sensor_log_free(&made);
}
END_TEST

static void add_tests(TCase *tests)
{
    tcase_add_test(tests, wiring_is_right_for_every_permutation);
    tcase_add_test(tests, counts_alone_have_a_direction);
    tcase_add_test(tests, a_drag_before_a_run_does_not_bend_halls);
    tcase_add_test(tests, halls_name_the_phases);
    tcase_add_test(tests, offsets_are_right_and_held);
    tcase_add_test(tests, friction_is_told_from_offset);
    tcase_add_test(tests, hall_edges_are_within_a_degree);
    tcase_add_test(tests, errors_over_a_turn_are_found);
    tcase_add_test(tests, current_gains_are_within_three_tenths_of_a_percent);
    tcase_add_test(tests, what_the_log_looks_like_changes_nothing);
    tcase_add_test(tests, counts_per_turn_are_found);
    tcase_add_test(tests, wrong_situations_are_named);
    tcase_add_test(tests, a_dead_hall_is_named);
    tcase_add_test(tests, a_direction_reversed_half_way_is_named);
    tcase_add_test(tests, a_sensor_that_does_not_follow_is_named);
    tcase_add_test(tests, a_log_that_cannot_decide_says_so);
}

int main(void)
{
    return run_suite("calibrate", add_tests);
}
