/* SPDX-License-Identifier: Apache-2.0
 *
 * The commands that turn the motor and stop it.
 */
#include "tune.h"

#include <math.h>
#include <stdlib.h>

#define REST_S 5.0
#define START_S 30.0
#define NEAR_SHARE 0.02
#define SETTLED_S 0.2           /* it stays there so long */
#define NEAR_TURN (2.0 / 360.0) /* of a position */
#define SLOW_RAD_S 5.0          /* electrical: as good as at rest */

static const char *text_of(const tuner *t, const char *signal, int value)
{
    const char *text = cvk_session_state_text(&t->session, signal, value);
    return text != NULL ? text : "unknown";
}

/* One signal now; NaN with the complaint told when it cannot be had. */
static double look_at(tuner *t, const char *name)
{
    const int place = cvk_session_signal_named(&t->session, name);
    float value = NAN;
    if (place < 0) {
        tune_complain("%s has no signal %s", t->session.name, name);
        return (double)NAN;
    }
    const unsigned signal = (unsigned)place;
    return tune_check(t, cvk_session_look(&t->session, &signal, 1, &value)) == EXIT_DONE
               ? (double)value
               : (double)NAN;
}

/* Which angle is used and how sure it is of it; an imposed one is sure of nothing. */
static void print_angle(const tuner *t, const char *before, double quality)
{
    const int source = t->session.state.angle_source;
    g_print("%s%s", before, text_of(t, "angle_source", source));
    if (source != CVK_ANGLE_IMPOSED) {
        g_print(", quality %.2f", quality);
    }
    g_print("\n");
}

int tune_status(tuner *t, int argc, char **argv)
{
    (void)argc;
    (void)argv;
    static const char *const names[] = {"speed_e",     "speed_set", "id",       "iq",
                                        "vdc",         "quality",   "headroom", "winding_warmer",
                                        "winding_ohm", "saliency"};
    enum { SPEED, SET, D, Q, BUS, QUALITY, HEADROOM, WARMER, OHM, SALIENCY, COUNT };
    unsigned place[COUNT];
    float v[COUNT];
    for (int n = 0; n < COUNT; n++) {
        const int row = cvk_session_signal_named(&t->session, names[n]);
        if (row < 0) {
            return tune_complain("%s has no signal %s", t->session.name, names[n]);
        }
        place[n] = (unsigned)row;
    }
    const int status = tune_check(t, cvk_session_look(&t->session, place, COUNT, v));
    if (status != EXIT_DONE) {
        return status;
    }
    const cvk_session_state *s = &t->session.state;
    g_print("  mode       %s%s%s, bridge %s, %s\n", text_of(t, "mode", s->mode),
            s->start_phase != 0 ? ", start: " : "",
            s->start_phase != 0 ? text_of(t, "start_phase", s->start_phase) : "",
            s->bridge_on ? "on" : "off", text_of(t, "fault", s->fault));
    if (v[QUALITY] > 0.0f) {
        g_print("  speed      %.1f rpm, set-point %.1f rpm\n", tune_rpm(t, (double)v[SPEED]),
                tune_rpm(t, (double)v[SET]));
    } else {
        g_print("  speed      not known: nothing shows the rotor now\n");
    }
    g_print("  current    d %.2f A, q %.2f A; bus %.2f V, voltage left %.0f %%\n", (double)v[D],
            (double)v[Q], (double)v[BUS], 100.0 * (double)v[HEADROOM]);
    print_angle(t, "  angle      ", (double)v[QUALITY]);
    if (v[SALIENCY] > 0.0f) {
        g_print("  saliency   %.2f at this current\n", (double)v[SALIENCY]);
    }
    if (v[OHM] > 0.0f) {
        g_print("  winding    %s Ohm at the last standstill, %+.0f K from motor.resistance_ohm\n",
                digits((double)v[OHM], 4), (double)v[WARMER]);
    }
    g_print("  commands   %s\n", s->owner == CVK_NOBODY ? "nobody"
                                 : t->session.owner     ? "this session"
                                                        : "another link");
    g_print("  change     %s%s%s; %u wanted\n", text_of(t, "trial", s->trial),
            s->trial_reason != 0 ? ": " : "",
            s->trial_reason != 0 ? text_of(t, "trial_reason", s->trial_reason) : "",
            tune_wanted_count(t));
    return EXIT_DONE;
}

/* ---- turning -------------------------------------------------------------------------------- */

static int request(tuner *t, cvk_request wanted)
{
    int status = tune_claim(t);
    if (status == EXIT_DONE) {
        status = tune_check(t, cvk_session_request(&t->session, &wanted));
    }
    if (status == EXIT_DONE) {
        t->request = wanted;
    }
    return status;
}

static int report_fault(const tuner *t)
{
    return tune_complain("the motor does not run: %s", text_of(t, "fault", t->session.state.fault));
}

/* A little later: EXIT_DONE when the device is there and has no fault; else what went wrong was
 * told. The value of `signal` then. */
