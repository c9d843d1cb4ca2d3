/* SPDX-License-Identifier: Apache-2.0
 *
 * How much of what a standstill log holds is got out of it: the root-mean-square error over many
 * seeds beside the Cramer-Rao bound, with ideal sensing but for white noise of the currents. The
 * bound is the inverse of the Fisher information of all rows, with offsets, delay, dead time and
 * saturation as unknown as the rest.
 *
 *   bench_cramer_rao [SEEDS]      (20)
 */
#include "corvak/ident/estimate.h"
#include "math/numeric.h"
#include "recording.h"
#include "log/waveforms.h"
#include "standstill/standstill_model.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum {
    UNKNOWNS = CVK_SM_COUNT - 1,
    KEYS = 3
}; /* the knee of a voltage that is not there is none */

static const char *const names[KEYS] = {"resistance", "inductance d", "inductance q"};

static double step_of(const double *p, int k, double peak_a)
{
    switch (k) {
    case CVK_SM_RESISTANCE:
        return 1e-4 * p[CVK_SM_RESISTANCE];
    case CVK_SM_L_MEAN:
    case CVK_SM_L_COS:
    case CVK_SM_L_SIN:
        return 1e-4 * p[CVK_SM_L_MEAN];
    case CVK_SM_DEAD_TIME:
        return 1e-4 * p[CVK_SM_RESISTANCE] * peak_a;
    case CVK_SM_DELAY:
        return 1e-4;
    case CVK_SM_LINEAR_Y:
    case CVK_SM_CROSS:
        return 1e-4 / peak_a;
    case CVK_SM_SQUARE_X:
    case CVK_SM_SQUARE_Y:
        return 1e-4 / (peak_a * peak_a);
    default:
        return 1e-4 * peak_a;
    }
}

/* Deviations of R, Ld, Lq that no estimator can beat. */
static bool bound_of(const cvk_waveforms *s, const double p[CVK_SM_COUNT], double noise_a,
                     double out[KEYS])
{
    static const int unknown[UNKNOWNS] = {CVK_SM_RESISTANCE,   CVK_SM_L_MEAN,      CVK_SM_L_COS,
                                          CVK_SM_L_SIN,        CVK_SM_DEAD_TIME,   CVK_SM_DELAY,
                                          CVK_SM_OFFSET_ALPHA, CVK_SM_OFFSET_BETA, CVK_SM_SQUARE_X,
                                          CVK_SM_SQUARE_Y,     CVK_SM_LINEAR_Y,    CVK_SM_CROSS};
    const size_t m = 2u * s->rows;
    const cvk_span rows = {0, s->rows};
    double *middle = malloc(m * sizeof *middle), *slope = malloc(UNKNOWNS * m * sizeof *slope);
    double information[UNKNOWNS * UNKNOWNS] = {0}, step[UNKNOWNS];
    const double *lane = p;
    bool fine =
        middle != NULL && slope != NULL && cvk_sm_simulate(s, NULL, rows, 0, 0, 1, &lane, &middle);
    for (int k = 0; k < UNKNOWNS && fine; k++) {
        double moved[CVK_SM_COUNT], *here = slope + (size_t)k * m;
        memcpy(moved, p, sizeof moved);
        step[k] = step_of(p, unknown[k], s->peak_current_a);
        moved[unknown[k]] += step[k];
        lane = moved;
        fine = cvk_sm_simulate(s, NULL, rows, 0, 0, 1, &lane, &here);
        for (size_t r = 0; r < m; r++) {
            here[r] -= middle[r];
        }
    }
    for (int e = 0; e < UNKNOWNS * UNKNOWNS && fine; e++) {
        const double *a = slope + (size_t)(e / UNKNOWNS) * m,
                     *b = slope + (size_t)(e % UNKNOWNS) * m;
        for (size_t r = 0; r < m; r++) {
            information[e] += a[r] * b[r] / (noise_a * noise_a);
        }
    }
    fine = fine && cvk_invert_spd(UNKNOWNS, information);
    const double saliency = hypot(p[CVK_SM_L_COS], p[CVK_SM_L_SIN]);
    const double c = p[CVK_SM_L_COS] / saliency, d = p[CVK_SM_L_SIN] / saliency;
    const double along[KEYS][4] = {{1, 0, 0, 0}, {0, 1, -c, -d}, {0, 1, c, d}};
    for (int key = 0; key < KEYS && fine; key++) {
        double sum = 0.0;
        for (int e = 0; e < 16; e++) {
            sum += along[key][e / 4] * step[e / 4] * information[(e / 4) * UNKNOWNS + e % 4] *
                   step[e % 4] * along[key][e % 4];
        }
        out[key] = sqrt(sum);
    }
    free(middle);
    free(slope);
    return fine;
}

