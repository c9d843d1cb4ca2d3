/* SPDX-License-Identifier: Apache-2.0
 *
 * The drive's hot path, cvk_drive_control(): sample, protect, decide, control, modulate.
 */
#include "corvak/core/drive.h"

#include "corvak/core/svm.h"

#include <stddef.h>

static const cvk_abc idle_duties = {0.5f, 0.5f, 0.5f};

const char *cvk_fault_text(cvk_fault fault)
{
    switch (fault) {
    case CVK_FAULT_NONE:
        return "none";
    case CVK_FAULT_SAMPLE:
        return "a sample is not a number";
    case CVK_FAULT_OVERCURRENT:
        return "phase current beyond the trip level";
    case CVK_FAULT_BUS_VOLTAGE:
        return "bus voltage outside its window";
    default:
        return "unknown fault";
    }
}

cvk_status cvk_drive_init(cvk_drive *drive, const cvk_port *port, const cvk_drive_config *config,
                          cvk_refusal *why)
{
    static const cvk_range ranges[] = {
        {"trip_current_a", offsetof(cvk_drive_config, trip_current_a), 0.01f, 2000.0f},
        {"bus_min_v", offsetof(cvk_drive_config, bus_min_v), 1.0f, 100.0f},
        {"speed_gain_a_s", offsetof(cvk_drive_config, speed_gain_a_s), 0.0f, 1000.0f},
        {"speed_integral_gain_a", offsetof(cvk_drive_config, speed_integral_gain_a), 0.0f, 1e5f},
        {"speed_limit_a", offsetof(cvk_drive_config, speed_limit_a), 0.0f, 1000.0f},
    };
    if (drive == NULL || port == NULL || port->gate_enable == NULL || config == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    cvk_drive fresh = {.port = port, .config = *config};
    cvk_status status = cvk_check_ranges(config, ranges, sizeof ranges / sizeof ranges[0], why);
    if (status == CVK_OK) {
        status = cvk_check_range("bus_max_v", config->bus_max_v, config->bus_min_v, 100.0f, why);
    }
    if (status == CVK_OK) {
        status = cvk_current_control_init(&fresh.current_control, &config->current, why);
    }
    if (status == CVK_OK) {
        status = cvk_angle_sensor_init(&fresh.sensor, &config->sensor, why);
    }
    if (status != CVK_OK) {
        return status;
    }
    fresh.speed_control = (cvk_speed_control){
        .period_s = config->current.period_s,
        .gain_a_s = config->speed_gain_a_s,
        .integral_gain_a = config->speed_integral_gain_a,
        .limit_a = config->speed_limit_a,
    };
    *drive = fresh;
    port->gate_enable(port->context, false);
    return CVK_OK;
}

void cvk_drive_set_angle_source(cvk_drive *drive, cvk_angle_source source)
{
    drive->angle_source = source;
}

void cvk_drive_run(cvk_drive *drive, cvk_excitation *excitation)
{
    drive->excitation = excitation;
}

cvk_status cvk_drive_set_command(cvk_drive *drive, cvk_command command, cvk_refusal *why)
{
    const float largest = 3.4e38f;
    const struct {
        const char *name;
        float value;
    } fields[] = {{"mode", (unsigned)command.mode > CVK_MODE_SPEED ? NAN : 0.0f},
                  {"voltage_v.alpha", command.voltage_v.alpha},
                  {"voltage_v.beta", command.voltage_v.beta},
                  {"current_a.d", command.current_a.d},
                  {"current_a.q", command.current_a.q},
                  {"speed_rad_s", command.speed_rad_s}};
    for (size_t n = 0; n < sizeof fields / sizeof fields[0]; n++) {
        cvk_status status =
            cvk_check_range(fields[n].name, fields[n].value, -largest, largest, why);
        if (status != CVK_OK) {
            return status;
        }
    }
    drive->command = command;
    return CVK_OK;
}

void cvk_drive_clear_fault(cvk_drive *drive)
{
    drive->fault = CVK_FAULT_NONE;
}

static cvk_fault check_sample(const cvk_drive *drive, const cvk_drive_sample *sample)
{
    const cvk_abc i = sample->current_a;
    const float trip = drive->config.trip_current_a;
    if (!isfinite(i.a) || !isfinite(i.b) || !isfinite(i.c) || !isfinite(sample->bus_v) ||
        (drive->angle_source == CVK_ANGLE_SENSOR && !isfinite(sample->sensor_mech_rad))) {
        return CVK_FAULT_SAMPLE;
    }
    if (fabsf(i.a) > trip || fabsf(i.b) > trip || fabsf(i.c) > trip) {
        return CVK_FAULT_OVERCURRENT;
    }
    if (sample->bus_v < drive->config.bus_min_v || sample->bus_v > drive->config.bus_max_v) {
        return CVK_FAULT_BUS_VOLTAGE;
    }
    return CVK_FAULT_NONE;
}

static void set_bridge(cvk_drive *drive, bool on)
{
    if (drive->bridge_on == on) {
        return;
    }
    drive->bridge_on = on;
    drive->port->gate_enable(drive->port->context, on);
    cvk_current_control_reset(&drive->current_control);
    drive->speed_control.integral_a = 0.0f;
}

/* A prediction made before another mode ruled belongs to a current that is gone. */
static void enter_mode(cvk_drive *drive, cvk_drive_mode mode)
{
    if (drive->mode != mode) {
        drive->mode = mode;
        cvk_current_control_restart(&drive->current_control);
        drive->speed_control.integral_a = 0.0f;
    }
}

static cvk_ab wanted_voltage(cvk_drive *drive, cvk_command command, cvk_ab current_a)
{
    if (command.mode == CVK_MODE_VOLTAGE) {
        return command.voltage_v;
    }
    cvk_dq setpoint_a = command.current_a;
    if (command.mode == CVK_MODE_SPEED && drive->angle_source == CVK_ANGLE_SENSOR) {
        setpoint_a.q = cvk_speed_control_step(&drive->speed_control, command.speed_rad_s,
                                              drive->angle.speed_rad_s);
    }
    return cvk_current_control_step(&drive->current_control, setpoint_a, current_a,
                                    drive->angle.angle_rad, drive->angle.speed_rad_s);
}

cvk_abc cvk_drive_control(cvk_drive *drive, const cvk_drive_sample *sample)
{
    if (drive->fault == CVK_FAULT_NONE) {
        drive->fault = check_sample(drive, sample);
    }
    if (drive->fault != CVK_FAULT_NONE) {
        set_bridge(drive, false);
        return idle_duties;
    }

    const cvk_ab current_a = cvk_clarke(sample->current_a);
    const cvk_command command = drive->excitation != NULL
                                    ? cvk_excitation_next(drive->excitation, current_a)
                                    : drive->command;
    drive->angle =
        drive->angle_source == CVK_ANGLE_SENSOR
            ? cvk_angle_sensor_step(&drive->sensor, sample->sensor_mech_rad)
            : cvk_angle_impose(drive->angle, command.speed_rad_s, drive->config.current.period_s);
    set_bridge(drive, command.mode != CVK_MODE_OFF);
    enter_mode(drive, command.mode);
    if (command.mode == CVK_MODE_OFF) {
        return idle_duties;
    }

    const cvk_svm_output out = cvk_svm(wanted_voltage(drive, command, current_a), sample->bus_v);
    cvk_current_control_applied(&drive->current_control, out.voltage_v);
    return out.duties;
}
