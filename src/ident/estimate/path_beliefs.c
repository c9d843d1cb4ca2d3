/* SPDX-License-Identifier: Apache-2.0
 *
 * Beliefs of several paths of voltage, and the motor that they share.
 */
#include "path_beliefs.h"

#include <math.h>
#include <string.h>

#define N CVK_B_COUNT
#define NOTHING_KNOWN 30.0    /* prior deviation as a multiple of a typical value */
#define LINEAR_SPREAD 0.2     /* of that, what the magnet has saturated already */
#define SATURATION_SPREAD 0.5 /* loss of inductance at the peak current that is expected */
/* A switch whose resistance is not known: share of the winding's, and how uncertain that is. */
#define SWITCH_SHARE 0.1
#define SWITCH_SPREAD 0.1
#define STATED_SPREAD 0.2  /* of a stated one: it warms up */
#define WARMTH_SPREAD 0.02 /* of a resistance, from one log to another */

static const bool of_motor[N] = {
    [CVK_B_L_D] = true,      [CVK_B_L_Q] = true,      [CVK_B_FLUX] = true,
    [CVK_B_LINEAR_D] = true, [CVK_B_SQUARE_D] = true, [CVK_B_SQUARE_Q] = true};

static void start_path(cvk_belief *belief, cvk_path path, double current_a, double voltage_v,
                       double period_s)
{
    const bool averaged = path == CVK_PATH_AVERAGED;
    const double typical[N] = {
        [CVK_B_RESISTANCE] = 0.1 * voltage_v / current_a,
        [CVK_B_L_D] = 20.0 * period_s * voltage_v / current_a,
        [CVK_B_L_Q] = 20.0 * period_s * voltage_v / current_a,
        [CVK_B_FLUX] = voltage_v / 300.0,
        [CVK_B_DEAD_TIME] = averaged ? 0.0 : 0.01 * voltage_v,
        [CVK_B_DELAY] = averaged ? 0.0 : (path == CVK_PATH_COMMANDED ? 1.0 : 0.3),
    };
    const double saturation = SATURATION_SPREAD / current_a;
    cvk_belief_start(belief, typical, NOTHING_KNOWN);
    belief->cov[CVK_B_DEAD_TIME * (N + 1)] =
        pow((averaged ? CVK_AVERAGED_DEAD : 0.02) * voltage_v, 2.0);
    belief->cov[CVK_B_DELAY * (N + 1)] = pow(averaged ? CVK_AVERAGED_DELAY : 0.8, 2.0);
    belief->cov[CVK_B_LINEAR_D * (N + 1)] = pow(LINEAR_SPREAD / current_a, 2.0);
    belief->cov[CVK_B_SQUARE_D * (N + 1)] = pow(saturation / current_a, 2.0);
    belief->cov[CVK_B_SQUARE_Q * (N + 1)] = pow(saturation / current_a, 2.0);
}

void cvk_path_beliefs_start(cvk_path_beliefs *knowledge, const cvk_prepared *logs, size_t count,
                            double switch_ohm)
{
    double current_a = 1e-3, voltage_v = 1e-3, period_s = 0.0;
    *knowledge = (cvk_path_beliefs){.switch_ohm = switch_ohm};
    for (size_t n = 0; n < count; n++) {
        const cvk_waveforms *s = &logs[n].waveforms;
        if (!logs[n].usable) {
            continue;
        }
        knowledge->present[s->path] = true;
        current_a = fmax(current_a, s->peak_current_a);
        period_s = period_s > 0.0 ? period_s : s->period_s;
        for (size_t k = 0; k < s->rows; k++) {
            voltage_v = fmax(voltage_v, hypot(s->v_alpha[k], s->v_beta[k]));
        }
    }
    for (int path = 0; path < CVK_PATHS; path++) {
        start_path(&knowledge->start[path], (cvk_path)path, current_a, voltage_v, period_s);
        knowledge->of[path] = knowledge->start[path];
    }
}