static int look_later(tuner *t, const char *signal, double *value)
{
    const int status = tune_wait(t, 0.05);
    if (status != EXIT_DONE) {
        return status;
    }
    *value = look_at(t, signal);
    if (!t->connected) {
        return EXIT_BAD_USAGE;
    }
    return t->session.state.fault != CVK_FAULT_NONE ? report_fault(t) : EXIT_DONE;
}

static int rest(tuner *t)
{
    const double until_s = cvk_session_now_s(&t->session) + REST_S;
    int status = request(t, (cvk_request){.mode = CVK_MODE_REST});
    gboolean done = FALSE;
    while (status == EXIT_DONE && !done) {
        double rest_done;
        status = look_later(t, "rest_done", &rest_done);
        done = status == EXIT_DONE && rest_done > 0.5;
        if (status == EXIT_DONE && !done && cvk_session_now_s(&t->session) > until_s) {
            return tune_complain("the calibration of the offsets does not end");
        }
    }
    return status;
}

/* A vector that stands holds the rotor: without injection that is all that speed zero can be. */
static gboolean near_speed(const tuner *t, double speed_rad_s, double wanted_rad_s)
{
    const int phase = t->session.state.start_phase;
    const gboolean held = phase == CVK_START_TURN && wanted_rad_s == 0.0;
    return (phase == CVK_START_IDLE || phase == CVK_START_RUN || held) &&
           t->session.state.bridge_on &&
           fabs(speed_rad_s - wanted_rad_s) < NEAR_SHARE * fabs(wanted_rad_s) + 2.0;
}

/* Until the speed is there, or the drive has stopped. */
static int follow_start(tuner *t, double wanted_rad_s)
{
    const double begun_s = cvk_session_now_s(&t->session);
    double there_s = begun_s; /* since then it is */
    for (;;) {
        double speed_rad_s;
        const int status = look_later(t, "speed_e", &speed_rad_s);
        if (status != EXIT_DONE) {
            return status;
        }
        const double passed_s = cvk_session_now_s(&t->session) - begun_s;
        const gboolean there = near_speed(t, speed_rad_s, wanted_rad_s);
        there_s = there ? there_s : begun_s + passed_s;
        if (there && begun_s + passed_s - there_s >= SETTLED_S) {
            g_print("  runs at %.1f rpm after %.1f s", tune_rpm(t, speed_rad_s), there_s - begun_s);
            print_angle(t, ", angle by ", look_at(t, "quality"));
            return EXIT_DONE;
        }
        if (passed_s > START_S) {
            return tune_complain("%.1f rpm were not reached in %.0f s; it turns at %.1f rpm",
                                 tune_rpm(t, wanted_rad_s), START_S, tune_rpm(t, speed_rad_s));
        }
    }
}

/* From a bridge that is off: nothing is wrong, and the offsets of the current channels are found.
 */
static int prepare_to_run(tuner *t)
{
    if (t->session.state.fault != CVK_FAULT_NONE) {
        return tune_complain("there is a fault: %s; `clear` it first",
                             text_of(t, "fault", t->session.state.fault));
    }
    if (t->session.state.bridge_on) {
        return EXIT_DONE;
    }
    g_print("  finding the offsets of the current channels\n");
    return rest(t);
}

int tune_start(tuner *t, int argc, char **argv)
{
    double speed_rad_s;
    if (argc != 2) {
        return tune_complain("start SPEED, such as start 150rpm");
    }
    if (!tune_speed(t, argv[1], &speed_rad_s)) {
        return EXIT_BAD_USAGE;
    }
    int status = prepare_to_run(t);
    if (status == EXIT_DONE) {
        status =
            request(t, (cvk_request){.mode = CVK_MODE_SPEED, .speed_rad_s = (float)speed_rad_s});
    }
    return status == EXIT_DONE ? follow_start(t, speed_rad_s) : status;
}

int tune_set_speed(tuner *t, int argc, char **argv)
{
    double speed_rad_s;
    if (argc != 2) {
        return tune_complain("speed SPEED, such as speed 150rpm");
    }
    if (t->request.mode != CVK_MODE_SPEED || !t->session.state.bridge_on) {
        return tune_complain("the motor does not run by speed: `start` it");
    }
    if (!tune_speed(t, argv[1], &speed_rad_s)) {
        return EXIT_BAD_USAGE;
    }
    cvk_request next = t->request;
    next.speed_rad_s = (float)speed_rad_s;
    const int status = request(t, next);
    return status == EXIT_DONE ? follow_start(t, speed_rad_s) : status;
}

int tune_set_current(tuner *t, int argc, char **argv)
{
    double d, q;
    if (argc != 3 || !tune_number(argv[1], &d) || !tune_number(argv[2], &q)) {
        return tune_complain("current D Q, in A, such as current 0 2");
    }
    const int status = prepare_to_run(t);
    return status != EXIT_DONE ? status
                               : request(t, (cvk_request){.mode = CVK_MODE_CURRENT,
                                                          .current_a = {(float)d, (float)q}});
}

int tune_set_torque(tuner *t, int argc, char **argv)
{
    double torque_nm;
    if (argc != 2 || !tune_number(argv[1], &torque_nm)) {
        return tune_complain("torque NM, such as torque 0.5");
    }
    const int status = prepare_to_run(t);
    return status != EXIT_DONE
               ? status
               : request(t, (cvk_request){.mode = CVK_MODE_TORQUE, .torque_nm = (float)torque_nm});
}

