/* SPDX-License-Identifier: Apache-2.0
 *
 * Who commands, and what may be asked for: owner and lease, requests, programs.
 */
#include "corvak/core/drive.h"

#include "drive_state.h"
#include "prepare.h"

#include <stdatomic.h>
#include <stddef.h>

#define SIX_STEPS 0.6366f /* of the bus: the fundamental of six steps, 2 / pi */
#define LEAST_FLUX 0.1f   /* of the magnets' flux linkage, that weakening leaves */
#define MOST_RAD_S 1e5f

/* No set-point beyond what bus and motor allow; a current is limited by limit.current_a. The
 * fastest that the field may turn: with six steps of the highest bus, the field weakened as far as
 * it may be. */
static float fastest_rad_s(const cvk_setup *setup)
{
    const cvk_settings *s = &setup->settings;
    const float flux_wb = s->motor.flux_linkage_wb;
    const float less_wb =
        s->torque.weakening != 0 ? s->motor.inductance_d_h * setup->torque.most_a : 0.0f;
    const float left_wb = flux_wb - less_wb;
    const float least_wb = left_wb > LEAST_FLUX * flux_wb ? left_wb : LEAST_FLUX * flux_wb;
    const float fastest = SIX_STEPS * s->protect.bus_max_v / least_wb;
    return flux_wb > 0.0f && fastest < MOST_RAD_S ? fastest : MOST_RAD_S;
}

static cvk_status check_request(const cvk_setup *setup, const cvk_request *request,
                                cvk_refusal *why)
{
    const float bus_v = setup->settings.protect.bus_max_v;
    const float speed = fastest_rad_s(setup);
    const cvk_range ranges[] = {
        {"voltage_v.alpha", offsetof(cvk_request, voltage_v.alpha), -bus_v, bus_v},
        {"voltage_v.beta", offsetof(cvk_request, voltage_v.beta), -bus_v, bus_v},
        {"current_a.d", offsetof(cvk_request, current_a.d), -1e4f, 1e4f},
        {"current_a.q", offsetof(cvk_request, current_a.q), -1e4f, 1e4f},
        {"speed_rad_s", offsetof(cvk_request, speed_rad_s), -speed, speed},
        {"torque_nm", offsetof(cvk_request, torque_nm), -1e3f, 1e3f},
        {"position_mech_rad", offsetof(cvk_request, position_mech_rad), -1e3f, 1e3f},
    };
    cvk_status status =
        cvk_check_range("mode", (float)request->mode, 0.0f, (float)CVK_MODE_COUNT - 1.0f, why);
    if (status == CVK_OK) {
        status =
            cvk_check_range("position_turns", (float)request->position_turns, -1e6f, 1e6f, why);
    }
    return status == CVK_OK
               ? cvk_check_ranges(request, ranges, sizeof ranges / sizeof ranges[0], why)
               : status;
}

/* Nothing starts as long as there is a fault. */
static cvk_status check_fault(const cvk_drive_state *d, const cvk_request *request,
                              cvk_refusal *why)
{
    if (d->now.fault == CVK_FAULT_NONE || d->clear_fault || request->mode == CVK_MODE_OFF ||
        request->mode == CVK_MODE_STOP) {
        return CVK_OK;
    }
    if (why != NULL) {
        *why = (cvk_refusal){.field = "mode",
                             .value = (float)request->mode,
                             .against = cvk_fault_text((cvk_fault)d->now.fault),
                             .reason = "there is a fault: clear it first, then ask again"};
    }
    return CVK_CONTRADICTION;
}

/* ---- owner and lease ------------------------------------------------------------------------ */

cvk_owner cvk_drive_owner(const cvk_drive *drive)
{
    return const_state_of(drive)->owner;
}

cvk_status cvk_drive_claim(cvk_drive *drive, cvk_owner owner, float lease_s)
{
    cvk_drive_state *d = state_of(drive);
    if (owner == CVK_NOBODY || !(lease_s >= 0.01f && lease_s <= 3600.0f)) {
        return CVK_OUT_OF_RANGE;
    }
    const uint32_t ticks = (uint32_t)(lease_s / d->hardware.period_s);
    if (cvk_drive_refresh(drive, owner) == CVK_OK) { /* it is the owner's already */
        d->lease_ticks = ticks;
        d->beats++;
        return CVK_OK;
    }
    if (d->owner != CVK_NOBODY) {
        return CVK_BUSY;
    }
    /* what was asked for before is over */
    const uint8_t free_place = (uint8_t)(1u - d->request_live);
    d->request[free_place] = (cvk_request){.mode = CVK_MODE_OFF};
    d->excitation = NULL;
    d->lease_ticks = ticks;
    d->beats++;
    atomic_signal_fence(memory_order_release);
    d->request_live = free_place;
    d->off_at_once = false;
    d->owner = owner;
    return CVK_OK;
}

