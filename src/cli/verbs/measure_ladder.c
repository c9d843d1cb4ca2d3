/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak measure ladder: the lowest and the highest usable speed of a simulated bench, without and
 * with load, or of a device as it stands.
 */
#include "measure.h"

#include "base/cli.h"

#include "corvak/core/units.h"

#include "corvak/host/ladder.h"
#include "corvak/sim/device.h"
#include "base/open_device.h"
#include "figures/gnuplot.h"

#include <math.h>

#define VERB "measure ladder"
#define DISTANT_S 1e-3 /* between rows over a link */
#define WALKS 4        /* downwards and upwards, without and with load */

typedef struct arguments {
    bench_options bench;
    char *plot;
    double within, ripple, load, rated_rpm;
    gboolean json;
} arguments;

typedef struct job {
    const arguments *given;
    motor_device motor; /* a device makes walks without a load only */
    int walks;
    double load_nm, rpm; /* rpm per electrical rad/s */
    cvk_ladder_options options;
    cvk_ladder ladder[WALKS];
    int walk;
} job;

static gboolean goes_up(int walk)
{
    return walk % 2 == 1;
}

static gboolean is_loaded(int walk)
{
    return walk >= 2;
}

/* ---- walking --------------------------------------------------------------------------------- */

static bool on_progress(void *context, double share)
{
    const job *j = context;
    show_progress("ladder", fmin(0.99, (j->walk + share) / j->walks));
    return !interrupted;
}

/* On a bench, each walk begins anew. */
static int prepare_bench(job *j, int number)
{
    cvk_rig_scenario load = {.count = 1};
    const int status = number > 0 ? reopen_bench(VERB, &j->given->bench, &j->motor) : EXIT_DONE;
    if (status == EXIT_DONE && is_loaded(number)) {
        load.item[0] = cvk_rig_event_default(CVK_LOAD_BRAKE);
        load.item[0].value[0] = j->load_nm;
        cvk_rig_set_scenario(cvk_sim_device_inside(&j->motor.device)->rig, &load);
    }
    return status;
}

static int walk(job *j, int number)
{
    cvk_session *s = &j->motor.device.session;
    cvk_ladder_options options = j->options;
    options.up = goes_up(number);
    j->walk = number;
    int status = j->motor.distant ? EXIT_DONE : prepare_bench(j, number);
    if (status == EXIT_DONE && s->state.fault != CVK_FAULT_NONE && number > 0) {
        /* it ended the walk before, and is in its answer */
        status = check_device(VERB, &j->motor.device, cvk_session_clear_fault(s));
    }
    if (status == EXIT_DONE) {
        status = check_device(
            VERB, &j->motor.device,
            cvk_ladder_walk(&j->motor.device, &options, on_progress, j, &j->ladder[number]));
    }
    return status;
}

/* ---- the answer ------------------------------------------------------------------------------ */

static void print_rungs(const job *j, const cvk_ladder *l)
{
    for (size_t n = 0; n < l->count; n++) {
        const cvk_rung *r = &l->rung[n];
        const gboolean by_vector = r->run.by_vector > 0.5;
        char off[24] = "-", quality[24] = "-"; /* an imposed angle has none */
        if (isfinite(r->run.angle_rms_rad)) {
            g_snprintf(off, sizeof off, "%.1f deg", CVK_DEG_PER_RAD * r->run.angle_rms_rad);
        }
        if (!by_vector) {
            g_snprintf(quality, sizeof quality, "%.2f", r->run.quality);
        }
        g_print("  %10.1f %10.1f %8.2f %% %8.1f %% %10s %8s %8s A  %-9s %s\n",
                j->rpm * r->run.wanted_rad_s, j->rpm * r->run.mean_rad_s,
                100.0 * (r->run.mean_rad_s / r->run.wanted_rad_s - 1.0),
                100.0 * r->run.ripple_rad_s / r->run.wanted_rad_s, off, quality,
                digits(r->run.current_a, 3), by_vector ? "vector" : "angle",
                r->usable ? "usable"
                : r->seen ? "NOT usable"
                          : "not seen: nothing here tells whether the rotor follows");
    }
    if (l->fault != CVK_FAULT_NONE) {
        g_print("  it ended with a fault: %s\n", cvk_fault_text(l->fault));
    }
}

