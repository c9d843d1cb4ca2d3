/* SPDX-License-Identifier: Apache-2.0
 *
 * A drive comes to be: its hardware checked, its first settings in force; and what can be read of
 * it.
 */
#include "corvak/core/drive.h"

#include "drive_state.h"
#include "prepare.h"

#include <stddef.h>

_Static_assert(sizeof(cvk_drive_state) <= sizeof(cvk_drive),
               "A cvk_drive is too small for what is kept inside it: raise CVK_DRIVE_BYTES in "
               "corvak/core/drive.h.");
_Static_assert(sizeof(float) == 4, "The core computes in 32-bit floats: choose a compiler or "
                                   "options with a 4-byte float.");

cvk_hardware cvk_hardware_default(void)
{
    return (cvk_hardware){
        .period_s = 50e-6f, .updates_per_period = 1, .current_sensing = CVK_CURRENTS_ALWAYS};
}

/* A period's second half gives back what its first half lent to the windows. */
static cvk_status check_single_shunt(const cvk_hardware *h, cvk_refusal *why)
{
    cvk_status status =
        cvk_check_range("updates_per_period", (float)h->updates_per_period, 1.0f, 1.0f, why);
    return status == CVK_OK
               ? cvk_check_range("window_s", h->window_s, 1e-8f, 0.25f * h->period_s, why)
               : status;
}

static cvk_status check_hardware(const cvk_hardware *h, cvk_refusal *why)
{
    cvk_status status = cvk_check_range("period_s", h->period_s, 5e-6f, 1e-3f, why);
    if (status == CVK_OK) {
        status =
            cvk_check_range("updates_per_period", (float)h->updates_per_period, 1.0f, 2.0f, why);
    }
    const cvk_range ceilings[] = {
        {"current_range_a", offsetof(cvk_hardware, current_range_a), 0.0f, 1e4f},
        {"nominal_bus_v", offsetof(cvk_hardware, nominal_bus_v), 0.0f, 1000.0f},
        {"bus_range_v", offsetof(cvk_hardware, bus_range_v), 0.0f, 1e3f},
        {"stage_current_a", offsetof(cvk_hardware, stage_current_a), 0.0f, 1e4f},
        {"stage_bus_v", offsetof(cvk_hardware, stage_bus_v), 0.0f, 1e3f},
    };
    if (status == CVK_OK) {
        status = cvk_check_ranges(h, ceilings, sizeof ceilings / sizeof ceilings[0], why);
    }
    if (status == CVK_OK) {
        status = cvk_check_range("current_sensing", (float)h->current_sensing, 0.0f,
                                 (float)CVK_CURRENTS_SINGLE_SHUNT, why);
    }
    if (status == CVK_OK) {
        status = cvk_check_range("window_s", h->window_s, 0.0f,
                                 0.25f * h->period_s * (float)h->updates_per_period, why);
    }
    if (status == CVK_OK && h->current_sensing == CVK_CURRENTS_SINGLE_SHUNT) {
        status = check_single_shunt(h, why);
    }
    return status;
}

cvk_status cvk_drive_init(cvk_drive *drive, const cvk_port *port, const cvk_hardware *hardware,
                          const cvk_settings *settings, cvk_refusal *why)
{
    if (drive == NULL || port == NULL || port->gate_enable == NULL || hardware == NULL ||
        settings == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    cvk_drive_state *d = state_of(drive);
    *d = (cvk_drive_state){.port = port, .hardware = *hardware};
    cvk_status status = check_hardware(hardware, why);
    if (status == CVK_OK) {
        status = cvk_setup_prepare(&d->setup[0], hardware, settings, why);
    }
    if (status == CVK_OK) {
        cvk_measure_start(&d->setup[0], &d->now);
        cvk_trial_call_good(&d->trial, settings);
        d->now.duty = (cvk_abc){0.5f, 0.5f, 0.5f};
        d->now.source[CVK_ANGLE_IMPOSED].quality = 1.0f;
        port->gate_enable(port->context, false);
    }
    return status;
}

const cvk_moment *cvk_drive_now(const cvk_drive *drive)
{
    return &const_state_of(drive)->now;
}

const cvk_settings *cvk_drive_settings(const cvk_drive *drive)
{
    const cvk_drive_state *d = const_state_of(drive);
    return &d->setup[d->setup_staged].settings;
}

void cvk_drive_supervise(cvk_drive *drive)
{
    cvk_drive_state *d = state_of(drive);
    const uint32_t tick = d->now.tick;
    if (tick != d->tick_supervised && d->port->watchdog_kick != NULL) {
        d->port->watchdog_kick(d->port->context);
    }
    d->tick_supervised = tick;
}
