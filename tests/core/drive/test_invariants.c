/* SPDX-License-Identifier: Apache-2.0
 *
 * The invariants of drive.h, on a million calls with random requests, settings and readings, bad
 * ones among them.
 */
#include "corvak/core/drive.h"
#include "corvak/core/parameters.h"
#include "corvak/core/programs.h"
#include "noise.h"
#include "suite.h"

#include <math.h>
#include <string.h>

#ifdef __SANITIZE_ADDRESS__
enum { CALLS = 80000, SEEDS = 4 }; /* ten times slower then */
#else
enum { CALLS = 250000, SEEDS = 4 };
#endif

static bool gates_on;
static cvk_drive drive;
static cvk_owner me; /* who owns the drive, as the rules have it; CVK_NOBODY */
static double lease_s, since_s;
static cvk_excitation program;
static bool on_trial; /* as the rules have it */
static cvk_settings before_trial;
static double trial_s, trial_most_s;
static int gone_back[CVK_TRIAL_REASONS]; /* by reason; those that were kept at 0 */

static void gate_enable(void *context, bool enable)
{
    (void)context;
    gates_on = enable;
}

static const cvk_port port = {.gate_enable = gate_enable};

static float random_between(float low, float high)
{
    return low + (high - low) * (float)(uniform() + 0.5);
}

static bool once_in(int calls)
{
    return (uniform() + 0.5) * calls < 1.0;
}

/* Now and then something that is no number, or a very large one. */
static float maybe_bad(float good, int once)
{
    static const float bad[] = {NAN, INFINITY, -INFINITY, 3e38f, -3e38f, 1e-40f};
    return once_in(once) ? bad[(int)(6.0 * (uniform() + 0.5)) % 6] : good;
}

static cvk_settings any_settings(void)
{
    cvk_settings s = cvk_settings_default();
    s.motor = (cvk_motor_settings){4, 0.1f, 1e-4f, 1.5e-4f, 0.01f};
    s.rotor.kind = (int32_t)random_between(0.0f, 4.999f);
    s.angle.source = once_in(2) ? CVK_BY_OBSERVER : CVK_BY_ROTOR_SENSOR;
    s.limit.current_a = random_between(0.1f, 15.0f);
    s.inverter.voltage_v = random_between(0.0f, 2.0f);
    s.current.bandwidth_hz = maybe_bad(random_between(1.0f, 1250.0f), 50);
    s.speed.gain_a_s = random_between(0.0f, 1000.0f);
    s.speed.integral_gain_a = maybe_bad(random_between(0.0f, 1e5f), 50);
    s.motor.resistance_ohm = maybe_bad(random_between(0.0f, 100.0f), 50);
    s.observer.tracking_bandwidth_rad_s = random_between(100.0f, 20000.0f);
    s.observer.bandwidth_rad_s = random_between(1.0f, 100.0f);
    s.start.acceleration_rad_s2 = random_between(1.0f, 1e6f);
    s.injection.voltage_v = once_in(3) ? random_between(0.0f, 6.0f) : 0.0f;
    s.position.gain_per_s = once_in(2) ? random_between(0.0f, 50.0f) : 0.0f;
    s.position.speed_rad_s = random_between(0.0f, 1000.0f);
    s.torque.least_current = once_in(2) ? 1 : 0;
    s.torque.weakening = once_in(2) ? 1 : 0;
    s.modulation.depth = (int32_t)random_between(0.0f, 3.999f);
    return s;
}

static cvk_readings any_readings(void)
{
    return (cvk_readings){.current_a = {maybe_bad(random_between(-15, 15), 3000),
                                        maybe_bad(random_between(-15, 15), 3000),
                                        maybe_bad(random_between(-21, 21), 3000)},
                          .current_valid = (int32_t)random_between(0.0f, 15.9f),
                          .bus_v = maybe_bad(random_between(20.0f, 28.0f), 3000),
                          .rotor = {.absolute_mech_rad = maybe_bad(random_between(-100, 100), 100),
                                    .encoder_counts = (int32_t)random_between(-2e9f, 2e9f),
                                    .sin_v = maybe_bad(random_between(-1, 1), 100),
                                    .cos_v = maybe_bad(random_between(-1, 1), 100),
                                    .hall = (int32_t)random_between(-9.0f, 16.0f)},
                          .winding_degc = maybe_bad(25.0f, 10)};
}

