/* SPDX-License-Identifier: Apache-2.0
 *
 * What a value on the card may be off by beside its fit: gains of the channels, what no model has,
 * late readings.
 */
#include "card_doubts.h"

#include "math/numeric.h"

#include <math.h>
#include <stdio.h>

#define USEFUL_SHARE 0.2 /* an entry is given when its deviation is below this share */
/* Of the flux linkage and the inverter's voltage, as those of the winding (card_doubts.h). */
#define FLOOR_FLUX 1.2e-3
#define FLOOR_FLUX_PART_COASTING 1e-3 /* where a motor without current is among the logs, */
#define FLOOR_FLUX_COASTING 5e-4      /* or is alone */
#define FLOOR_DEAD_TIME 5e-4
/* What a bench has that is in no model and looks like resistance: the bus sags behind its
 * capacitor's resistance while a leg is high, not when it is sampled; diodes and transistors make
 * the inverter's voltage rise with current. And like inductance: the currents at the edges are not
 * their mean while the injected voltage drives them. Deviations. */
#define CAPACITOR_OHM 3e-3 /* expected, */
#define CAPACITOR_DEVIATION_OHM 3e-3
#define RISE 1.25 /* of a square from half to full, over its mean: 1.5, or 1 about no current */
#define TURNING_OHM 0.4e-3 /* what turning duties make of it, beside that (bench/spice.py) */
#define OWN_RISE 0.026     /* of the inverter's voltage */
#define EDGE_SHARE 0.024   /* of its share of the largest voltage */
/* Of an inductance, times the share of it that is lost at the largest current. */
#define SERIES_DOUBT 0.015
#define BOUND_TO_95 0.95 /* half width of 95 % of an even distribution within a bound */

/* What the person states, else the largest that a log states, else the default. */
static double tolerance(double option, const cvk_log *const *logs, size_t count, bool current)
{
    double stated = -1.0;
    for (size_t n = 0; n < count; n++) {
        stated = fmax(stated,
                      current ? logs[n]->current_gain_tolerance : logs[n]->voltage_gain_tolerance);
    }
    double otherwise =
        current ? CVK_DEFAULT_CURRENT_GAIN_TOLERANCE : CVK_DEFAULT_VOLTAGE_GAIN_TOLERANCE;
    return option >= 0.0 ? option : (stated >= 0.0 ? stated : otherwise);
}

cvk_scale_share cvk_scale_of(const cvk_log *const *logs, size_t count,
                             const cvk_estimate_options *options)
{
    double delay_s = 0.0;
    bool stated = count > 0;
    for (size_t n = 0; n < count; n++) {
        stated = stated && logs[n]->current_delay_s >= 0.0;
        delay_s += logs[n]->current_delay_s / (double)count;
    }
    return (cvk_scale_share){
        BOUND_TO_95 * tolerance(options->current_gain_tolerance, logs, count, true),
        BOUND_TO_95 * tolerance(options->voltage_gain_tolerance, logs, count, false),
        stated ? delay_s : 0.0, stated ? CVK_STATED_LATE_DOUBT_S : CVK_LATE_DOUBT_S};
}

void cvk_fill_entry(cvk_card_entry *entry, double value, double half, double scale,
                    const char *from)
{
    const double all = hypot(half, scale * value);
    *entry = (cvk_card_entry){.known = true,
                              .value = value,
                              .statistical_low = value - half,
                              .statistical_high = value + half,
                              .low = value - all,
                              .high = value + all};
    snprintf(entry->from, sizeof entry->from, "%s", from);
}

/* How the inductances fall is a series cut short: what it leaves out looks like some inductance. */
static double series_doubt(const cvk_belief *belief, double reach_a)
{
    const double square = reach_a * reach_a;
    const double q = fabs(belief->mean[CVK_B_SQUARE_Q]) * square;
    const double d =
        fabs(belief->mean[CVK_B_SQUARE_D]) * square + fabs(belief->mean[CVK_B_LINEAR_D]) * reach_a;
    return SERIES_DOUBT * fmax(d, q) / (1.0 + fmax(d, q));
}

bool cvk_any_coasting(const cvk_windows *windows)
{
    for (size_t n = 0; n < windows->count; n++) {
        if (windows->window[n].current_a == 0.0) {
            return true;
        }
    }
    return false;
}

double cvk_flux_floor(const cvk_windows *windows)
{
    if (!cvk_any_coasting(windows)) {
        return FLOOR_FLUX;
    }
    return cvk_any_current(windows) ? FLOOR_FLUX_PART_COASTING : FLOOR_FLUX_COASTING;
}

