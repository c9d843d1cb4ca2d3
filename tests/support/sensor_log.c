/* SPDX-License-Identifier: Apache-2.0
 *
 * Logs with every rotor sensor.
 */
#include "sensor_log.h"

#include "recording.h"

#include "corvak/core/programs.h"
#include "corvak/sim/recorder.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define TWO_PI 6.28318530717958647693

static void give_up(const char *what)
{
    fprintf(stderr, "sensor log failed: %s\n", what);
    abort();
}

cvk_rig_config sensor_bench(int number)
{
    static const char *const names[] = {"wheel", "blower", "mixer", "table"};
    cvk_rig_config c = studio_rig(names[number % 4]);
    c.rotor_sensor.all_fitted = 1;
    c.rotor_sensor.kind = CVK_ROTOR_ABSOLUTE;
    if (number >= 4) { /* another winding on another shaft */
        static const double pole_pairs[] = {7.0, 2.0, 15.0, 4.0};
        const double scale[] = {1.7, 0.6, 1.3, 0.8};
        const int n = number - 4;
        c.motor.flux_linkage_wb *= scale[n] * c.motor.pole_pairs / pole_pairs[n];
        c.motor.pole_pairs = pole_pairs[n];
        c.tune.motor.pole_pairs = (int32_t)pole_pairs[n];
        c.tune.motor.flux_linkage_wb = (float)c.motor.flux_linkage_wb;
        c.shaft.inertia_kg_m2 *= scale[3 - n];
        c.rotor_sensor.latency_s = 1e-6 * (5.0 + 12.0 * n);
        c.rotor_sensor.harmonic_1_mech_rad *= scale[n];
        c.rotor_sensor.hall_misplacement_e_rad = 0.05 + 0.03 * n;
        c.rotor_sensor.counts = n % 2 == 0 ? 4000.0 : 8192.0;
        c.rotor_sensor.offset_mech_rad = 0.7 + 1.3 * n;
        c.inverter.dead_time_s *= scale[n];
        snprintf(c.name, sizeof c.name, "other-%d", n);
    }
    return c;
}

static const cvk_column kept[] = {
    CVK_COLUMN_T,      CVK_COLUMN_IA,     CVK_COLUMN_IB,  CVK_COLUMN_IC,      CVK_COLUMN_DUTY_A,
    CVK_COLUMN_DUTY_B, CVK_COLUMN_DUTY_C, CVK_COLUMN_VDC, CVK_COLUMN_THETA_M, CVK_COLUMN_ENC,
    CVK_COLUMN_INDEX,  CVK_COLUMN_HALL,   CVK_COLUMN_SIN, CVK_COLUMN_COS,     CVK_COLUMN_TACH};
enum { KEPT = sizeof kept / sizeof kept[0] };

static void open_log(sensor_log *out, const cvk_rig_config *config, size_t most, bool off)
{
    *out = (sensor_log){.log = cvk_log_empty(out->name), .most = most};
    snprintf(out->name, sizeof out->name, "%s", config->name);
    for (size_t n = 0; n < KEPT; n++) {
        cvk_column column = kept[n];
        if (off && column >= CVK_COLUMN_DUTY_A && column <= CVK_COLUMN_DUTY_C) {
            column = (cvk_column)(CVK_COLUMN_VA + (int)column - CVK_COLUMN_DUTY_A);
        }
        out->cells[column] = malloc(most * sizeof(double));
        if (out->cells[column] == NULL) {
            give_up("no memory");
        }
        out->log.column[column] = out->cells[column];
    }
    out->log.encoder_counts = config->rotor_sensor.counts;
    out->log.current_gain_tolerance = config->sensing.current_gain_tolerance;
    out->log.voltage_gain_tolerance = config->sensing.voltage_gain_tolerance;
}