static void ask_something(void)
{
    const cvk_request request = {
        .mode = (int32_t)random_between(-1.0f, (float)CVK_MODE_COUNT + 0.9f),
        .voltage_v = {maybe_bad(random_between(-20, 20), 30), random_between(-20, 20)},
        .current_a = {maybe_bad(random_between(-20, 20), 30), random_between(-20, 20)},
        .speed_rad_s = maybe_bad(random_between(-5000, 5000), 30),
        .torque_nm = maybe_bad(random_between(-2, 2), 30),
        .position_turns = (int32_t)random_between(-100, 100),
        .position_mech_rad = maybe_bad(random_between(-4, 4), 30)};
    const cvk_owner who = once_in(4) ? (cvk_owner)random_between(0.0f, 4.9f) : me;
    const cvk_status status = cvk_drive_request(&drive, who, &request, NULL);
    ck_assert((status == CVK_NOT_OWNER) == (who == CVK_NOBODY || who != me)); /* invariant 7 */
    since_s = status == CVK_NOT_OWNER ? since_s : 0.0;
    if (status == CVK_NOT_OWNER) {
        return;
    }
    const bool finite = isfinite(request.voltage_v.alpha) && isfinite(request.current_a.d) &&
                        isfinite(request.speed_rad_s) && isfinite(request.torque_nm) &&
                        isfinite(request.position_mech_rad);
    ck_assert(finite || status == CVK_OUT_OF_RANGE); /* invariant 4 */
}

/* Claims, refreshes, hand-overs and releases by anybody; the rules say what each must do. */
static void change_owner(void)
{
    const cvk_owner who = (cvk_owner)random_between(0.0f, 4.9f);
    const cvk_owner to = (cvk_owner)random_between(0.0f, 4.9f);
    const float wanted_s = maybe_bad(random_between(0.0f, 0.1f), 20);
    const bool mine = who != CVK_NOBODY && who == me,
               fine = wanted_s >= 0.01f && wanted_s <= 3600.0f;
    switch ((int)random_between(0.0f, 5.9f)) {
    case 0:
        ck_assert_int_eq(cvk_drive_refresh(&drive, who), mine ? CVK_OK : CVK_NOT_OWNER);
        since_s = mine ? 0.0 : since_s;
        break;
    case 1: {
        const cvk_status status = cvk_drive_hand_over(&drive, who, to);
        ck_assert((status == CVK_OK) == (mine && to != CVK_NOBODY));
        me = status == CVK_OK ? to : me;
        since_s = mine && to != CVK_NOBODY ? 0.0 : since_s;
        break;
    }
    case 2:
        ck_assert_int_eq(cvk_drive_release(&drive, who), mine ? CVK_OK : CVK_NOT_OWNER);
        me = mine ? CVK_NOBODY : me;
        break;
    default: {
        const cvk_status status = cvk_drive_claim(&drive, who, wanted_s);
        ck_assert((status == CVK_OK) ==
                  (who != CVK_NOBODY && fine && (me == CVK_NOBODY || me == who)));
        if (status == CVK_OK) {
            me = who;
            lease_s = (double)wanted_s;
            since_s = 0.0;
        }
    }
    }
    ck_assert_uint_eq(cvk_drive_owner(&drive), me);
}

