/* SPDX-License-Identifier: Apache-2.0
 *
 * What came of a closed-loop run, and of a ladder of speeds.
 */
#include "common.h"

#include "corvak/core/units.h"
#include "corvak/document/number.h"

#include <math.h>

/* In the unit that people say. */
static const struct {
    const char *key, *name, *unit;
    double factor;
} quantities[CVK_RUN_QUANTITIES] = {
    [CVK_RUN_SPEED] = {"speed_share", "speed off by", "%", 100.0},
    [CVK_RUN_POSITION] = {"position_mech_rad", "position off by", "°", CVK_DEG_PER_RAD},
    [CVK_RUN_CURRENT] = {"current_a", "current", "A", 1.0},
    [CVK_RUN_ANGLE] = {"angle_rms_rad", "angle off by", "° rms", CVK_DEG_PER_RAD},
    [CVK_RUN_RIPPLE] = {"speed_rms_mech_rad_s", "ripple", "rpm rms", CVK_RPM_PER_RAD_S}};

static void put_heading(cvk_doc *doc, const char *what, const cvk_run_setting *how)
{
    GString *text = g_string_new(NULL);
    g_string_printf(text, "%s: %s", what, how->name);
    if (how->scenario != NULL) {
        g_string_append_printf(text, ", %s", how->scenario);
    }
    if (how->distant) {
        g_string_append(text, " (over the link)");
    } else {
        g_string_append_printf(text, " (seed %lld, %s inverter)", how->seed, how->inverter);
    }
    cvk_doc_title(doc, "%s", text->str);
    g_string_free(text, TRUE);
}

/* ---- a run ---------------------------------------------------------------------------------- */

static void put_request(cvk_doc *doc, const cvk_run_result *r, double pole_pairs)
{
    const double nan = (double)NAN;
    const bool speed = r->mode == CVK_MODE_SPEED, position = r->mode == CVK_MODE_POSITION;
    char wanted[48] = "", reached[48] = "";
    if (speed) {
        g_snprintf(wanted, sizeof wanted, "%s rpm",
                   digits(CVK_RPM_PER_RAD_S / pole_pairs * r->wanted_rad_s, 4));
    } else if (position) {
        g_snprintf(wanted, sizeof wanted, "%.2f°", CVK_DEG_PER_RAD * r->wanted_mech_rad);
    }
    if (isfinite(r->reached_s)) {
        g_snprintf(reached, sizeof reached, "after %.2f s", r->reached_s);
    } else if (cvk_run_has_goal(r->mode)) {
        g_strlcpy(reached, "NOT reached", sizeof reached);
    }
    cvk_doc_row(doc, NULL, NULL);
    cvk_doc_number(doc, "from_s", "from", r->from_s);
    cvk_doc_unit(doc, "s", 1.0);
    cvk_doc_text(doc, "mode", "request", cvk_mode_text((cvk_mode)r->mode));
    cvk_doc_text(doc, NULL, "wanted", wanted);
    cvk_doc_text(doc, NULL, "reached", reached);
    cvk_doc_number(doc, NULL, "mean", speed ? r->mean_rad_s : nan);
    cvk_doc_unit(doc, "rpm", CVK_RPM_PER_RAD_S / pole_pairs);
    cvk_doc_number(doc, NULL, "ripple rms", speed ? r->ripple_rad_s : nan);
    cvk_doc_unit(doc, "rpm", CVK_RPM_PER_RAD_S / pole_pairs);
    cvk_doc_digits(doc, 2);
    cvk_doc_number(doc, "speed_mech_rad_s", NULL, r->wanted_rad_s / pole_pairs);
    cvk_doc_number(doc, "position_mech_rad", NULL, position ? r->wanted_mech_rad : nan);
    cvk_doc_number(doc, "reached_s", NULL, r->reached_s);
    cvk_doc_number(doc, "mean_mech_rad_s", NULL, r->mean_rad_s / pole_pairs);
    cvk_doc_number(doc, "ripple_mech_rad_s", NULL, r->ripple_rad_s / pole_pairs);
    cvk_doc_end(doc);
}

