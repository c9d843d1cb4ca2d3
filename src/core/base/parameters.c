/* SPDX-License-Identifier: Apache-2.0
 *
 * The parameter table, put together from the modules' rows; and the check of a whole set.
 */
#include "corvak/core/parameters.h"

#include "setup.h"
#include "text.h"

#include <stddef.h>

static const cvk_parameter motor[] = {
    CVK_ROW_WHOLE(motor, pole_pairs, 0, 100, 0, "pole pairs; 0: not known"),
    CVK_ROW_MODEL(
        motor, resistance_ohm, "ohm", 0.0f, 100.0f, 0.0f,
        "resistance of a phase as commanded voltages see it, one switch included; 0: not known"),
    CVK_ROW_MODEL(motor, inductance_d_h, "H", 0.0f, 1.0f, 0.0f,
                  "inductance along the magnet's flux; 0: not known"),
    CVK_ROW_MODEL(motor, inductance_q_h, "H", 0.0f, 1.0f, 0.0f,
                  "inductance across the magnet's flux; 0: not known"),
    CVK_ROW_MODEL(motor, flux_linkage_wb, "Wb", 0.0f, 10.0f, 0.0f,
                  "peak flux linkage of a phase; 0: not known"),
};
const cvk_parameter_rows cvk_motor_rows = CVK_ROWS(motor);

static const cvk_parameter_rows *const sections[] = {
    &cvk_motor_rows,     &cvk_inverter_rows, &cvk_modulation_rows, &cvk_torque_rows,
    &cvk_measure_rows,   &cvk_protect_rows,  &cvk_current_rows,    &cvk_reference_rows,
    &cvk_motion_rows,    &cvk_angle_rows,    &cvk_rotor_rows,      &cvk_observer_rows,
    &cvk_injection_rows, &cvk_startup_rows,  &cvk_program_rows};
enum { SECTIONS = sizeof sections / sizeof sections[0] };

unsigned cvk_parameter_count(void)
{
    unsigned count = 0;
    for (unsigned n = 0; n < SECTIONS; n++) {
        count += sections[n]->count;
    }
    return count;
}

const cvk_parameter *cvk_parameter_at(unsigned index)
{
    for (unsigned n = 0; n < SECTIONS; n++) {
        if (index < sections[n]->count) {
            return &sections[n]->row[index];
        }
        index -= sections[n]->count;
    }
    return NULL;
}

const cvk_parameter *cvk_parameter_named(const char *key)
{
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        const char *rest = cvk_text_after(key, row->section);
        if (rest != NULL && *rest == '.' && cvk_same_text(rest + 1, row->name)) {
            return row;
        }
    }
    return NULL;
}

static float *real_in(cvk_settings *settings, const cvk_parameter *row)
{
    return (float *)(void *)((char *)settings + row->offset);
}

static int32_t *whole_in(cvk_settings *settings, const cvk_parameter *row)
{
    return (int32_t *)(void *)((char *)settings + row->offset);
}

float cvk_parameter_get(const cvk_settings *settings, const cvk_parameter *row)
{
    const void *place = (const char *)settings + row->offset;
    return row->kind == CVK_REAL ? *(const float *)place : (float)*(const int32_t *)place;
}

static cvk_status check(const cvk_parameter *row, float value, cvk_refusal *why)
{
    const bool fits = row->kind == CVK_REAL ||
                      (value >= row->low && value <= row->high && value == (float)(int32_t)value);
    const cvk_status status =
        cvk_check_range(row->name, fits ? value : NAN, row->low, row->high, why);
    if (status != CVK_OK && why != NULL) {
        why->value = value;
        why->parameter = row;
    }
    return status;
}

cvk_status cvk_parameter_set(cvk_settings *settings, const cvk_parameter *row, float value,
                             cvk_refusal *why)
{
    cvk_status status = check(row, value, why);
    if (status == CVK_OK && row->kind == CVK_REAL) {
        *real_in(settings, row) = value;
    } else if (status == CVK_OK) {
        *whole_in(settings, row) = (int32_t)value;
    }
    return status;
}

