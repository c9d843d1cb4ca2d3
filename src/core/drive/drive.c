/* SPDX-License-Identifier: Apache-2.0
 *
 * The hot path: cvk_drive_control(). What a task may do to a drive stands in drive_open.c,
 * drive_settings.c and drive_owner.c.
 */
#include "corvak/core/drive.h"

#include "base/arithmetic.h"
#include "drive_state.h"
#include "control/modulate.h"
#include "control/protect.h"

#include <stddef.h>

#if defined(__GNUC__)
#define CVK_RARE __attribute__((noinline, cold))
#else
#define CVK_RARE
#endif

/* The settings of this place count from now on, with what was prepared for them. A prediction that
 * was made with others is no measure for them. */
static void come_into_force(cvk_drive_state *d, cvk_moment *now, uint8_t place)
{
    d->setup_live = place;
    d->current_control.primed = false;
    d->angles.rotor.found = false; /* the settings say it now */
    now->settings_number++;
    cvk_motion *m = &d->reference.motion;
    cvk_motion_turn_to(m, &d->setup[place], m->at.turns, now); /* with its pole pairs */
}

/* Staged settings, between two calls. */
static const cvk_setup *adopt(cvk_drive_state *d, cvk_moment *now)
{
    if (d->setup_live != d->setup_staged) {
        come_into_force(d, now, d->setup_staged);
        if (d->trial.wish == CVK_WISH_BEGIN) {
            d->trial.wish = CVK_WISH_NONE;
            cvk_trial_begin(&d->trial, &d->setup[1u - d->setup_live], now);
            d->twin = d->angles;
            d->integral_before_a = d->reference.integral_a;
        }
    }
    return &d->setup[d->setup_live];
}

/* A change on trial stays, or goes back in this call. */
static const cvk_setup *watch(cvk_drive_state *d, const cvk_setup *setup, cvk_moment *now)
{
    cvk_trial_look(&d->trial, setup, now);
    if (!d->trial.runs) {
        return setup;
    }
    if (cvk_trial_step(&d->trial, setup, d->owner != CVK_NOBODY, now)) {
        d->setup_staged = (uint8_t)(1u - d->setup_live);
        come_into_force(d, now, d->setup_staged);
        cvk_observers_hand_over(&d->angles, &d->twin);
        d->reference.integral_a = d->integral_before_a; /* a bad gain has wound it up */
    } else if (now->trial == CVK_TRIAL_KEPT) {          /* its own limits count from now on */
        cvk_setup *kept = &d->setup[d->setup_live];
        kept->bounds = cvk_bounds_of(&kept->settings);
    }
    return &d->setup[d->setup_live];
}

/* Every source of the angle; and while a change is on trial, the observers as they were before. */
static void look_at_angle(cvk_drive_state *d, const cvk_setup *setup, cvk_moment *now)
{
    cvk_angles_step(&d->angles, setup, now);
    if (d->trial.runs) {
        cvk_observers_step_aside(&d->twin, &d->setup[1u - d->setup_live], now, &d->trial.twin);
    }
}

/* The lease of the owner runs out unless it is refreshed. */
static void count_lease(cvk_drive_state *d)
{
    const uint8_t beats = d->beats;
    if (beats != d->beats_seen) {
        d->beats_seen = beats;
        d->lease_left = d->lease_ticks;
    } else if (d->lease_left > 0u) {
        d->lease_left--;
    } else {
        d->owner = CVK_NOBODY;
    }
}

/* A calibration asks for voltages of its own; it begins anew with each request for it, and after a
 * fault. Kept out of the hot path's code. */
CVK_RARE static void calibrate(cvk_drive_state *d, cvk_moment *now)
{
    const bool asked = now->request.mode == CVK_MODE_CALIBRATE;
    if (asked && now->fault == CVK_FAULT_NONE) {
        const uint8_t asked_for = d->calibrations;
        if (!d->calibrating || asked_for != d->calibrations_seen) {
            d->calibrations_seen = asked_for;
            cvk_calibrator_start(&d->calibrator, now);
        }
        cvk_calibrator_step(&d->calibrator, &d->setup[d->setup_live], &d->angles, now);
    } else if (d->calibrating && now->calibration < CVK_CALIBRATE_DONE) {
        now->calibration = CVK_CALIBRATE_IDLE; /* cut short */
    }
    d->calibrating = asked;
}

/* What was asked for before a fault does not count after it. */
static bool is_over(cvk_drive_state *d, const cvk_moment *now)
{
    const uint8_t requests = d->requests;
    d->request_over =
        now->fault != CVK_FAULT_NONE || (d->request_over && requests == d->requests_seen);
    d->requests_seen = requests;
    return d->request_over;
}

/* A program commands, and says which of its steps it is. Kept out of the hot path's code. */
CVK_RARE static void excite(const cvk_drive_state *d, cvk_moment *now)
{
    now->request = cvk_excitation_next(d->excitation, now->current_ab_a);
    now->program_step = cvk_excitation_step(d->excitation);
    now->recorded = cvk_excitation_recorded(d->excitation) ? 1 : 0;
}

