/* SPDX-License-Identifier: Apache-2.0
 *
 * The hot path, cvk_drive_control(), and the setters around it.
 */
#include "corvak/core/drive.h"

#include "base/arithmetic.h"
#include "drive_state.h"
#include "control/modulate.h"
#include "control/protect.h"

#include <stdatomic.h>
#include <stddef.h>

_Static_assert(sizeof(cvk_drive_state) <= sizeof(cvk_drive),
               "A cvk_drive is too small for what is kept inside it: raise CVK_DRIVE_BYTES in "
               "corvak/core/drive.h.");
_Static_assert(sizeof(float) == 4, "The core computes in 32-bit floats: choose a compiler or "
                                   "options with a 4-byte float.");

#define DEPTH_HEADROOM 0.15f /* of the voltage, that a change of the depth needs */
#define SIX_STEPS 0.6366f    /* of the bus: the fundamental of six steps, 2 / pi */
#define LEAST_FLUX 0.1f      /* of the magnets' flux linkage, that weakening leaves */
#define MOST_RAD_S 1e5f
#define MOST_STRAY 1.25f /* observers follow a fifth: beyond, the next start would fail */

#if defined(__GNUC__)
#define CVK_RARE __attribute__((noinline, cold))
#else
#define CVK_RARE
#endif

static cvk_drive_state *state_of(cvk_drive *drive)
{
    return (cvk_drive_state *)(void *)&drive->inside;
}

static const cvk_drive_state *const_state_of(const cvk_drive *drive)
{
    return (const cvk_drive_state *)(const void *)&drive->inside;
}

/* ---- the hot path --------------------------------------------------------------------------- */

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

/* Who commands: a program, or the owner's last request; and nobody means to stop. */
static void take_request(cvk_drive_state *d, cvk_moment *now)
{
    count_lease(d);
    const bool over = is_over(d, now);
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
    cvk_excitation *program = d->excitation;
    now->request = program != NULL ? cvk_excitation_next(program, now->current_ab_a)
                                   : d->request[d->request_live];
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

/* ---- around it ------------------------------------------------------------------------------ */

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

/* The first parameter that differs; with `forbidden`, that may not while the bridge is on. */
static const cvk_parameter *difference(const cvk_settings *from, const cvk_settings *to,
                                       bool forbidden)
{
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        if (cvk_parameter_get(from, row) != cvk_parameter_get(to, row) &&
            !(forbidden && row->while_on)) {
            return row;
        }
    }
    return NULL;
}

static bool is_within(float factor, float a, float b)
{
    return a <= factor * b && b <= factor * a;
}

/* One change may lead as far as the row says; several may not lead far from what was called good.
 */
static bool strays(const cvk_parameter *row, float good, float before, float after)
{
    const bool on_its_way = before != good && (before < good) == (after < before);
    return row->factor > 0.0f && on_its_way && !is_within(MOST_STRAY, good, after);
}

/* The first parameter of motor or inverter that would change too much at once, or since the
 * settings were called good. */
static const cvk_parameter *leap(const cvk_drive_state *d, const cvk_settings *to, bool *since_good)
{
    const cvk_settings *from = &d->setup[d->setup_live].settings;
    unsigned model = 0;
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        const float before = cvk_parameter_get(from, row), after = cvk_parameter_get(to, row);
        if (!(row->factor > 0.0f)) {
            continue;
        }
        const float good = d->trial.good_model[model++];
        *since_good = before != after && strays(row, good, before, after);
        if (*since_good || (before != after && !is_within(row->factor, before, after))) {
            return row;
        }
    }
    return NULL;
}

static cvk_status refuse_leap(const cvk_parameter *row, const cvk_settings *settings,
                              bool since_good, cvk_refusal *why)
{
    if (why != NULL) {
        *why = (cvk_refusal){.field = row->name,
                             .value = cvk_parameter_get(settings, row),
                             .parameter = row,
                             .against = since_good ? "its value when last called good"
                                                   : "its value in force",
                             .reason = since_good ? "several changes led it away from that: call "
                                                    "what runs good, or stop first"
                                                  : "while the bridge is on one change makes it "
                                                    "half to twice of that: go there in steps, or "
                                                    "stop first"};
    }
    return CVK_CONTRADICTION;
}

static cvk_status refuse_while_on(const cvk_parameter *row, const cvk_settings *settings,
                                  cvk_refusal *why)
{
    if (why != NULL) {
        *why = (cvk_refusal){
            .field = row->name, .value = cvk_parameter_get(settings, row), .parameter = row};
    }
    return CVK_BRIDGE_IS_ON;
}

/* Another depth near the end of the voltage would take voltage away, or give it, at once. */
static bool changes_depth_at_the_end(const cvk_drive_state *d, const cvk_settings *settings)
{
    return d->gates_on && d->now.headroom < DEPTH_HEADROOM &&
           settings->modulation.depth != d->setup[d->setup_live].settings.modulation.depth;
}

static cvk_status refuse_depth(const cvk_settings *settings, cvk_refusal *why)
{
    if (why != NULL) {
        *why = (cvk_refusal){.field = "modulation.depth",
                             .value = (float)settings->modulation.depth,
                             .parameter = cvk_parameter_named("modulation.depth"),
                             .against = "the voltage that is in use",
                             .reason = "the motor runs near the end of the voltage: slow down "
                                       "first, until headroom is above 0.15"};
    }
    return CVK_CONTRADICTION;
}