cvk_settings cvk_settings_default(void)
{
    cvk_settings settings = {.motor = {0}};
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        if (row->kind == CVK_REAL) {
            *real_in(&settings, row) = row->preset;
        } else {
            *whole_in(&settings, row) = (int32_t)row->preset;
        }
    }
    return settings;
}

/* ---- contradictions ------------------------------------------------------------------------- */

static const cvk_refusal bus_contradicts = {
    .field = "protect.bus_max_v",
    .against = "protect.bus_min_v",
    .reason = "the highest bus voltage must lie above the lowest"};
static const cvk_refusal trip_contradicts = {
    .field = "protect.trip_current_a",
    .against = "limit.current_a",
    .reason = "it would stop the motor in normal use: raise the trip or lower the limit"};
static const cvk_refusal start_contradicts = {
    .field = "start.current_a",
    .against = "limit.current_a",
    .reason = "asks for more than the limit: lower it or raise the limit"};
static const cvk_refusal speed_contradicts = {
    .field = "speed.current_a",
    .against = "limit.current_a",
    .reason = "asks for more than the limit: lower it or raise the limit"};
static const cvk_refusal takeover_contradicts = {
    .field = "start.speed_rad_s",
    .against = "observer.least_speed_rad_s",
    .reason = "there the observer does not trust its angle yet: raise it"};
static const cvk_refusal slew_contradicts = {
    .field = "speed.acceleration_rad_s2",
    .against = "speed.feedforward_a_s2",
    .reason = "0 is no slew at all, and what an acceleration takes is known: give one, at most "
              "limit.current_a / speed.feedforward_a_s2"};
static const cvk_refusal pace_contradicts = {
    .field = "observer.bandwidth_rad_s",
    .against = "observer.tracking_bandwidth_rad_s",
    .reason = "the flux linkage's length may not be corrected faster than the angle is "
              "tracked: lower it"};
static const cvk_refusal alike_contradicts = {
    .field = "injection.voltage_v",
    .against = "motor.inductance_q_h",
    .reason = "injection sees a rotor by its saliency: inductance q must be at least 1.15 times "
              "inductance d; set the voltage to 0"};
static const cvk_refusal handover_contradicts = {
    .field = "injection.leave_rad_s",
    .against = "observer.least_speed_rad_s",
    .reason = "there the observer does not trust its angle yet: raise it"};

static const cvk_refusal *contradiction_in(const cvk_settings *s)
{
    const bool injects = s->injection.voltage_v > 0.0f;
    return s->protect.bus_max_v <= s->protect.bus_min_v           ? &bus_contradicts
           : s->protect.trip_current_a <= s->limit.current_a      ? &trip_contradicts
           : s->start.current_a > s->limit.current_a              ? &start_contradicts
           : s->speed.current_a > s->limit.current_a              ? &speed_contradicts
           : s->start.speed_rad_s < s->observer.least_speed_rad_s ? &takeover_contradicts
           : s->speed.acceleration_rad_s2 == 0.0f && s->speed.feedforward_a_s2 > 0.0f
               ? &slew_contradicts
           : s->observer.bandwidth_rad_s > s->observer.tracking_bandwidth_rad_s ? &pace_contradicts
           : injects && s->motor.inductance_q_h < 1.15f * s->motor.inductance_d_h
               ? &alike_contradicts
           : injects && s->injection.leave_rad_s < s->observer.least_speed_rad_s
               ? &handover_contradicts
               : NULL;
}

cvk_status cvk_settings_check(const cvk_settings *settings, cvk_refusal *why)
{
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        const float value = cvk_parameter_get(settings, row);
        cvk_status status = check(row, value, why);
        if (status != CVK_OK) {
            return status;
        }
    }
    const cvk_refusal *found = contradiction_in(settings);
    if (found != NULL && why != NULL) {
        *why = *found;
    }
    return found != NULL ? CVK_CONTRADICTION : CVK_OK;
}