/* Until the shaft is there and stays, or the drive has stopped. */
static int follow_position(tuner *t, double wanted)
{
    const double begun_s = cvk_session_now_s(&t->session);
    double away_s = begun_s; /* when it was last */
    for (;;) {
        double position_rad;
        const int status = look_later(t, "position", &position_rad);
        if (status != EXIT_DONE) {
            return status;
        }
        const double turns = look_at(t, "turns") + position_rad / (2.0 * G_PI);
        const double now_s = cvk_session_now_s(&t->session);
        away_s = fabs(turns - wanted) < NEAR_TURN ? away_s : now_s;
        if (now_s - away_s >= SETTLED_S) {
            g_print("  holds %.3f turns after %.1f s\n", fabs(turns) < 5e-4 ? 0.0 : turns,
                    away_s - begun_s);
            return EXIT_DONE;
        }
        if (now_s - begun_s > START_S) {
            return tune_complain("%.3f turns were not reached in %.0f s; it is at %.3f", wanted,
                                 START_S, turns);
        }
    }
}

int tune_set_position(tuner *t, int argc, char **argv)
{
    double turns;
    if (argc != 2 || !tune_number(argv[1], &turns) || !(fabs(turns) <= 1e6)) {
        return tune_complain("position TURNS of the shaft, such as position 2.5 (-1e6 .. 1e6)");
    }
    int status = prepare_to_run(t);
    if (status == EXIT_DONE) {
        const double whole = floor(turns);
        status =
            request(t, (cvk_request){.mode = CVK_MODE_POSITION,
                                     .position_turns = (int32_t)whole,
                                     .position_mech_rad = (float)(2.0 * G_PI * (turns - whole))});
    }
    return status == EXIT_DONE ? follow_position(t, turns) : status;
}

/* Without a rotor sensor the brake is over when it is too slow for the angle. */
static gboolean is_braked(const tuner *t, double speed_rad_s)
{
    const cvk_session_state *s = &t->session.state;
    return s->mode == CVK_MODE_BRAKE && s->start_phase == CVK_START_IDLE &&
           (s->angle_source != CVK_ANGLE_ROTOR || fabs(speed_rad_s) < SLOW_RAD_S);
}

/* As fast as the current limit allows; then the winding stays shorted. */
int tune_brake(tuner *t, int argc, char **argv)
{
    (void)argc;
    (void)argv;
    if (!t->session.state.bridge_on) {
        return tune_complain("the bridge is off: nothing to brake with; `start` catches the rotor");
    }
    int status = request(t, (cvk_request){.mode = CVK_MODE_BRAKE});
    const double begun_s = status == EXIT_DONE ? cvk_session_now_s(&t->session) : 0.0;
    while (status == EXIT_DONE) {
        double speed_rad_s;
        status = look_later(t, "speed_e", &speed_rad_s);
        const double passed_s = t->connected ? cvk_session_now_s(&t->session) - begun_s : 0.0;
        if (status == EXIT_DONE && is_braked(t, speed_rad_s)) {
            g_print("  braked in %.1f s, the winding is shorted: `stop` or `coast` lets go\n",
                    passed_s);
            return EXIT_DONE;
        }
        if (passed_s > START_S) {
            return tune_complain("it still turns after %.0f s of braking", START_S);
        }
    }
    return status;
}

int tune_coast(tuner *t, int argc, char **argv)
{
    (void)argc;
    (void)argv;
    int status = request(t, (cvk_request){.mode = CVK_MODE_OFF});
    status = status == EXIT_DONE ? tune_wait(t, 0.05) : status;
    if (status == EXIT_DONE) {
        g_print("  the bridge is off, the rotor runs free: `start` catches it\n");
    }
    return status;
}

/* Anybody may: also while another link commands. */
int tune_stop(tuner *t, int argc, char **argv)
{
    (void)argc;
    (void)argv;
    return tune_stop_whoever(t);
}

int tune_clear(tuner *t, int argc, char **argv)
{
    (void)argc;
    (void)argv;
    int status = tune_claim(t);
    if (status == EXIT_DONE) {
        t->request = (cvk_request){.mode = CVK_MODE_OFF}; /* a fault ends what was asked for */
        status = tune_check(t, cvk_session_clear_fault(&t->session));
    }
    t->faulted = FALSE;
    return status == EXIT_DONE ? tune_wait(t, 0.05) : status;
}

int tune_release(tuner *t, int argc, char **argv)
{
    (void)argc;
    (void)argv;
    return tune_check(t, cvk_session_release(&t->session));
}

int tune_hand_over(tuner *t, int argc, char **argv)
{
    double to;
    if (argc != 2 || !tune_number(argv[1], &to) || !(to >= 1.0 && to <= 255.0)) {
        return tune_complain("hand NUMBER: that of another link, 1 .. 255");
    }
    return tune_check(t, cvk_session_hand_over(&t->session, (cvk_owner)to));
}