/* `v`: duties or terminal voltages. */
static void put_row(sensor_log *out, double t, const double i[3], const double v[3], bool off,
                    double bus_v, const cvk_rotor_readings *r)
{
    const size_t k = out->log.rows;
    if (k >= out->most) {
        return;
    }
    out->cells[CVK_COLUMN_T][k] = t;
    for (int c = 0; c < 3; c++) {
        out->cells[CVK_COLUMN_IA + c][k] = i[c];
        out->cells[(off ? CVK_COLUMN_VA : CVK_COLUMN_DUTY_A) + c][k] = v[c];
    }
    out->cells[CVK_COLUMN_VDC][k] = bus_v;
    out->cells[CVK_COLUMN_THETA_M][k] = (double)r->absolute_mech_rad;
    out->cells[CVK_COLUMN_ENC][k] = r->encoder_counts;
    out->cells[CVK_COLUMN_INDEX][k] = r->index_passed;
    out->cells[CVK_COLUMN_HALL][k] = r->hall;
    out->cells[CVK_COLUMN_SIN][k] = (double)r->sin_v;
    out->cells[CVK_COLUMN_COS][k] = (double)r->cos_v;
    out->cells[CVK_COLUMN_TACH][k] = (double)r->tachometer_v;
    out->log.rows++;
}

/* The encoder starts at zero where it is; a converter's step is read at its lower end; halls are
 * where they are, on average. */
static void tell_truth(sensor_log *out, const cvk_rig *rig, const cvk_rig_config *config,
                       double start_rad)
{
    const double per_turn = config->motor.pole_pairs, counts = config->rotor_sensor.counts;
    const double half_step = counts > 0.0 ? 0.5 * TWO_PI / counts : 0.0;
    double offset, place[3];
    cvk_rig_calibration(rig, &out->direction, &offset);
    cvk_rig_true_halls(rig, place);
    const double to_shaft = out->direction * per_turn;
    const double sensor_start = (config->wiring.sensor_reversed ? -start_rad : start_rad) +
                                config->rotor_sensor.offset_mech_rad;
    out->offset_rad[CVK_ROTOR_SINCOS] = offset;
    out->offset_rad[CVK_ROTOR_ABSOLUTE] = offset + to_shaft * half_step;
    const double step = counts > 0.0 ? TWO_PI / counts : 1e-9;
    const double first =
        sensor_start + config->rotor_sensor.eccentricity_mech_rad * sin(sensor_start);
    out->offset_rad[CVK_ROTOR_ENCODER] =
        offset + to_shaft * (step * floor(first / step) + half_step);
    out->offset_rad[CVK_ROTOR_HALLS] =
        offset + out->direction * (place[0] + place[1] + place[2]) / 3.0;
    double mean = 0.0, gain[3], offset_a;
    for (int n = 0; n < 3; n++) {
        cvk_rig_true_channel(rig, n, &gain[n], &offset_a);
        mean += gain[n] / 3.0;
    }
    for (int n = 0; n < 3; n++) {
        out->hall_place_rad[n] = place[n];
        out->channel_gain[n] = gain[n] / mean;
    }
}

static bool keep_row(void *context, const cvk_sim_row *row)
{
    const cvk_moment *m = row->now;
    const double i[3] = {(double)m->phase_a.a, (double)m->phase_a.b, (double)m->phase_a.c};
    const double v[3] = {(double)m->duty.a, (double)m->duty.b, (double)m->duty.c};
    if (row->recorded && m->fault == CVK_FAULT_NONE) {
        put_row(context, row->time_s, i, v, false, (double)m->bus_v, &m->readings.rotor);
    }
    return true;
}

void sensor_log_record_in(sensor_log *out, const cvk_rig_config *config, const char *program,
                          uint64_t seed, const cvk_rig_scenario *scenario)
{
    const cvk_program *row = cvk_program_named(program);
    cvk_excitation excitation;
    cvk_sim sim;
    if (row == NULL || cvk_sim_init(&sim, config, seed, NULL) != CVK_OK) {
        give_up("no simulation");
    }
    /* where the encoder's count zero is */
    const double start = cvk_rig_state_of(sim.rig)->angle_mech_rad;
    if (cvk_sim_start(&sim, row, &excitation, NULL) != CVK_OK) {
        give_up("the program is refused");
    }
    if (scenario != NULL) {
        cvk_rig_set_scenario(sim.rig, scenario);
    }
    const double length_s = (double)cvk_excitation_length_s(&excitation);
    open_log(out, config, (size_t)(length_s * config->inverter.pwm_hz) + 16u, false);
    tell_truth(out, sim.rig, config, start);
    if (cvk_sim_run_program(&sim, keep_row, out) != CVK_OK) {
        /* a fault: the log ends there */
    }
    cvk_sim_close(&sim);
}

