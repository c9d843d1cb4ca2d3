/* SPDX-License-Identifier: Apache-2.0
 *
 * Agreement of the logs. The odd one out is the log whose reading lies farthest from the others'
 * weighted mean, in deviations of their difference.
 */
#include "agreement.h"

#include <math.h>
#include <stdio.h>

#define READABLE 0.25 /* a reading is kept when its deviation is below this share of its value */
#define MODEL_SHARE 0.004 /* what no model is better than, from log to log */
#define SURE_APART 4.0    /* deviations */
/* Values that are surely apart, but by less than this share, are widened over, not refused: copper
 * changes by 0.4 % a kelvin, magnets by 0.1 to 0.2 %; inductances by nothing. */
#define WARM_RESISTANCE 0.13
#define WARM_FLUX 0.05
#define WARM_INDUCTANCE 0.02

void cvk_add_reading(cvk_readings *readings, const char *log, cvk_path path,
                     const cvk_belief *belief, int parameter)
{
    if (readings->count < CVK_MOST_READINGS && cvk_belief_knows(belief, parameter, READABLE)) {
        readings->reading[readings->count++] = (cvk_reading){
            log, parameter, path, belief->mean[parameter],
            hypot(cvk_belief_deviation(belief, parameter), MODEL_SHARE * belief->mean[parameter])};
    }
}

static bool concerns(const cvk_reading *r, int parameter, cvk_path path)
{
    return r->parameter == parameter && (parameter != CVK_B_RESISTANCE || r->path == path);
}

/* Weighted mean of the others than `but`; false when there are none. */
static bool mean_of_others(const cvk_readings *all, size_t but, double *value, double *deviation)
{
    const cvk_reading *odd = &all->reading[but];
    double weight = 0.0, sum = 0.0;
    for (size_t n = 0; n < all->count; n++) {
        const cvk_reading *r = &all->reading[n];
        if (n != but && concerns(r, odd->parameter, odd->path)) {
            double w = 1.0 / (r->deviation * r->deviation);
            weight += w;
            sum += w * r->value;
        }
    }
    *value = sum / weight;
    *deviation = 1.0 / sqrt(weight);
    return weight > 0.0;
}

static double warm_share(int parameter)
{
    return parameter == CVK_B_RESISTANCE ? WARM_RESISTANCE
           : parameter == CVK_B_FLUX     ? WARM_FLUX
                                         : WARM_INDUCTANCE;
}

static const char *name_of(int parameter)
{
    static const char *const names[CVK_B_COUNT] = {[CVK_B_RESISTANCE] = "resistance_ohm",
                                                   [CVK_B_L_D] = "inductance_d_h",
                                                   [CVK_B_L_Q] = "inductance_q_h",
                                                   [CVK_B_FLUX] = "flux_linkage_wb"};
    return names[parameter];
}

cvk_agreement cvk_agree(const cvk_readings *all, int parameter, cvk_path path)
{
    cvk_agreement out = {.lowest = NAN, .highest = NAN};
    size_t odd = all->count;
    double farthest = SURE_APART, value = NAN, others = NAN, deviation = NAN;
    double lowest = INFINITY, highest = -INFINITY;
    for (size_t n = 0; n < all->count; n++) {
        const cvk_reading *r = &all->reading[n];
        if (!concerns(r, parameter, path) || !mean_of_others(all, n, &value, &deviation)) {
            continue;
        }
        lowest = fmin(lowest, r->value);
        highest = fmax(highest, r->value);
        double apart = fabs(r->value - value) / hypot(r->deviation, deviation);
        if (apart > farthest) {
            farthest = apart;
            odd = n;
            others = value;
        }
    }
    if (odd == all->count) {
        return out;
    }
    if (highest - lowest < warm_share(parameter) * highest) {
        out.lowest = lowest;
        out.highest = highest;
        return out;
    }
    out.contradicts = true;
    snprintf(out.why, sizeof out.why,
             "the logs contradict each other: %s is %.4g in %s and %.4g in the others, %.0f times "
             "what both leave open: another motor, another unit, or another temperature? Leave "
             "that log out, or estimate it alone",
             name_of(parameter), all->reading[odd].value, all->reading[odd].log, others, farthest);
    return out;
}
