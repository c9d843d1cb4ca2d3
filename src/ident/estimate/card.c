/* SPDX-License-Identifier: Apache-2.0
 *
 * Names of the card's keys and the quantities that follow from several entries.
 */
#include "corvak/ident/card.h"

#include "corvak/core/units.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

const char *cvk_card_key_name(cvk_card_key key)
{
    static const char *const names[CVK_CARD_COUNT] = {
        [CVK_CARD_RESISTANCE] = "resistance_ohm",
        [CVK_CARD_INDUCTANCE_D] = "inductance_d_h",
        [CVK_CARD_INDUCTANCE_Q] = "inductance_q_h",
        [CVK_CARD_FLUX_LINKAGE] = "flux_linkage_wb",
        [CVK_CARD_POLE_PAIRS] = "pole_pairs",
        [CVK_CARD_INERTIA] = "inertia_kg_m2",
        [CVK_CARD_FRICTION_COULOMB] = "friction_coulomb_nm",
        [CVK_CARD_FRICTION_VISCOUS] = "friction_viscous_nm_s",
        [CVK_CARD_DEAD_TIME_VOLTAGE] = "dead_time_voltage_v",
        [CVK_CARD_WINDING_RESISTANCE] = "winding_resistance_ohm",
        [CVK_CARD_RESISTANCE_25] = "resistance_25degc_ohm",
        [CVK_CARD_DELAY] = "delay_periods",
        [CVK_CARD_LINEAR_D] = "inductance_d_linear_per_a",
        [CVK_CARD_SQUARE_D] = "inductance_d_square_per_a2",
        [CVK_CARD_SQUARE_Q] = "inductance_q_square_per_a2",
        [CVK_CARD_CROSS] = "inductance_cross_per_a",
    };
    return (unsigned)key < CVK_CARD_COUNT ? names[key] : NULL;
}

cvk_card_key cvk_card_key_of(const char *name)
{
    int key = 0;
    while (key < CVK_CARD_COUNT && strcmp(cvk_card_key_name((cvk_card_key)key), name) != 0) {
        key++;
    }
    return (cvk_card_key)key;
}

static void scale_entry(cvk_card_entry *entry, double factor)
{
    entry->value *= factor;
    entry->low *= factor;
    entry->high *= factor;
    entry->statistical_low *= factor;
    entry->statistical_high *= factor;
}

/* Momentum balance: J w_mech = torque * time, torque = 1.5 p flux i, w_mech = w / p. */
static void rescale_mechanics(cvk_card *card, cvk_card_key key, double factor)
{
    static const cvk_card_key keys[] = {CVK_CARD_INERTIA, CVK_CARD_FRICTION_COULOMB,
                                        CVK_CARD_FRICTION_VISCOUS};
    for (size_t n = 0; n < sizeof keys / sizeof keys[0]; n++) {
        cvk_card_entry *entry = &card->entry[keys[n]];
        if (!entry->known || entry->by_hand) {
            continue;
        }
        const bool squared = key == CVK_CARD_POLE_PAIRS && keys[n] != CVK_CARD_FRICTION_COULOMB;
        const size_t used = strlen(entry->from);
        scale_entry(entry, squared ? factor * factor : factor);
        snprintf(entry->from + used, sizeof entry->from - used, "; rescaled for %s set by hand",
                 cvk_card_key_name(key));
    }
}

static bool may_be(cvk_card_key key, double value)
{
    if (key == CVK_CARD_POLE_PAIRS) {
        return value >= 1.0 && value <= 200.0 && value == floor(value);
    }
    return isfinite(value) &&
           (value > 0.0 || key >= CVK_CARD_MOTOR_COUNT ||
            (value == 0.0 && key >= CVK_CARD_FRICTION_COULOMB && key <= CVK_CARD_FRICTION_VISCOUS));
}

cvk_status cvk_card_set(cvk_card *card, cvk_card_key key, double value, double low, double high,
                        const char *reason)
{
    if (card == NULL || reason == NULL) {
        return CVK_NULL_ARGUMENT;
    }
    if ((unsigned)key >= CVK_CARD_COUNT || !may_be(key, value) ||
        !(low <= value && value <= high) || !isfinite(low) || !isfinite(high)) {
        return CVK_OUT_OF_RANGE;
    }
    cvk_card_entry *entry = &card->entry[key];
    const bool scales = entry->known && entry->value > 0.0 &&
                        (key == CVK_CARD_POLE_PAIRS || key == CVK_CARD_FLUX_LINKAGE);
    const double factor = scales ? value / entry->value : 1.0;
    *entry = (cvk_card_entry){.known = true,
                              .by_hand = true,
                              .value = value,
                              .low = low,
                              .high = high,
                              .statistical_low = low,
                              .statistical_high = high,
                              .probability = 1.0};
    snprintf(entry->from, sizeof entry->from, "%s", reason);
    if (factor != 1.0) {
        rescale_mechanics(card, key, factor);
    }
    return CVK_OK;
}

bool cvk_card_agree(const cvk_card_entry *a, const cvk_card_entry *b, double *ratio)
{
    double width = hypot(0.5 * (a->high - a->low), 0.5 * (b->high - b->low));
    double distance = fabs(a->value - b->value);
    *ratio = distance == 0.0 ? 0.0 : distance / width;
    return *ratio <= 1.0;
}

bool cvk_card_meter_resistance(const cvk_card *card, cvk_card_entry *out)
{
    const cvk_card_entry *winding = &card->entry[CVK_CARD_WINDING_RESISTANCE];
    *out = winding->known ? *winding : card->entry[CVK_CARD_RESISTANCE];
    scale_entry(out, 2.0);
    return out->known;
}