/* Why the observer cannot go lower, in numbers. */
static void print_flux(const job *j)
{
    const cvk_session *s = &j->motor.device.session;
    const double flux = j->motor.flux_linkage_wb, speed = cvk_session_value(s, "start.speed_rad_s");
    if (cvk_session_value(s, "angle.source") == (double)CVK_BY_OBSERVER) {
        g_print("\nbelow %.1f rpm the flux linkage of %s mWb is too small for the observer: its "
                "back-EMF "
                "is less than\n%s V there, too little beside what the voltages may be off by; the "
                "vector holds the rotor instead\n",
                j->rpm * speed, digits(1e3 * flux, 3), digits(flux * speed, 2));
    }
}

static const char *unloaded(const job *j)
{
    return j->motor.distant ? "as it stands" : "without load";
}

static void print_ladders(const job *j)
{
    g_print("Ladder: %s", j->motor.name);
    if (!j->motor.distant) {
        g_print(" (seed %" G_GINT64_FORMAT ", %s inverter)", j->given->bench.seed,
                j->motor.rig.inverter.fidelity == CVK_FIDELITY_SWITCHED ? "switched" : "averaged");
    }
    g_print("; usable: mean within %s %%, ripple %s %% rms\n", digits(100.0 * j->options.within, 3),
            digits(100.0 * j->options.ripple, 3));
    for (int n = 0; n < j->walks; n++) {
        char load[40];
        g_strlcpy(load, unloaded(j), sizeof load);
        if (is_loaded(n)) {
            g_snprintf(load, sizeof load, "against %s N m", digits(j->load_nm, 3));
        }
        g_print("\n%s, %s\n  %10s %10s %10s %10s %10s %8s %10s  %s\n",
                goes_up(n) ? "upwards" : "downwards", load, "wanted rpm", "mean rpm", "off by",
                "ripple", "angle off", "quality", "current", "held by");
        print_rungs(j, &j->ladder[n]);
    }
    for (int loaded = 0; loaded < j->walks / 2; loaded++) {
        const cvk_ladder *down = &j->ladder[2 * loaded], *up = &j->ladder[2 * loaded + 1];
        g_print("\n%-13s lowest usable speed %s rpm (%s %% of the rated), highest %s rpm "
                "(%s %%)",
                loaded ? "with load" : unloaded(j), digits(j->rpm * down->farthest_rad_s, 4),
                digits(100.0 * down->farthest_rad_s / j->options.rated_rad_s, 2),
                digits(j->rpm * up->farthest_rad_s, 4),
                digits(100.0 * up->farthest_rad_s / j->options.rated_rad_s, 3));
    }
    g_print("\n");
    print_flux(j);
}