static void run_something(const cvk_hardware *hardware)
{
    if (me == CVK_NOBODY) {
        ck_assert_int_eq(cvk_drive_run(&drive, 1, NULL, NULL), CVK_NOT_OWNER);
        return;
    }
    since_s = 0.0;
    const cvk_excitation_config config =
        cvk_excitation_config_default(hardware->period_s, 5.0f, 24.0f);
    const unsigned which = (unsigned)random_between(0.0f, (float)cvk_program_count() - 0.01f);
    ck_assert_int_eq(cvk_drive_run(&drive, me, NULL, NULL), CVK_OK);
    ck_assert_int_eq(cvk_program_write(cvk_program_at(which), &program, &config, NULL), CVK_OK);
    if (cvk_drive_run(&drive, me, once_in(2) ? &program : NULL, NULL) != CVK_OK) {
        return; /* something that it needs is not known */
    }
}

static void stage_something(void)
{
    const cvk_settings settings = any_settings();
    const cvk_settings before = *cvk_drive_settings(&drive);
    const cvk_status status = cvk_drive_stage(&drive, &settings, NULL);
    if (status != CVK_OK) { /* invariant 5 */
        ck_assert_mem_eq(&before, cvk_drive_settings(&drive), sizeof before);
    }
    ck_assert(status != CVK_OK || (!gates_on && !on_trial));
}

/* Changes on trial by anybody, and the word on them. */
static void try_something(void)
{
    const cvk_settings settings = any_settings(), in_force = *cvk_drive_settings(&drive);
    const cvk_trial_terms terms = {.watch_s = maybe_bad(random_between(0.01f, 0.03f), 20),
                                   .confirm_s = random_between(0.01f, 0.04f),
                                   .current_a = maybe_bad(random_between(0.0f, 40.0f), 20)};
    const cvk_owner who = once_in(4) ? (cvk_owner)random_between(0.0f, 4.9f) : me;
    const bool mine = who != CVK_NOBODY && who == me;
    const cvk_status tried = cvk_drive_try(&drive, who, &settings, &terms, NULL);
    ck_assert((tried == CVK_NOT_OWNER) == !mine);
    ck_assert(!on_trial || tried != CVK_OK);
    since_s = mine ? 0.0 : since_s;
    if (tried == CVK_OK) {
        ck_assert(isfinite(terms.watch_s) && isfinite(terms.current_a)); /* invariant 4 */
        before_trial = in_force;
        on_trial = true;
        trial_s = 0.0;
        trial_most_s = (double)terms.watch_s + (double)terms.confirm_s;
    } else {
        ck_assert_mem_eq(&in_force, cvk_drive_settings(&drive), sizeof in_force);
    }
}

static void say_a_word_on_it(void)
{
    const cvk_owner who = once_in(4) ? (cvk_owner)random_between(0.0f, 4.9f) : me;
    const bool mine = who != CVK_NOBODY && who == me, keep = once_in(2);
    const cvk_status status = keep ? cvk_drive_keep(&drive, who) : cvk_drive_take_back(&drive, who);
    ck_assert((status == CVK_NOT_OWNER) == !mine);
    ck_assert(status != CVK_OK || on_trial);
    ck_assert(!keep || status != CVK_OK || cvk_drive_now(&drive)->trial == CVK_TRIAL_WAITING);
    since_s = mine ? 0.0 : since_s;
}

/* Invariant 9. */
static void check_trial(double period_s)
{
    const cvk_moment *now = cvk_drive_now(&drive);
    const bool ended = now->trial == CVK_TRIAL_KEPT || now->trial == CVK_TRIAL_GONE_BACK;
    trial_s += period_s;
    if (!on_trial) {
        return;
    }
    if (now->trial == CVK_TRIAL_GONE_BACK) {
        ck_assert_mem_eq(&before_trial, cvk_drive_settings(&drive), sizeof before_trial);
        gone_back[now->trial_reason]++;
    } else {
        ck_assert(now->trial == CVK_TRIAL_KEPT || trial_s < trial_most_s + 2e-4);
    }
    gone_back[0] += now->trial == CVK_TRIAL_KEPT ? 1 : 0;
    on_trial = !ended;
}