void sensor_log_record(sensor_log *out, const cvk_rig_config *config, const char *program,
                       uint64_t seed)
{
    sensor_log_record_in(out, config, program, seed, NULL);
}

void sensor_log_by_hand(sensor_log *out, const cvk_rig_config *config, uint64_t seed,
                        double speed_mech_rad_s, double half_s)
{
    cvk_rig *rig = NULL;
    if (cvk_rig_open(&rig, config, seed) != CVK_OK) {
        give_up("no rig");
    }
    cvk_rig_scenario hand = {.count = 2};
    const double duty[3] = {0.5, 0.5, 0.5}, period_s = 1.0 / config->inverter.pwm_hz;
    for (int n = 0; n < 2; n++) {
        hand.item[n] = cvk_rig_event_default(CVK_LOAD_DRIVEN);
        hand.item[n].from_s = n * half_s;
        hand.item[n].for_s = half_s;
        hand.item[n].ramp_s = 0.3 * half_s;
        hand.item[n].value[0] = n == 0 ? speed_mech_rad_s : -speed_mech_rad_s;
    }
    const double start = cvk_rig_state_of(rig)->angle_mech_rad;
    cvk_rig_set_scenario(rig, &hand);
    open_log(out, config, (size_t)(2.0 * half_s / period_s), true);
    tell_truth(out, rig, config, start);
    while (out->log.rows < out->most) {
        const double t = cvk_rig_time_s(rig);
        const cvk_rig_sample s = cvk_rig_read(rig);
        const cvk_rotor_readings r = {.absolute_mech_rad = (float)s.absolute_mech_rad,
                                      .encoder_counts = (int32_t)s.encoder_counts,
                                      .index_passed = s.index_passed,
                                      .sin_v = (float)s.sin_v,
                                      .cos_v = (float)s.cos_v,
                                      .hall = s.hall,
                                      .tachometer_v = (float)s.tachometer_v};
        put_row(out, t, s.current_a, s.terminal_v, true, s.bus_v, &r);
        cvk_rig_advance(rig, duty);
    }
    cvk_rig_close(rig);
}

void sensor_log_join(sensor_log *log, const sensor_log *second)
{
    const size_t rows = log->log.rows, more = second->log.rows;
    const double *t = log->cells[CVK_COLUMN_T];
    const double later_s =
        2.0 * t[rows - 1] - t[rows - 2] - second->cells[CVK_COLUMN_T][0]; /* a row on */
    log->most = rows + more;
    for (size_t n = 0; n < KEPT; n++) {
        double *cells = realloc(log->cells[kept[n]], log->most * sizeof *cells);
        if (cells == NULL) {
            give_up("no memory");
        }
        memcpy(cells + rows, second->cells[kept[n]], more * sizeof *cells);
        log->cells[kept[n]] = cells;
        log->log.column[kept[n]] = cells;
    }
    for (size_t k = rows; k < rows + more; k++) {
        log->cells[CVK_COLUMN_T][k] += later_s;
    }
    log->log.rows = rows + more;
}

void sensor_log_keep(sensor_log *log, cvk_rotor_kind kind)
{
    static const cvk_column of[CVK_ROTOR_ANGLE_KINDS][2] = {
        [CVK_ROTOR_HALLS] = {CVK_COLUMN_HALL, CVK_COLUMN_HALL},
        [CVK_ROTOR_ENCODER] = {CVK_COLUMN_ENC, CVK_COLUMN_INDEX},
        [CVK_ROTOR_SINCOS] = {CVK_COLUMN_SIN, CVK_COLUMN_COS},
        [CVK_ROTOR_ABSOLUTE] = {CVK_COLUMN_THETA_M, CVK_COLUMN_THETA_M}};
    for (int k = 0; k < CVK_ROTOR_ANGLE_KINDS; k++) {
        for (int n = 0; n < 2; n++) {
            log->log.column[of[k][n]] = k == (int)kind ? log->cells[of[k][n]] : NULL;
        }
    }
    log->log.column[CVK_COLUMN_TACH] = NULL;
}

void sensor_log_free(sensor_log *log)
{
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        free(log->cells[c]);
    }
    *log = (sensor_log){.most = 0};
}