cvk_status cvk_drive_refresh(cvk_drive *drive, cvk_owner owner)
{
    cvk_drive_state *d = state_of(drive);
    if (owner == CVK_NOBODY || d->owner != owner) {
        return CVK_NOT_OWNER;
    }
    d->beats++;
    /* the lease may have run out just before that: then it stays so */
    return d->owner == owner ? CVK_OK : CVK_NOT_OWNER;
}

cvk_status cvk_drive_hand_over(cvk_drive *drive, cvk_owner from, cvk_owner to)
{
    const cvk_status status = to == CVK_NOBODY ? CVK_OUT_OF_RANGE : cvk_drive_refresh(drive, from);
    if (status == CVK_OK) {
        state_of(drive)->owner = to;
    }
    return status;
}

void cvk_drive_stop(cvk_drive *drive, bool at_once)
{
    cvk_drive_state *d = state_of(drive);
    d->off_at_once = d->off_at_once || at_once;
    d->owner = CVK_NOBODY;
}

void cvk_drive_arrive(cvk_drive *drive, cvk_owner who)
{
    state_of(drive)->there[who / 32u] |= 1u << (who % 32u);
}

void cvk_drive_leave(cvk_drive *drive, cvk_owner who)
{
    state_of(drive)->there[who / 32u] &= ~(1u << (who % 32u));
}

bool cvk_drive_is_there(const cvk_drive *drive, cvk_owner who)
{
    return (const_state_of(drive)->there[who / 32u] >> (who % 32u) & 1u) != 0u;
}

cvk_status cvk_drive_release(cvk_drive *drive, cvk_owner owner)
{
    const cvk_status status = cvk_drive_refresh(drive, owner);
    if (status == CVK_OK) {
        state_of(drive)->owner = CVK_NOBODY;
    }
    return status;
}

cvk_status cvk_drive_request(cvk_drive *drive, cvk_owner owner, const cvk_request *request,
                             cvk_refusal *why)
{
    cvk_drive_state *d = state_of(drive);
    const uint8_t free_place = (uint8_t)(1u - d->request_live);
    cvk_status status = cvk_drive_refresh(drive, owner);
    const cvk_setup *staged = &d->setup[d->setup_staged];
    if (status == CVK_OK) {
        status = check_request(staged, request, why);
    }
    if (status == CVK_OK) {
        status = check_fault(d, request, why);
    }
    if (status == CVK_OK) {
        status = cvk_setup_allows(staged, (cvk_mode)request->mode,
                                  cvk_rotor_is_known(&d->angles, &staged->settings.rotor), why);
    }
    if (status == CVK_OK) {
        d->request[free_place] = *request;
        d->calibrations = (uint8_t)(d->calibrations + (request->mode == CVK_MODE_CALIBRATE));
        atomic_signal_fence(memory_order_release);
        d->request_live = free_place;
        d->requests++;
    }
    return status;
}

cvk_status cvk_drive_run(cvk_drive *drive, cvk_owner owner, cvk_excitation *excitation,
                         cvk_refusal *why)
{
    cvk_drive_state *d = state_of(drive);
    const cvk_status owned = cvk_drive_refresh(drive, owner);
    if (owned != CVK_OK) {
        return owned;
    }
    for (unsigned n = 0; excitation != NULL && n < excitation->count; n++) {
        const cvk_setup *staged = &d->setup[d->setup_staged];
        cvk_status status =
            cvk_setup_allows(staged, cvk_step_mode(excitation->steps[n].kind),
                             cvk_rotor_is_known(&d->angles, &staged->settings.rotor), why);
        if (status != CVK_OK) {
            return status;
        }
    }
    d->excitation = excitation;
    d->requests = (uint8_t)(d->requests + (excitation != NULL));
    return CVK_OK;
}

cvk_status cvk_drive_rotor_aligned(cvk_drive *drive, cvk_owner owner)
{
    const cvk_status status = cvk_drive_refresh(drive, owner);
    if (status == CVK_OK) {
        state_of(drive)->angles.rotor.aligned = true;
    }
    return status;
}

cvk_status cvk_drive_clear_fault(cvk_drive *drive, cvk_owner owner)
{
    const cvk_status status = cvk_drive_refresh(drive, owner);
    if (status == CVK_OK) {
        state_of(drive)->clear_fault = true;
    }
    return status;
}