static void check(const cvk_abc duty, int32_t fault_before, bool cleared)
{
    const cvk_moment *now = cvk_drive_now(&drive);
    ck_assert(duty.a >= 0.0f && duty.a <= 1.0f); /* invariant 1; false for NaN */
    ck_assert(duty.b >= 0.0f && duty.b <= 1.0f);
    ck_assert(duty.c >= 0.0f && duty.c <= 1.0f);
    ck_assert(now->fault == CVK_FAULT_NONE || !gates_on);                               /* 2 */
    ck_assert(cleared || fault_before == CVK_FAULT_NONE || now->fault == fault_before); /* 3 */
    ck_assert(now->request.mode != CVK_MODE_OFF || !gates_on);                          /* 6 */
    ck_assert(gates_on == (now->bridge_on != 0));
    if (me == CVK_NOBODY) { /* 8 */
        ck_assert(now->request.mode == CVK_MODE_STOP || now->request.mode == CVK_MODE_OFF);
    }
    /* nothing that is no number stays inside either */
    ck_assert(isfinite(now->voltage_set_v.alpha) && isfinite(now->voltage_set_v.beta));
    ck_assert(isfinite(now->angle.angle_rad) && isfinite(now->angle.speed_rad_s));
}

START_TEST(the_invariants_hold)
{
    cvk_hardware hardware = cvk_hardware_default();
    cvk_settings settings = any_settings();
    lcg = 11u + (uint32_t)_i;
    hardware.current_sensing = _i % 3; /* a single shunt too */
    hardware.window_s = 2e-6f;
    settings = cvk_settings_default();
    ck_assert_int_eq(cvk_drive_init(&drive, &port, &hardware, &settings, NULL), CVK_OK);
    const cvk_readings calm = {.current_valid = CVK_ALL_CURRENTS_VALID, .bus_v = 24.0f};
    for (int n = 0; n < CALLS; n++) {
        const int32_t fault_before = cvk_drive_now(&drive)->fault;
        bool cleared = once_in(20);
        if (once_in(300)) {
            change_owner();
        }
        if (once_in(40)) {
            ask_something();
        }
        if (once_in(60)) {
            stage_something();
        }
        if (once_in(60)) {
            try_something();
        }
        if (once_in(300)) {
            say_a_word_on_it();
        }
        if (once_in(500)) {
            run_something(&hardware);
        }
        if (cleared) {
            cleared = cvk_drive_clear_fault(&drive, me) == CVK_OK;
            since_s = cleared ? 0.0 : since_s;
        }
        const bool quiet = n / 1000 % 2 == 0;
        const cvk_readings readings = quiet ? calm : any_readings();
        const cvk_abc duty = cvk_drive_control(&drive, &readings);
        since_s += (double)hardware.period_s;
        if (me != CVK_NOBODY && cvk_drive_owner(&drive) == CVK_NOBODY) {
            ck_assert_double_eq_tol(since_s, lease_s, 2e-4); /* not before, and not much later */
            me = CVK_NOBODY;
        }
        ck_assert(me == CVK_NOBODY || since_s < lease_s + 2e-4);
        check(duty, fault_before, cleared);
        check_trial((double)hardware.period_s);
    }
    const int must[] = {CVK_TRIAL_FINE,       CVK_TRIAL_FAULT,      CVK_TRIAL_CURRENT,
                        CVK_TRIAL_OWNER_LOST, CVK_TRIAL_TAKEN_BACK, CVK_TRIAL_UNCONFIRMED};
    for (size_t n = 0; n < sizeof must / sizeof must[0] && CALLS >= 250000;
         n++) { /* all occurred */
        ck_assert_msg(gone_back[must[n]] > 0, "reason %d: %d", must[n], gone_back[must[n]]);
    }
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_loop_test(tests, the_invariants_hold, 0, SEEDS);
}

int main(void)
{
    return run_suite("invariants", add);
}