cvk_reach cvk_reach_of(const cvk_prepared *logs, size_t count, cvk_path path)
{
    cvk_reach r = {.commanded = path == CVK_PATH_COMMANDED};
    for (size_t n = 0; n < count; n++) {
        const cvk_waveforms *s = &logs[n].waveforms;
        if (!logs[n].usable || logs[n].still_count == 0) {
            continue;
        }
        r.largest_a = fmax(r.largest_a, s->peak_current_a);
        if (s->path == path && s->peak_current_a > r.current_a) {
            r.current_a = s->peak_current_a;
            r.voltage_v = cvk_largest_voltage(s, (cvk_span){0, s->rows});
            r.bus_v = s->bus_v;
        }
    }
    return r;
}

/* The inverter's own voltage as a vector: legs that all lose theirs, one against two. */
static double own_vector(const cvk_belief *belief)
{
    return 4.0 / 3.0 * fabs(belief->mean[CVK_B_DEAD_TIME]);
}

/* Ohm in the winding that an ohm of the bus capacitor looks like at standstill: by how much the
 * share of the bus that a current takes grows with it. 0: not to be told. */
static double capacitor_share(const cvk_belief *belief, const cvk_reach *r)
{
    const double drop_v = belief->mean[CVK_B_RESISTANCE] * r->current_a;
    return r->commanded && !r->turning && r->current_a > 0.0 && r->bus_v > 0.0
               ? RISE * (drop_v + own_vector(belief)) / r->bus_v
               : 0.0;
}

/* Relative deviation by what a bench has beside the model. */
static double bench_doubt(const cvk_belief *belief, int parameter, const cvk_reach *r)
{
    const double own_v = own_vector(belief), resistance_ohm = belief->mean[CVK_B_RESISTANCE];
    if (r->commanded && r->turning && parameter == CVK_B_RESISTANCE) {
        return TURNING_OHM / resistance_ohm;
    }
    if (!r->commanded || r->turning || !(r->current_a > 0.0) || !(r->voltage_v > 0.0)) {
        return 0.0;
    }
    if (parameter == CVK_B_L_D || parameter == CVK_B_L_Q) {
        return EDGE_SHARE * own_v / r->voltage_v;
    }
    return parameter == CVK_B_RESISTANCE && resistance_ohm > 0.0
               ? hypot(CAPACITOR_DEVIATION_OHM * capacitor_share(belief, r),
                       OWN_RISE * own_v / r->current_a) /
                     resistance_ohm
               : 0.0;
}

static double scale_for(int parameter, cvk_scale_share scale)
{
    switch (parameter) {
    case CVK_B_DELAY:
        return 0.0;
    case CVK_B_FLUX:
    case CVK_B_DEAD_TIME:
        return scale.voltage;
    default:
        return hypot(scale.voltage, scale.current);
    }
}

/* Share by which readings that are `delay_s` old make resistance, inductance and a driven motor's
 * flux linkage come out low: where they are taken the winding gets no voltage, and the current
 * falls by the drop and the back-EMF over the inductance. */
static double late_share(const cvk_belief *belief, int parameter, double delay_s)
{
    const bool counts = parameter != CVK_B_DEAD_TIME && parameter != CVK_B_DELAY;
    const int axis = parameter == CVK_B_L_D ? CVK_B_L_D : CVK_B_L_Q;
    return counts && cvk_belief_knows(belief, CVK_B_RESISTANCE, USEFUL_SHARE) &&
                   cvk_belief_knows(belief, axis, USEFUL_SHARE)
               ? delay_s * belief->mean[CVK_B_RESISTANCE] / belief->mean[axis]
               : 0.0;
}

void cvk_write_entry(cvk_card_entry *entry, const cvk_belief *belief, int parameter, double dof,
                     const cvk_scale_share *share, const cvk_reach *r)
{
    const double floors[CVK_B_COUNT] = {[CVK_B_RESISTANCE] = CVK_FLOOR_RESISTANCE,
                                        [CVK_B_L_D] = CVK_FLOOR_INDUCTANCE,
                                        [CVK_B_L_Q] = CVK_FLOOR_INDUCTANCE,
                                        [CVK_B_FLUX] = r->flux_floor,
                                        [CVK_B_DEAD_TIME] = FLOOR_DEAD_TIME};
    const double in_bus =
        parameter == CVK_B_RESISTANCE ? CAPACITOR_OHM * capacitor_share(belief, r) : 0.0;
    const double value =
        (belief->mean[parameter] - in_bus) * (1.0 + late_share(belief, parameter, share->delay_s));
    const bool inductance = parameter == CVK_B_L_D || parameter == CVK_B_L_Q;
    const double floor =
        hypot(floors[parameter], inductance ? series_doubt(belief, r->largest_a) : 0.0);
    const double late_doubt = late_share(belief, parameter, share->delay_doubt_s);
    const double deviation =
        hypot(cvk_belief_deviation(belief, parameter),
              hypot(hypot(floor, late_doubt), bench_doubt(belief, parameter, r)) * value);
    cvk_fill_entry(entry, value, cvk_student95(dof) * deviation, scale_for(parameter, *share),
                   belief->from[parameter]);
}