static void put_criterion(cvk_doc *doc, const cvk_run_criterion *c, const cvk_run_finding *f)
{
    const char *unit = quantities[c->quantity].unit;
    const double factor = quantities[c->quantity].factor;
    char until[24] = "the end", *text;
    if (isfinite(c->to_s)) {
        g_snprintf(until, sizeof until, "%s s", digits(c->to_s, 4));
    }
    if (isnan(f->measured)) {
        text = g_strdup("MISSED: nothing was measured then");
    } else {
        text = g_strdup_printf("%s: %s %s %s, %s allowed", f->met ? "met" : "MISSED",
                               quantities[c->quantity].name, digits(factor * f->measured, 3), unit,
                               digits(factor * c->limit, 3));
    }
    char *span = g_strdup_printf("%s s to %s", digits(c->from_s, 4), until);
    cvk_doc_row(doc, NULL, c->name);
    cvk_doc_text(doc, NULL, "when", span);
    cvk_doc_text(doc, NULL, "verdict", text);
    cvk_doc_text(doc, "name", NULL, c->name);
    cvk_doc_text(doc, "quantity", NULL, quantities[c->quantity].key);
    cvk_doc_number(doc, "from_s", NULL, c->from_s);
    cvk_doc_number(doc, "to_s", NULL, c->to_s);
    cvk_doc_number(doc, "limit", NULL, c->limit);
    cvk_doc_number(doc, "measured", NULL, f->measured);
    cvk_doc_flag(doc, "met", NULL, f->met);
    cvk_doc_end(doc);
    g_free(span);
    g_free(text);
}

static void put_fault(cvk_doc *doc, const cvk_run *run)
{
    const bool tripped = run->fault != CVK_FAULT_NONE;
    const char *reason =
        run->start_reason != CVK_START_FINE ? cvk_start_reason_text(run->start_reason) : NULL;
    cvk_doc_text(doc, "fault", NULL, cvk_fault_text(run->fault));
    cvk_doc_number(doc, "fault_s", NULL, tripped ? run->fault_s : (double)NAN);
    cvk_doc_number(doc, "start_attempts", NULL, run->start_attempts);
    cvk_doc_text(doc, "start_reason", NULL, reason);
    if (tripped) {
        char *text = g_strdup_printf("after %.2f s: %s", run->fault_s, cvk_fault_text(run->fault));
        cvk_doc_text(doc, NULL, "FAULT", text);
        g_free(text);
        if (reason != NULL) {
            cvk_doc_remark(doc, "(%s, in attempt %d)", reason, run->start_attempts);
        }
    } else if (run->start_attempts > 1) {
        char *text = g_strdup_printf("in attempt %d: the one before: %s", run->start_attempts,
                                     reason != NULL ? reason : "-");
        cvk_doc_text(doc, NULL, "start", text);
        g_free(text);
    }
}

static void put_verdict(cvk_doc *doc, const cvk_run *run, const cvk_run_plan *plan,
                        const cvk_run_setting *how)
{
    const bool good = cvk_run_is_good(run, plan), judged = isfinite(run->angle_rms_rad);
    cvk_doc_begin(doc, NULL, "altogether");
    put_fault(doc, run);
    cvk_doc_number(doc, "largest_current_a", "largest current", run->largest_current_a);
    cvk_doc_digits(doc, 3);
    cvk_doc_remark(doc, "(limit %s A)", digits(how->current_limit_a, 3));
    cvk_doc_number(doc, "angle_error_rms_rad", judged ? "angle error" : NULL, run->angle_rms_rad);
    cvk_doc_digits(doc, 3);
    cvk_doc_remark(doc, "rms, %.1f° at worst, over %.2f s beyond %.0f rpm",
                   CVK_DEG_PER_RAD * run->angle_worst_rad, run->angle_s,
                   0.1 * plan->rated_rad_s * CVK_RPM_PER_RAD_S / how->pole_pairs);
    cvk_doc_number(doc, "angle_error_worst_rad", NULL,
                   run->angle_s > 0.0 ? run->angle_worst_rad : (double)NAN);
    cvk_doc_flag(doc, "good", "verdict", good);
    cvk_doc_words(doc,
                  plan->criteria > 0 ? "every set-point was reached, every criterion met"
                                     : "every set-point was reached",
                  "NOT good: see above");
    cvk_doc_end(doc);
}

