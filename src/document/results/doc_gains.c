/* SPDX-License-Identifier: Apache-2.0
 *
 * Gains and what they are expected to do; what a PWM frequency costs.
 */
#include "common.h"

#include "corvak/core/units.h"
#include "corvak/document/number.h"
#include "corvak/files/tune_yaml.h"

#include <math.h>

static void put_parameters(cvk_doc *doc, const cvk_gains *g)
{
    const double pole_pairs = (double)g->settings.motor.pole_pairs;
    cvk_doc_table(doc, "parameters", "");
    for (unsigned n = 0; n < g->items; n++) {
        const cvk_parameter *row = g->item[n].parameter;
        const double number = (double)cvk_parameter_get(&g->settings, row);
        char value[40], *key = g_strconcat(row->section, ".", row->name, NULL);
        cvk_parameter_text(row, (float)number, value, sizeof value);
        cvk_doc_row(doc, key, key);
        cvk_doc_number(doc, "value", NULL, number);
        cvk_doc_text(doc, NULL, "value", row->kind == CVK_REAL ? digits(number, 4) : value);
        cvk_doc_text(doc, NULL, "unit", row->unit);
        cvk_doc_text(doc, "from", "from", g->item[n].from);
        if (g_str_has_suffix(row->name, "speed_rad_s") && pole_pairs > 0.0) {
            cvk_doc_remark(doc, "(%s rpm)", digits(CVK_RPM_PER_RAD_S * number / pole_pairs, 3));
        }
        cvk_doc_end(doc);
        g_free(key);
    }
    cvk_doc_end(doc);
}

static void put_current_loop(cvk_doc *doc, const cvk_loop_prediction *c)
{
    cvk_doc_begin(doc, "current_loop", "current loop");
    cvk_doc_number(doc, "bandwidth_hz", "bandwidth", c->bandwidth_hz);
    cvk_doc_unit(doc, "Hz", 1.0);
    cvk_doc_number(doc, "rise_periods", "63 % of a step after", c->rise_periods);
    cvk_doc_number(doc, "overshoot", "overshoot", c->overshoot);
    cvk_doc_unit(doc, "%", 100.0);
    cvk_doc_digits(doc, 2);
    cvk_doc_remark(doc, ", at worst over the card's intervals %s %%",
                   digits(100.0 * c->worst_overshoot, 2));
    cvk_doc_number(doc, "margin_rad", "phase margin", c->margin_rad);
    cvk_doc_digits(doc, 2);
    cvk_doc_remark(doc, ", at worst over the card's intervals %.0f°",
                   CVK_DEG_PER_RAD * c->worst_margin_rad);
    cvk_doc_number(doc, "worst_margin_rad", NULL, c->worst_margin_rad);
    cvk_doc_number(doc, "worst_overshoot", NULL, c->worst_overshoot);
    cvk_doc_end(doc);
}

/* Null where the card has no inertia. */
static void put_motion(cvk_doc *doc, const char *key, const char *label,
                       const cvk_motion_prediction *m)
{
    if (!(m->bandwidth_rad_s > 0.0)) {
        cvk_doc_text(doc, key, NULL, NULL);
        return;
    }
    cvk_doc_begin(doc, key, label);
    cvk_doc_number(doc, "bandwidth_rad_s", "bandwidth", m->bandwidth_rad_s);
    cvk_doc_digits(doc, 3);
    cvk_doc_number(doc, "margin_rad", "phase margin", m->margin_rad);
    cvk_doc_digits(doc, 2);
    cvk_doc_remark(doc, ", at worst over inertia, load and observer %.0f°",
                   CVK_DEG_PER_RAD * m->worst_margin_rad);
    cvk_doc_number(doc, "worst_margin_rad", NULL, m->worst_margin_rad);
    cvk_doc_number(doc, "stiffness_nm_rad", "stiffness at the shaft", m->stiffness_nm_rad);
    cvk_doc_digits(doc, 3);
    cvk_doc_number(doc, "damping_nms_rad", "damping at the shaft", m->damping_nms_rad);
    cvk_doc_digits(doc, 3);
    cvk_doc_end(doc);
}

static void put_ends(cvk_doc *doc, const cvk_gains *g)
{
    const double pole_pairs = fmax((double)g->settings.motor.pole_pairs, 1.0);
    cvk_doc_begin(doc, NULL, "ends");
    cvk_doc_number(doc, NULL, "top speed", g->top_speed_rad_s);
    cvk_doc_unit(doc, "rpm", CVK_RPM_PER_RAD_S / pole_pairs);
    cvk_doc_remark(doc, "at the end of the linear range, %s rad/s electrical",
                   digits(g->top_speed_rad_s, 4));
    if (g->hides_a > 0.0) {
        char *text = g_strdup_printf(
            "%s A along the magnets would hide the angle of this salient motor (limit.current_a "
            "%s A): it starts best by --injection; without, the first attempt takes only %s A",
            digits(g->hides_a, 3), digits((double)g->settings.limit.current_a, 3),
            digits(g->first_a, 3));
        cvk_doc_text(doc, NULL, "start", text);
        g_free(text);
    }
    cvk_doc_end(doc);
    cvk_doc_number(doc, "top_speed_rad_s", NULL, g->top_speed_rad_s);
}

/* ---- the PWM frequency ---------------------------------------------------------------------- */

