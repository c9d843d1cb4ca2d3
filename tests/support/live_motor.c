/* SPDX-License-Identifier: Apache-2.0
 *
 * A motor that runs, as a host has it.
 */
#include "live_motor.h"

#include "sensorless.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>

#define SETTLES_S 0.7

/* Not by Check: benchmarks have such a motor too. */
static void must(bool holds, const live_motor *m)
{
    if (!holds) {
        const cvk_moment *now = cvk_sim_controller_now(m->controller);
        fprintf(stderr, "%s does not run: %s, %s, attempt %d at %g rad/s; %s\n", m->bench.name,
                cvk_fault_text((cvk_fault)now->fault),
                cvk_start_reason_text((cvk_start_reason)now->start_reason), now->start_attempt,
                (double)now->angle.speed_rad_s, m->session.text);
        abort();
    }
}

void live_advance(live_motor *m, double length_s)
{
    cvk_sim *sim = cvk_sim_controller_inside(m->controller);
    const double until_s = cvk_sim_controller_time_s(m->controller) + length_s;
    for (int n = 0; cvk_sim_controller_time_s(m->controller) < until_s; n++) {
        double leg_a[3];
        cvk_sim_controller_run(m->controller, cvk_sim_controller_time_s(m->controller) + 1e-9);
        cvk_rig_true_current(sim->rig, leg_a);
        for (int k = 0; k < 3; k++) {
            m->largest_a = fmax(m->largest_a, fabs(leg_a[k]));
        }
        const double speed = cvk_rig_state_of(sim->rig)->speed_mech_rad_s;
        m->fastest_rad_s = fmax(m->fastest_rad_s, fabs(speed) * m->bench.motor.pole_pairs);
        if (n % 20 == 0) {
            must(cvk_session_pump(&m->session, 0.0) == CVK_OK, m);
        }
    }
    must(cvk_session_pump(&m->session, 0.0) == CVK_OK, m);
}

bool live_turns(const live_motor *m)
{
    const cvk_moment *now = cvk_sim_controller_now(m->controller);
    return now->fault == CVK_FAULT_NONE && now->start_phase == CVK_START_RUN &&
           fabsf(now->angle.speed_rad_s - m->speed_rad_s) < 0.1f * fabsf(m->speed_rad_s);
}

bool live_rests(const live_motor *m)
{
    return fabs(cvk_rig_state_of(cvk_sim_controller_inside(m->controller)->rig)->speed_mech_rad_s) <
           0.5;
}

void live_start(live_motor *m)
{
    cvk_session *s = &m->session;
    const cvk_request off = {.mode = CVK_MODE_OFF}, rest = {.mode = CVK_MODE_REST};
    const cvk_request speed = {.mode = CVK_MODE_SPEED, .speed_rad_s = m->speed_rad_s};
    must(cvk_session_claim(s, 0.5) == CVK_OK, m);
    must(cvk_session_request(s, &off) == CVK_OK, m);
    must(cvk_session_clear_fault(s) == CVK_OK, m);
    for (int n = 0; n < 400 && !live_rests(m); n++) {
        live_advance(m, 0.05); /* it runs out */
    }
    must(cvk_session_request(s, &rest) == CVK_OK, m); /* the offsets wander in minutes */
    live_advance(m, 0.3);
    must(cvk_session_request(s, &speed) == CVK_OK, m);
    for (int n = 0; n < 200 && !live_turns(m); n++) {
        live_advance(m, 0.05);
    }
    must(live_turns(m), m);
    live_advance(m, SETTLES_S);
}

void live_open(live_motor *m, const char *motor, int fidelity, uint64_t seed)
{
    cvk_wire wire;
    *m = (live_motor){.bench = bench_with_gains(motor, 3)};
    m->bench.inverter.fidelity = fidelity;
    m->speed_rad_s = there_and_back(&m->bench, 0.4).item[0].request.speed_rad_s;
    must(cvk_sim_controller_open(&m->controller, &m->bench, seed, NULL) == CVK_OK, m);
    must(cvk_sim_wire_open(&wire, m->controller, false) == CVK_OK, m);
    must(cvk_session_open(&m->session, &wire) == CVK_OK, m);
    live_start(m);
}

void live_close(live_motor *m)
{
    cvk_session_close(&m->session);
    cvk_sim_controller_close(m->controller);
}

double live_rise_a(const live_motor *m)
{
    const cvk_rig_config *b = &m->bench;
    return b->supply.bus_v / sqrt(3.0) / fmin(b->motor.inductance_d_h, b->motor.inductance_q_h) /
           b->inverter.pwm_hz;
}