cvk_doc *cvk_run_document(const cvk_run *run, const cvk_run_plan *plan, const cvk_run_setting *how)
{
    cvk_doc *doc = cvk_doc_new();
    put_heading(doc, "Run", how);
    cvk_doc_text(doc, "rig", NULL, how->name);
    cvk_doc_text(doc, "scenario", NULL, how->scenario);
    cvk_doc_table(doc, "requests", "");
    for (size_t n = 0; n < run->count; n++) {
        put_request(doc, &run->result[n], how->pole_pairs);
    }
    cvk_doc_end(doc);
    cvk_doc_table(doc, "criteria", "criteria");
    for (size_t n = 0; n < plan->criteria; n++) {
        put_criterion(doc, &plan->criterion[n], &run->finding[n]);
    }
    cvk_doc_end(doc);
    put_verdict(doc, run, plan, how);
    return doc;
}

/* ---- a ladder ------------------------------------------------------------------------------- */

static bool goes_up(int walk)
{
    return walk % 2 == 1;
}

static bool is_loaded(int walk)
{
    return walk >= 2;
}

static const char *unloaded(const cvk_run_setting *how)
{
    return how->distant ? "as it stands" : "without load";
}

static void put_rung(cvk_doc *doc, const cvk_rung *rung, double pole_pairs)
{
    const cvk_run_result *r = &rung->run;
    const double rpm = CVK_RPM_PER_RAD_S / pole_pairs;
    const bool by_vector = r->by_vector > 0.5;
    cvk_doc_row(doc, NULL, NULL);
    cvk_doc_number(doc, NULL, "wanted", r->wanted_rad_s);
    cvk_doc_unit(doc, "rpm", rpm);
    cvk_doc_number(doc, NULL, "mean", r->mean_rad_s);
    cvk_doc_unit(doc, "rpm", rpm);
    cvk_doc_number(doc, NULL, "off by", round(1e4 * (r->mean_rad_s / r->wanted_rad_s - 1.0)) / 1e4);
    cvk_doc_unit(doc, "%", 100.0);
    cvk_doc_digits(doc, 3);
    cvk_doc_number(doc, NULL, "ripple", r->ripple_rad_s / r->wanted_rad_s);
    cvk_doc_unit(doc, "%", 100.0);
    cvk_doc_digits(doc, 2);
    cvk_doc_number(doc, "angle_error_rms_rad", "angle off", r->angle_rms_rad);
    cvk_doc_digits(doc, 2);
    /* an imposed angle has none */
    cvk_doc_number(doc, NULL, "quality", by_vector ? (double)NAN : r->quality);
    cvk_doc_digits(doc, 2);
    cvk_doc_number(doc, NULL, "current", r->current_a);
    cvk_doc_unit(doc, "A", 1.0);
    cvk_doc_digits(doc, 3);
    cvk_doc_text(doc, NULL, "held by", by_vector ? "vector" : "angle");
    cvk_doc_text(doc, NULL, "",
                 rung->usable ? "usable"
                 : rung->seen ? "NOT usable"
                              : "not seen: nothing here tells whether the rotor follows");
    cvk_doc_number(doc, "speed_mech_rad_s", NULL, r->wanted_rad_s / pole_pairs);
    cvk_doc_number(doc, "mean_mech_rad_s", NULL, r->mean_rad_s / pole_pairs);
    cvk_doc_number(doc, "ripple_mech_rad_s", NULL, r->ripple_rad_s / pole_pairs);
    cvk_doc_number(doc, "quality", NULL, r->quality);
    cvk_doc_number(doc, "current_a", NULL, r->current_a);
    cvk_doc_number(doc, "by_vector_share", NULL, r->by_vector);
    cvk_doc_flag(doc, "seen", NULL, rung->seen);
    cvk_doc_flag(doc, "usable", NULL, rung->usable);
    cvk_doc_end(doc);
}