static void judge(const char *name, int seeds)
{
    static cvk_estimate estimate;
    const cvk_estimate_options options = cvk_estimate_options_default();
    cvk_rig_config rig = studio_rig(name);
    double square[KEYS] = {0}, bound[KEYS] = {0};
    if (!cvk_rig_switch(&rig, "all", false) || !cvk_rig_switch(&rig, "current_noise", true)) {
        exit(2);
    }
    const double truth[KEYS] = {rig.motor.resistance_ohm, rig.motor.inductance_d_h,
                                rig.motor.inductance_q_h};
    const double noise_a = rig.sensing.current_noise_a * sqrt(2.0 / 3.0);
    for (int seed = 1; seed <= seeds; seed++) {
        recording r;
        cvk_waveforms waveforms = {.rows = 0};
        record(&r, &rig, "standstill", 300u + (uint64_t)seed, false);
        const cvk_log *logs[] = {&r.log};
        if (cvk_estimate_logs(logs, 1, &options, &estimate) != CVK_OK ||
            (seed == 1 &&
             cvk_waveforms_from_log(&waveforms, &r.log, &options, &estimate) != CVK_OK)) {
            fprintf(stderr, "%s: nothing estimated\n", name);
            exit(2);
        }
        for (int k = 0; k < KEYS; k++) {
            square[k] += pow(estimate.card.entry[k].value - truth[k], 2.0) / seeds;
        }
        /* at standstill the magnet lies along phase a: the high axis is beta */
        const double p[CVK_SM_COUNT] = {[CVK_SM_RESISTANCE] = truth[0],
                                        [CVK_SM_L_MEAN] = 0.5 * (truth[1] + truth[2]),
                                        [CVK_SM_L_COS] =
                                            -0.5 * fmax(truth[2] - truth[1], 1e-3 * truth[1]),
                                        [CVK_SM_LOG_KNEE] = log(0.02 * rig.tune.limit.current_a),
                                        [CVK_SM_DELAY] = 1.0};
        if (seed == 1 && !bound_of(&waveforms, p, noise_a, bound)) {
            fprintf(stderr, "%s: no bound\n", name);
            exit(2);
        }
        cvk_waveforms_free(&waveforms);
        recording_free(&r);
    }
    for (int k = 0; k < KEYS; k++) {
        printf("%-8s %-14s %9.5f %% %9.5f %% %8.2f\n", name, names[k],
               100.0 * sqrt(square[k]) / truth[k], 100.0 * bound[k] / truth[k],
               sqrt(square[k]) / bound[k]);
    }
    fflush(stdout);
}

int main(int argc, char **argv)
{
    static const char *const motors[] = {"wheel", "blower", "mixer", "table"};
    int seeds = argc > 1 ? atoi(argv[1]) : 20;
    printf("%d seeds%21s %11s %11s %8s\n", seeds, "", "rms error", "bound", "ratio");
    for (size_t m = 0; m < sizeof motors / sizeof motors[0] && seeds > 0; m++) {
        judge(motors[m], seeds);
    }
    return 0;
}