/* Who commands: a program, or the owner's last request; and nobody means to stop. */
static void take_request(cvk_drive_state *d, cvk_moment *now)
{
    count_lease(d);
    const bool over = is_over(d, now);
    now->program_step = now->recorded = 0;
    if (d->owner == CVK_NOBODY || over) {
        const bool knows_angle = /* then it slows down, else it is off */
            cvk_mode_by_angle(d->mode) && !over && !d->off_at_once;
        d->excitation = NULL;
        now->request = (cvk_request){.mode = knows_angle ? CVK_MODE_STOP : CVK_MODE_OFF};
        if (d->calibrating) {
            calibrate(d, now); /* it ends */
        }
        return;
    }
    if (d->excitation != NULL) {
        excite(d, now);
    } else {
        now->request = d->request[d->request_live];
    }
    if (now->request.mode == CVK_MODE_CALIBRATE || d->calibrating) {
        calibrate(d, now);
    }
}

/* A prediction that was made while another mode ruled belongs to a current that is gone. */
static void leave_nothing_stale(cvk_drive_state *d, const cvk_moment *now)
{
    if (d->mode != now->request.mode || now->bridge_on == 0) {
        const bool alike = cvk_mode_by_speed(d->mode) && cvk_mode_by_speed(now->request.mode);
        d->mode = now->request.mode;
        if (!alike || now->bridge_on == 0) {
            cvk_current_control_restart(&d->current_control);
        }
    }
}

static void set_gates(cvk_drive_state *d, cvk_moment *now)
{
    const bool on = now->fault == CVK_FAULT_NONE && now->request.mode != CVK_MODE_OFF &&
                    now->bridge_waits == 0 &&
                    (now->request.mode != CVK_MODE_REST || d->excitation != NULL);
    if (d->gates_on != on) {
        d->gates_on = on;
        d->port->gate_enable(d->port->context, on);
        cvk_current_control_restart(&d->current_control);
    }
    now->bridge_on = on ? 1 : 0;
}

/* Another source gives the angle: the current control goes on in its frame. */
static void change_frame(cvk_drive_state *d, const cvk_setup *setup, const cvk_moment *now)
{
    if (d->angle_source != now->angle_source && d->current_control.primed) {
        const float expected = d->angle.angle_rad + setup->period_s * d->angle.speed_rad_s;
        cvk_current_control_reframe(&d->current_control, &setup->current,
                                    now->angle.angle_rad - expected, d->angle.speed_rad_s,
                                    now->angle.speed_rad_s);
    }
    d->angle_source = now->angle_source;
    d->angle = now->angle;
}

static cvk_ab less(cvk_ab a, cvk_ab b)
{
    return (cvk_ab){a.alpha - b.alpha, a.beta - b.beta};
}

/* From set-points to the voltage for the period after this one. */
static void make_voltage(cvk_drive_state *d, const cvk_setup *setup, cvk_moment *now)
{
    const int32_t mode = now->request.mode;
    change_frame(d, setup, now);
    now->frame = cvk_rotation_of(now->angle.angle_rad);
    now->current_a = cvk_park(now->base_ab_a, now->frame);
    if (now->start_gives_v != 0) {
        cvk_current_control_restart(&d->current_control);
    } else if (now->bridge_on == 0 || mode == CVK_MODE_REST) {
        now->voltage_set_v = (cvk_ab){0.0f, 0.0f};
    } else if (mode == CVK_MODE_VOLTAGE) {
        now->voltage_set_v = now->request.voltage_v;
    } else {
        now->voltage_set_v = cvk_current_control_step(
            &d->current_control,
            now->angle_source == CVK_ANGLE_IMPOSED ? &setup->current_imposed : &setup->current,
            now->current_set_a, now->base_ab_a, less(now->acting_v, d->angles.added_v), now->frame,
            now->angle.speed_rad_s);
        cvk_angles_add_voltage(&d->angles, setup, now);
    }
}

cvk_abc cvk_drive_control(cvk_drive *drive, const cvk_readings *readings)
{
    cvk_drive_state *d = state_of(drive);
    cvk_moment *now = &d->now;
    const cvk_setup *setup = adopt(d, now);
    const bool clear = d->clear_fault;

    d->clear_fault = false;
    now->readings = *readings;
    cvk_measure_step(&d->measure, setup, now);                            /* currents, bus */
    cvk_protect_step(setup, clear, now);                                  /* faults */
    setup = watch(d, setup, now);                                         /* a change on trial */
    look_at_angle(d, setup, now);                                         /* every source */
    cvk_winding_step(&d->winding, setup, now);                            /* how warm it is */
    take_request(d, now);                                                 /* who commands */
    cvk_startup_step(&d->startup, setup, &d->angles, &d->reference, now); /* which angle */
    set_gates(d, now);                                                    /* on, or off now */
    leave_nothing_stale(d, now);
    cvk_reference_step(&d->reference, setup, now); /* current wanted */
    make_voltage(d, setup, now);                   /* voltage wanted */
    cvk_modulate_step(setup, now);                 /* and made */
    return now->duty;
}