static void add_ladder(JsonBuilder *b, const job *j, int number)
{
    const cvk_ladder *l = &j->ladder[number];
    const double p = j->motor.pole_pairs;
    json_builder_begin_object(b);
    add_json_text(b, "way", goes_up(number) ? "up" : "down");
    add_json_number(b, "load_nm", j->motor.distant ? NAN : is_loaded(number) ? j->load_nm : 0.0);
    add_json_number(b, "farthest_mech_rad_s", l->farthest_rad_s / p);
    add_json_text(b, "fault", cvk_fault_text(l->fault));
    json_builder_set_member_name(b, "rungs");
    json_builder_begin_array(b);
    for (size_t n = 0; n < l->count; n++) {
        const cvk_run_result *r = &l->rung[n].run;
        json_builder_begin_object(b);
        add_json_number(b, "speed_mech_rad_s", r->wanted_rad_s / p);
        add_json_number(b, "mean_mech_rad_s", r->mean_rad_s / p);
        add_json_number(b, "ripple_mech_rad_s", r->ripple_rad_s / p);
        add_json_number(b, "angle_error_rms_rad", r->angle_rms_rad);
        add_json_number(b, "quality", r->quality);
        add_json_number(b, "current_a", r->current_a);
        add_json_number(b, "by_vector_share", r->by_vector);
        json_builder_set_member_name(b, "seen");
        json_builder_add_boolean_value(b, l->rung[n].seen);
        json_builder_set_member_name(b, "usable");
        json_builder_add_boolean_value(b, l->rung[n].usable);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
}

static void print_json(const job *j)
{
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    add_json_text(b, "name", j->motor.name);
    add_json_number(b, "rated_mech_rad_s", j->options.rated_rad_s / j->motor.pole_pairs);
    json_builder_set_member_name(b, "ladders");
    json_builder_begin_array(b);
    for (int n = 0; n < j->walks; n++) {
        add_ladder(b, j, n);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
    print_json_document(b);
}

/* Off by and ripple over the speed, without and with load. */
static gboolean draw(const job *j, cvk_complaint *complaint)
{
    const char *const quantity[] = {"ripple / %", j->motor.distant ? "quality" : "angle off / deg",
                                    "current / A"};
    char *title = g_strdup_printf("%s: a ladder of speeds", j->motor.name);
    FILE *g = open_figure(j->given->plot, title, complaint);
    g_free(title);
    if (g == NULL) {
        return FALSE;
    }
    for (int n = 0; n < j->walks; n++) {
        fprintf(g, "$w%d << EOD\n", n);
        for (size_t k = 0; k < j->ladder[n].count; k++) {
            const cvk_rung *rung = &j->ladder[n].rung[k];
            const cvk_run_result *r = &rung->run;
            const double trust = j->motor.distant ? r->quality : CVK_DEG_PER_RAD * r->angle_rms_rad;
            fprintf(g, "%g %g %g %g\n", j->rpm * r->wanted_rad_s,
                    rung->seen ? 100.0 * r->ripple_rad_s / r->wanted_rad_s : NAN,
                    rung->seen ? trust : NAN, r->current_a);
        }
        fprintf(g, "EOD\n");
    }
    for (int panel = 0; panel < 3; panel++) {
        const double bottom = 0.08 + 0.3 * (2 - panel);
        fprintf(g,
                "set lmargin at screen 0.08\nset rmargin at screen 0.84\nset bmargin at screen %g\n"
                "set tmargin at screen %g\nset logscale x\nset key outside right center\n"
                "set ylabel '%s'\nset yrange [0:*]\nset xlabel '%s'\nset format x '%s'\nplot ",
                bottom, bottom + 0.26, quantity[panel], panel == 2 ? "speed / rpm" : "",
                panel == 2 ? "%g" : "");
        for (int n = 0; n < j->walks; n++) {
            fprintf(g, "$w%d using 1:%d with linespoints lw 1.4 pt 7 ps 0.6 lc rgb '%s' %s%s", n,
                    2 + panel, is_loaded(n) ? ORANGE : BLUE,
                    goes_up(n)         ? "notitle"
                    : is_loaded(n)     ? "title 'with load'"
                    : j->motor.distant ? "title 'as it stands'"
                                       : "title 'without load'",
                    n + 1 < j->walks ? ", " : "\n");
        }
    }
    return close_figure(g, j->given->plot, complaint);
}

/* ---- the command ----------------------------------------------------------------------------- */

static void choose_speeds(job *j)
{
    const arguments *a = j->given;
    const motor_device *m = &j->motor;
    j->rpm = CVK_RPM_PER_RAD_S / m->pole_pairs;
    j->walks = m->distant ? WALKS / 2 : WALKS;
    j->load_nm = a->load * 1.5 * m->pole_pairs * m->flux_linkage_wb * m->current_a;
    j->options = cvk_ladder_options_default();
    j->options.within = a->within;
    j->options.ripple = a->ripple;
    j->options.spacing_s = m->distant ? DISTANT_S : 0.0;
    j->options.rated_rad_s = a->rated_rpm > 0.0 ? a->rated_rpm / j->rpm
                                                : 0.6 * m->bus_v / sqrt(3.0) / m->flux_linkage_wb;
}

static int work(job *j, const char *bench)
{
    const arguments *a = j->given;
    cvk_complaint complaint;
    int status = open_motor(VERB, bench, &a->bench, &j->motor);
    if (status == EXIT_DONE) {
        choose_speeds(j);
    }
    for (int n = 0; n < j->walks && status == EXIT_DONE && !interrupted; n++) {
        status = walk(j, n);
    }
    show_progress("ladder", 1.0);
    if (status != EXIT_DONE) {
        return status;
    }
    if (interrupted) {
        g_printerr("corvak measure ladder: interrupted\n");
        return EXIT_ANSWER_NO;
    }
    if (a->json) {
        print_json(j);
    } else {
        print_ladders(j);
    }
    if (a->plot != NULL && !draw(j, &complaint)) {
        return complain_file(VERB, &complaint);
    }
    gboolean all = TRUE;
    for (int n = 0; n < j->walks; n++) {
        all = all && j->ladder[n].farthest_rad_s > 0.0;
    }
    return all ? EXIT_DONE : EXIT_ANSWER_NO;
}

int measure_ladder(int argc, char **argv)
{
    const cvk_ladder_options presets = cvk_ladder_options_default();
    arguments a = {.bench = BENCH_OPTIONS_DEFAULT,
                   .within = presets.within,
                   .ripple = presets.ripple,
                   .load = 0.3};
    const GOptionEntry entries[] = {
        BENCH_OPTION_ENTRIES(a.bench),
        {"within", 0, 0, G_OPTION_ARG_DOUBLE, &a.within,
         "usable: the mean speed is off by at most this (0.05)", "SHARE"},
        {"ripple", 0, 0, G_OPTION_ARG_DOUBLE, &a.ripple,
         "usable: rms of the speed about its mean, at most (0.2)", "SHARE"},
        {"load", 0, 0, G_OPTION_ARG_DOUBLE, &a.load,
         "torque of the brake, of that at limit.current_a (0.3)", "SHARE"},
        {"rated", 0, 0, G_OPTION_ARG_DOUBLE, &a.rated_rpm,
         "rated speed (60 % of the no-load speed)", "RPM"},
        {"plot", 'p', 0, G_OPTION_ARG_FILENAME, &a.plot, "draw ripple, angle and current",
         "FILE.png|.svg"},
        {"json", 0, 0, G_OPTION_ARG_NONE, &a.json, "print one JSON document", NULL},
        G_OPTION_ENTRY_NULL};
    if (!parse_options(
            VERB, "RIG|DEVICE",
            "Walks a ladder of speeds downwards and upwards, without and with load (a "
            "device as it stands), and\ntells the lowest and the highest that the motor "
            "keeps. Exit status 1 when there is none.",
            "corvak measure ladder data/wheel.rig.yaml --tune wheel.tune.yaml --plot ladder.png",
            entries, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    int status = EXIT_BAD_USAGE;
    if (argc != 2) {
        complain_usage(VERB, "name a rig file or a device");
    } else if (!(a.within > 0.0 && a.ripple > 0.0 && a.load >= 0.0 && a.load <= 1.0 &&
                 a.bench.seed >= 0 && a.rated_rpm >= 0.0)) {
        complain_usage(VERB,
                       "--within, --ripple: above 0; --load: 0 to 1; --seed: 0 and up; --rated: "
                       "above 0");
    } else {
        char *const inputs[] = {argv[1], a.bench.tune};
        status = check_output(VERB, a.plot, TRUE, inputs, G_N_ELEMENTS(inputs));
        if (status == EXIT_DONE) {
            job *j = g_new0(job, 1);
            j->given = &a;
            catch_interrupt();
            status = work(j, argv[1]);
            cvk_device_close(&j->motor.device);
            g_free(j);
        }
    }
    free_bench_options(&a.bench);
    g_free(a.plot);
    return status;
}