/* `to` gets the entries of `from` that belong to the motor; their covariance with those of the path
 * is cleared. */
static void copy_motor(cvk_belief *to, const cvk_belief *from)
{
    for (int r = 0; r < N; r++) {
        for (int c = 0; c < N; c++) {
            if (of_motor[r] != of_motor[c]) {
                to->cov[r * N + c] = 0.0;
            } else if (of_motor[r]) {
                to->cov[r * N + c] = from->cov[r * N + c];
            }
        }
        if (of_motor[r]) {
            to->mean[r] = from->mean[r];
            memcpy(to->from[r], from->from[r], sizeof to->from[r]);
        }
    }
}

bool cvk_path_beliefs_told(const cvk_path_beliefs *knowledge, cvk_path path, int parameter)
{
    return knowledge->of[path].from[parameter][0] != '\0';
}

cvk_path cvk_path_beliefs_first(const cvk_path_beliefs *knowledge)
{
    for (int path = 0; path < CVK_PATHS; path++) {
        if (knowledge->present[path] &&
            cvk_path_beliefs_told(knowledge, (cvk_path)path, CVK_B_RESISTANCE)) {
            return (cvk_path)path;
        }
    }
    for (int path = 0; path < CVK_PATHS; path++) {
        if (knowledge->present[path]) {
            return (cvk_path)path;
        }
    }
    return CVK_PATH_COMMANDED;
}

/* Resistance of another path: a switch more, or less. */
static void lend_resistance(const cvk_path_beliefs *k, cvk_path from, cvk_path to,
                            cvk_belief *belief)
{
    const cvk_belief *lender = &k->of[from];
    const double r = lender->mean[CVK_B_RESISTANCE];
    const int switches = (to == CVK_PATH_COMMANDED) - (from == CVK_PATH_COMMANDED);
    const double one = k->switch_ohm > 0.0 ? k->switch_ohm : SWITCH_SHARE * r;
    const double spread = k->switch_ohm > 0.0 ? STATED_SPREAD * one : SWITCH_SPREAD * r;
    belief->mean[CVK_B_RESISTANCE] = r + switches * one;
    cvk_belief_isolate(belief, CVK_B_RESISTANCE,
                       lender->cov[CVK_B_RESISTANCE * (N + 1)] + pow(switches * spread, 2.0) +
                           pow(WARMTH_SPREAD * r, 2.0));
}

void cvk_path_beliefs_join(cvk_path_beliefs *knowledge)
{
    const cvk_path_beliefs own = *knowledge;
    for (int path = 0; path < CVK_PATHS; path++) {
        cvk_belief *belief = &knowledge->of[path];
        for (int other = 0; other < CVK_PATHS; other++) {
            cvk_belief learnt = own.start[path];
            if (other == path || !own.present[other] ||
                own.of[other].from[CVK_B_LINEAR_D][0] == '\0') {
                continue;
            }
            copy_motor(&learnt, &own.of[other]);
            learnt.dof = own.of[other].dof;
            if (cvk_belief_merge(belief, &learnt) &&
                !cvk_path_beliefs_told(&own, (cvk_path)path, CVK_B_RESISTANCE)) {
                lend_resistance(&own, (cvk_path)other, (cvk_path)path, belief);
            }
        }
    }
}

void cvk_path_beliefs_share(cvk_path_beliefs *knowledge, cvk_path from)
{
    for (int path = 0; path < CVK_PATHS; path++) {
        cvk_belief *belief = &knowledge->of[path];
        if (path == (int)from) {
            continue;
        }
        copy_motor(belief, &knowledge->of[from]);
        belief->dof = fmin(belief->dof, knowledge->of[from].dof);
        if (!cvk_path_beliefs_told(knowledge, (cvk_path)path, CVK_B_RESISTANCE) &&
            cvk_path_beliefs_told(knowledge, from, CVK_B_RESISTANCE)) {
            lend_resistance(knowledge, from, (cvk_path)path, belief);
        }
    }
}