bool cvk_card_meter_inductance(const cvk_card *card, double angle_rad, cvk_card_entry *out)
{
    const cvk_card_entry *d = &card->entry[CVK_CARD_INDUCTANCE_D];
    const cvk_card_entry *q = &card->entry[CVK_CARD_INDUCTANCE_Q];
    if (!d->known || !q->known) {
        return false;
    }
    *out = *d;
    if (isnan(angle_rad)) { /* anywhere between the axes */
        out->low = 2.0 * fmin(d->low, q->low);
        out->high = 2.0 * fmax(d->high, q->high);
        out->value = 0.5 * (out->low + out->high);
        return true;
    }
    double on_d = cos(angle_rad) * cos(angle_rad), on_q = 1.0 - on_d;
    double half = hypot(on_d * (d->high - d->low), on_q * (q->high - q->low));
    out->value = 2.0 * (on_d * d->value + on_q * q->value);
    out->low = out->value - half;
    out->high = out->value + half;
    return true;
}

/* factor * flux, or factor / flux, with the flux's interval carried along. */
static cvk_card_entry scaled_flux(const cvk_card_entry *flux, double factor, bool inverse)
{
    cvk_card_entry out = *flux;
    out.value = inverse ? factor / flux->value : factor * flux->value;
    out.low = inverse ? factor / flux->high : factor * flux->low;
    out.high = inverse ? factor / flux->low : factor * flux->high;
    out.statistical_low =
        inverse ? factor / flux->statistical_high : factor * flux->statistical_low;
    out.statistical_high =
        inverse ? factor / flux->statistical_low : factor * flux->statistical_high;
    return out;
}

static bool flux_and_pole_pairs(const cvk_card *card)
{
    return card->entry[CVK_CARD_FLUX_LINKAGE].known && card->entry[CVK_CARD_POLE_PAIRS].known;
}

bool cvk_card_torque_constant(const cvk_card *card, cvk_card_entry *out)
{
    if (!flux_and_pole_pairs(card)) {
        return false;
    }
    double p = card->entry[CVK_CARD_POLE_PAIRS].value;
    *out = scaled_flux(&card->entry[CVK_CARD_FLUX_LINKAGE], 1.5 * p, false);
    return true;
}

bool cvk_card_rpm_per_volt(const cvk_card *card, cvk_card_entry *out)
{
    if (!flux_and_pole_pairs(card)) {
        return false;
    }
    double p = card->entry[CVK_CARD_POLE_PAIRS].value;
    double rpm_per_rad_s = CVK_RPM_PER_RAD_S;
    *out = scaled_flux(&card->entry[CVK_CARD_FLUX_LINKAGE], rpm_per_rad_s / (sqrt(3.0) * p), true);
    return true;
}

/* Share of the value that both cards' common gains leave open, which does not average out. */
static double scale_of(const cvk_card_entry *e)
{
    const double all = 0.5 * (e->high - e->low);
    const double own = 0.5 * (e->statistical_high - e->statistical_low);
    return all > own ? sqrt(all * all - own * own) / fabs(e->value) : 0.0;
}

/* What both say, weighed. The interval stays that of the sharper one: what no model is better than
 * does not average out. */
static void weigh_entries(cvk_card_entry *e, const cvk_card_entry *other)
{
    const double a = fmax(0.5 * (e->statistical_high - e->statistical_low), 1e-9 * e->value);
    const double b =
        fmax(0.5 * (other->statistical_high - other->statistical_low), 1e-9 * other->value);
    const double weight = 1.0 / (a * a) + 1.0 / (b * b);
    const double scale = fmax(scale_of(e), scale_of(other));
    e->value = (e->value / (a * a) + other->value / (b * b)) / weight;
    const double half = fmin(a, b), all = hypot(half, scale * e->value);
    e->statistical_low = e->value - half;
    e->statistical_high = e->value + half;
    e->low = e->value - all;
    e->high = e->value + all;
}

static void join_pole_pairs(cvk_card_entry *e, const cvk_card_entry *other)
{
    e->probability = 1.0 - (1.0 - e->probability) * (1.0 - other->probability);
}

static bool contradict(const cvk_card_entry *e, const cvk_card_entry *other, cvk_card_key key)
{
    double ratio = 0.0;
    return key == CVK_CARD_POLE_PAIRS ? e->value != other->value
                                      : !cvk_card_agree(e, other, &ratio);
}

/* False when they contradict each other. */
static bool join_entry(cvk_card_entry *e, const cvk_card_entry *other, cvk_card_key key)
{
    if (!other->known || (e->known && e->by_hand)) {
        return true;
    }
    if (!e->known || other->by_hand) {
        *e = *other;
        return true;
    }
    if (contradict(e, other, key)) {
        const double here = e->value, there = other->value;
        *e = (cvk_card_entry){.known = false};
        snprintf(e->missing, sizeof e->missing,
                 "the cards contradict each other: %.5g here, %.5g on the other: another motor, or "
                 "another temperature?",
                 here, there);
        return false;
    }
    if (strstr(e->from, other->from) != NULL || strstr(other->from, e->from) != NULL) {
        *e = strlen(other->from) > strlen(e->from) ? *other
                                                   : *e; /* the same logs tell nothing new */
        return true;
    }
    if (key == CVK_CARD_POLE_PAIRS) {
        join_pole_pairs(e, other);
    } else {
        weigh_entries(e, other);
    }
    const size_t used = strlen(e->from);
    snprintf(e->from + used, sizeof e->from - used, "; %s", other->from);
    return true;
}

int cvk_card_join(cvk_card *card, const cvk_card *other)
{
    int contradictions = 0;
    for (int key = 0; key < CVK_CARD_COUNT; key++) {
        contradictions += !join_entry(&card->entry[key], &other->entry[key], (cvk_card_key)key);
    }
    return contradictions;
}