static void put_ladder(cvk_doc *doc, const cvk_ladder *l, int number, double load_nm,
                       const cvk_run_setting *how)
{
    char title[80], load[48];
    g_snprintf(load, sizeof load, "against %s N m", digits(load_nm, 3));
    g_snprintf(title, sizeof title, "%s, %s", goes_up(number) ? "upwards" : "downwards",
               is_loaded(number) ? load : unloaded(how));
    cvk_doc_row(doc, NULL, NULL);
    cvk_doc_text(doc, "way", NULL, goes_up(number) ? "up" : "down");
    cvk_doc_number(doc, "load_nm", NULL,
                   how->distant        ? (double)NAN
                   : is_loaded(number) ? load_nm
                                       : 0.0);
    cvk_doc_number(doc, "farthest_mech_rad_s", NULL, l->farthest_rad_s / how->pole_pairs);
    cvk_doc_text(doc, "fault", NULL, cvk_fault_text(l->fault));
    cvk_doc_table(doc, "rungs", title);
    for (size_t n = 0; n < l->count; n++) {
        put_rung(doc, &l->rung[n], how->pole_pairs);
    }
    cvk_doc_end(doc);
    if (l->fault != CVK_FAULT_NONE) {
        cvk_doc_note(doc, "it ended with a fault: %s", cvk_fault_text(l->fault));
    }
    cvk_doc_end(doc);
}

/* Why the observer cannot go lower, in numbers. */
static void put_floor(cvk_doc *doc, const cvk_run_setting *how)
{
    const double flux = how->flux_linkage_wb, speed = how->least_speed_rad_s;
    if (how->by_observer && flux > 0.0) {
        cvk_doc_title(doc,
                      "below %.1f rpm the flux linkage of %s mWb is too small for the observer: "
                      "its back-EMF is less than %s V there, too little beside what the voltages "
                      "may be off by; the vector holds the rotor instead",
                      CVK_RPM_PER_RAD_S / how->pole_pairs * speed, digits(1e3 * flux, 3),
                      digits(flux * speed, 2));
    }
}

cvk_doc *cvk_ladder_document(const cvk_ladder *ladder, int count, const cvk_ladder_options *options,
                             double load_nm, const cvk_run_setting *how)
{
    const double rpm = CVK_RPM_PER_RAD_S / how->pole_pairs, rated = options->rated_rad_s;
    cvk_doc *doc = cvk_doc_new();
    put_heading(doc, "Ladder", how);
    cvk_doc_note(doc, "usable: mean within %s %%, ripple %s %% rms",
                 digits(100.0 * options->within, 3), digits(100.0 * options->ripple, 3));
    cvk_doc_text(doc, "name", NULL, how->name);
    cvk_doc_number(doc, "rated_mech_rad_s", NULL, rated / how->pole_pairs);
    cvk_doc_list(doc, "ladders");
    for (int n = 0; n < count; n++) {
        put_ladder(doc, &ladder[n], n, load_nm, how);
    }
    cvk_doc_end(doc);
    for (int loaded = 0; loaded < count / 2; loaded++) {
        const cvk_ladder *down = &ladder[2 * loaded], *up = &ladder[2 * loaded + 1];
        cvk_doc_title(
            doc, "%s: lowest usable speed %s rpm (%s %% of the rated), highest %s rpm (%s %%)",
            loaded ? "with load" : unloaded(how), digits(rpm * down->farthest_rad_s, 4),
            digits(100.0 * down->farthest_rad_s / rated, 2), digits(rpm * up->farthest_rad_s, 4),
            digits(100.0 * up->farthest_rad_s / rated, 3));
    }
    put_floor(doc, how);
    return doc;
}