static const struct {
    const char *key, *label;
    double factor;
    const char *unit;
} costs[CVK_PWM_COSTS] = {
    [CVK_PWM_RIPPLE] = {"ripple_share", "ripple p-p", 100.0, "%"},
    [CVK_PWM_CAPACITOR] = {"bus_ripple_share", "bus ripple", 100.0, "%"},
    [CVK_PWM_ANGLE] = {"angle_per_period_rad", "per period", 1.0, "rad"},
    [CVK_PWM_DEAD_TIME] = {"dead_time_share", "dead time", 100.0, "%"},
    [CVK_PWM_SWITCHING] = {"switching_to_conduction", "switching/conduction", 1.0, ""},
    [CVK_PWM_BLOCKED] = {"blocked_rotor_share", "blocked rotor", 100.0, "%"}};

static void put_frequency(cvk_doc *doc, const char *label, const double *cost, double bandwidth_hz,
                          const char *word)
{
    cvk_doc_row(doc, NULL, label);
    for (int c = 0; c < CVK_PWM_COSTS; c++) {
        cvk_doc_number(doc, NULL, costs[c].label, cost[c]);
        cvk_doc_unit(doc, costs[c].unit, costs[c].factor);
        cvk_doc_digits(doc, 3);
    }
    cvk_doc_number(doc, NULL, "fastest loop", bandwidth_hz);
    cvk_doc_unit(doc, "Hz", 1.0);
    cvk_doc_text(doc, NULL, "", word);
    cvk_doc_end(doc);
}

static void put_frequencies(cvk_doc *doc, const cvk_pwm_advice *a)
{
    double limit[CVK_PWM_COSTS];
    cvk_doc_table(doc, NULL, "PWM frequency");
    for (size_t n = 0; n < a->count; n++) {
        char *label = g_strdup_printf("%s kHz", digits(1e-3 * a->row[n].pwm_hz, 4));
        put_frequency(doc, label, a->row[n].cost, a->row[n].bandwidth_hz,
                      n == a->present   ? "as it is"
                      : n == a->best    ? "best"
                      : n == a->poorest ? "poorest"
                                        : "");
        g_free(label);
    }
    for (int c = 0; c < CVK_PWM_COSTS; c++) {
        limit[c] = cvk_pwm_limit((cvk_pwm_cost)c);
    }
    put_frequency(doc, "usual limit", limit, (double)NAN, "at most");
    cvk_doc_end(doc);
}

static void put_advice(cvk_doc *doc, const cvk_pwm_advice *a)
{
    const cvk_pwm_row *poorest = &a->row[a->poorest], *best = &a->row[a->best],
                      *now = &a->row[a->present];
    cvk_doc_note(
        doc,
        "At %s kHz the %s comes nearest to its usual limit: %.0f %% of it. Poorest here is %s kHz "
        "(%s at %.0f %%), best %s kHz (%s at %.0f %%). The bus capacitor carries %s A rms at any "
        "of them.",
        digits(1e-3 * now->pwm_hz, 4), cvk_pwm_cost_text(now->worst), 100.0 * now->worst_ratio,
        digits(1e-3 * poorest->pwm_hz, 4), cvk_pwm_cost_text(poorest->worst),
        100.0 * poorest->worst_ratio, digits(1e-3 * best->pwm_hz, 4),
        cvk_pwm_cost_text(best->worst), 100.0 * best->worst_ratio, digits(now->capacitor_a, 3));
}

static void put_pwm(cvk_doc *doc, const cvk_pwm_advice *a, bool told)
{
    cvk_doc_begin(doc, "pwm", NULL);
    cvk_doc_number(doc, "best_hz", NULL, a->row[a->best].pwm_hz);
    cvk_doc_number(doc, "poorest_hz", NULL, a->row[a->poorest].pwm_hz);
    cvk_doc_text(doc, "why", NULL, cvk_pwm_cost_text(a->row[a->poorest].worst));
    cvk_doc_number(doc, "capacitor_rms_a", NULL, a->row[0].capacitor_a);
    cvk_doc_table(doc, "frequencies", NULL);
    for (size_t n = 0; n < a->count; n++) {
        cvk_doc_row(doc, NULL, NULL);
        cvk_doc_number(doc, "pwm_hz", NULL, a->row[n].pwm_hz);
        for (int c = 0; c < CVK_PWM_COSTS; c++) {
            cvk_doc_number(doc, costs[c].key, NULL, a->row[n].cost[c]);
        }
        cvk_doc_number(doc, "current_bandwidth_hz", NULL, a->row[n].bandwidth_hz);
        cvk_doc_end(doc);
    }
    cvk_doc_end(doc);
    cvk_doc_end(doc);
    if (told) {
        put_frequencies(doc, a);
        put_advice(doc, a);
    }
}

cvk_doc *cvk_gains_document(const cvk_gains *g, const cvk_pwm_advice *pwm, bool pwm_told,
                            const char *name)
{
    cvk_doc *doc = cvk_doc_new();
    cvk_doc_title(doc, "Gains: %s", name);
    cvk_doc_text(doc, "name", NULL, name);
    put_parameters(doc, g);
    put_current_loop(doc, &g->current);
    put_motion(doc, "speed_loop", "speed loop", &g->speed);
    put_motion(doc, "position_loop", "position loop", &g->position);
    if (!(g->speed.bandwidth_rad_s > 0.0)) {
        cvk_doc_title(doc, "speed loop not predicted: the card has no inertia; record a spin and a "
                           "coast-down (corvak plan)");
    }
    put_ends(doc, g);
    put_pwm(doc, pwm, pwm_told);
    return doc;
}