/* Prepares settings in the free place; nothing is staged yet. `on_trial`: the bridge may be on. */
static cvk_status prepare_next(cvk_drive_state *d, const cvk_settings *settings, bool on_trial,
                               cvk_refusal *why)
{
    const uint8_t live = d->setup_live;
    if (d->setup_staged != live || d->trial.runs) {
        return CVK_BUSY;
    }
    const cvk_parameter *row = difference(&d->setup[live].settings, settings, on_trial);
    if (d->gates_on && row != NULL) {
        return refuse_while_on(row, settings, why);
    }
    bool since_good = false;
    row = leap(d, settings, &since_good);
    if (d->gates_on && row != NULL) {
        return refuse_leap(row, settings, since_good, why);
    }
    if (changes_depth_at_the_end(d, settings)) {
        return refuse_depth(settings, why);
    }
    return cvk_setup_prepare(&d->setup[1u - live], &d->hardware, settings, why);
}

static void stage_next(cvk_drive_state *d)
{
    atomic_signal_fence(memory_order_release);
    d->setup_staged = (uint8_t)(1u - d->setup_live);
}

cvk_status cvk_drive_stage(cvk_drive *drive, const cvk_settings *settings, cvk_refusal *why)
{
    cvk_drive_state *d = state_of(drive);
    const cvk_status status = prepare_next(d, settings, false, why);
    if (status == CVK_OK) {
        cvk_trial_call_good(&d->trial, settings);
        stage_next(d);
    }
    return status;
}

/* ---- a change on trial ---------------------------------------------------------------------- */

/* A window that would stop the motor at once. */
static cvk_status check_bus(const cvk_drive_state *d, const cvk_settings *settings,
                            cvk_refusal *why)
{
    const cvk_protect_settings *s = &settings->protect;
    const float bus_v = d->now.bus_v;
    if (!d->gates_on || (bus_v >= s->bus_min_v && bus_v <= s->bus_max_v)) {
        return CVK_OK;
    }
    if (why != NULL) {
        *why =
            (cvk_refusal){.field = bus_v < s->bus_min_v ? "protect.bus_min_v" : "protect.bus_max_v",
                          .value = bus_v < s->bus_min_v ? s->bus_min_v : s->bus_max_v,
                          .against = "the bus as it is now",
                          .reason = "the running motor would stop at once: choose a window "
                                    "with the present bus voltage in it"};
    }
    return CVK_CONTRADICTION;
}

cvk_status cvk_drive_try(cvk_drive *drive, cvk_owner owner, const cvk_settings *settings,
                         const cvk_trial_terms *terms, cvk_refusal *why)
{
    cvk_drive_state *d = state_of(drive);
    const cvk_setup *in_force = &d->setup[d->setup_live];
    cvk_status status = cvk_drive_refresh(drive, owner);
    if (status == CVK_OK) {
        status = prepare_next(d, settings, true, why);
    }
    if (status == CVK_OK) {
        status = check_bus(d, settings, why);
    }
    if (status == CVK_OK) {
        status = cvk_trial_prepare(&d->trial, terms, in_force, &d->now, why);
    }
    if (status == CVK_OK) {
        cvk_setup *next = &d->setup[1u - d->setup_live];
        next->bounds = cvk_bounds_tighter(next->bounds, in_force->bounds);
        d->trial.wish = CVK_WISH_BEGIN;
        stage_next(d);
    }
    return status;
}

static cvk_status wish(cvk_drive *drive, cvk_owner owner, cvk_trial_wish what)
{
    cvk_drive_state *d = state_of(drive);
    const cvk_status status = cvk_drive_refresh(drive, owner);
    if (status != CVK_OK) {
        return status;
    }
    if (d->setup_staged != d->setup_live ||
        (what == CVK_WISH_KEEP && d->now.trial == CVK_TRIAL_WATCHED)) {
        return CVK_BUSY;
    }
    if (!d->trial.runs) {
        return CVK_NO_TRIAL;
    }
    d->trial.wish = (uint8_t)what;
    return CVK_OK;
}

cvk_status cvk_drive_keep(cvk_drive *drive, cvk_owner owner)
{
    return wish(drive, owner, CVK_WISH_KEEP);
}

cvk_status cvk_drive_take_back(cvk_drive *drive, cvk_owner owner)
{
    return wish(drive, owner, CVK_WISH_TAKE_BACK);
}

cvk_status cvk_drive_call_good(cvk_drive *drive, cvk_owner owner)
{
    cvk_drive_state *d = state_of(drive);
    const cvk_status status = cvk_drive_refresh(drive, owner);
    if (status != CVK_OK) {
        return status;
    }
    if (d->setup_staged != d->setup_live || d->trial.runs) {
        return CVK_BUSY;
    }
    cvk_trial_call_good(&d->trial, &d->setup[d->setup_live].settings);
    return CVK_OK;
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

/* ---- requests ------------------------------------------------------------------------------- */

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

void cvk_drive_rotor_aligned(cvk_drive *drive)
{
    state_of(drive)->angles.rotor.aligned = true;
}

void cvk_drive_clear_fault(cvk_drive *drive)
{
    state_of(drive)->clear_fault = true;
}
