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
#define WALKS 4 /* downwards and upwards, without and with load */

typedef struct arguments {
    char *tune, *plot;
    char **parameters, **set;
    gint64 seed;
    double within, ripple, load, rated_rpm;
    gboolean json;
} arguments;

typedef struct job {
    const arguments *given;
    char name[64];
    cvk_rig_config rig;     /* of a simulated bench */
    device_session session; /* of a device: only walks without a load are made */
    gboolean distant;
    cvk_settings settings;
    int walks;
    double pole_pairs, load_nm, rpm; /* rpm per electrical rad/s */
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

static int walk_bench(job *j, int number, const cvk_ladder_options *options)
{
    cvk_device device;
    cvk_refusal why = {0};
    cvk_rig_scenario load = {.count = 1};
    cvk_status status = cvk_sim_device_open(&device, &j->rig, (uint64_t)j->given->seed, &why);
    if (status == CVK_OK) {
        load.item[0] = cvk_rig_event_default(CVK_LOAD_BRAKE);
        load.item[0].value[0] = j->load_nm;
        if (is_loaded(number)) {
            cvk_rig_set_scenario(cvk_sim_device_inside(&device)->rig, &load);
        }
        status = cvk_ladder_walk(&device, options, on_progress, j, &j->ladder[number], &why);
    }
    cvk_device_close(&device);
    return status == CVK_OK ? EXIT_DONE : complain_refusal(VERB, status, &why);
}

/* A fault that ended the walk before is cleared: it is in its answer. */
static int walk_device(job *j, int number, const cvk_ladder_options *options)
{
    cvk_session *s = &j->session.session;
    cvk_device device;
    cvk_status status = CVK_OK;
    if (number > 0 && j->ladder[number - 1].fault != CVK_FAULT_NONE) {
        status = cvk_session_clear_fault(s);
    }
    if (status == CVK_OK) {
        status = cvk_linked_device_open(&device, s);
    }
    if (status == CVK_OK) {
        status = cvk_ladder_walk(&device, options, on_progress, j, &j->ladder[number], NULL);
        cvk_device_close(&device);
    }
    if (status == CVK_OK && s->state.fault == CVK_FAULT_NONE && j->ladder[number].count == 0 &&
        !interrupted) {
        return complain_usage(VERB, "%s does not answer any more", j->name);
    }
    return check_device(VERB, &j->session, status);
}

static int walk(job *j, int number)
{
    cvk_ladder_options options = j->options;
    options.up = goes_up(number);
    j->walk = number;
    return j->distant ? walk_device(j, number, &options) : walk_bench(j, number, &options);
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
    const cvk_settings *s = &j->settings;
    const double flux = (double)s->motor.flux_linkage_wb, speed = (double)s->start.speed_rad_s;
    if (s->angle.source == CVK_BY_OBSERVER && flux > 0.0) {
        g_print("\nbelow %.1f rpm the flux linkage of %s mWb is too small for the observer: its "
                "back-EMF "
                "is less than\n%s V there, too little beside what the voltages may be off by; the "
                "vector holds the rotor instead\n",
                j->rpm * speed, digits(1e3 * flux, 3), digits(flux * speed, 2));
    }
}

static const char *unloaded(const job *j)
{
    return j->distant ? "as it stands" : "without load";
}

static void print_ladders(const job *j)
{
    g_print("Ladder: %s", j->name);
    if (!j->distant) {
        g_print(" (seed %" G_GINT64_FORMAT ", %s inverter)", j->given->seed,
                j->rig.inverter.fidelity == CVK_FIDELITY_SWITCHED ? "switched" : "averaged");
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
    const double p = j->pole_pairs;
    json_builder_begin_object(b);
    add_json_text(b, "way", goes_up(number) ? "up" : "down");
    add_json_number(b, "load_nm", j->distant ? NAN : is_loaded(number) ? j->load_nm : 0.0);
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
    add_json_text(b, "name", j->name);
    add_json_number(b, "rated_mech_rad_s", j->options.rated_rad_s / j->pole_pairs);
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
    const char *const quantity[] = {"ripple / %", j->distant ? "quality" : "angle off / deg",
                                    "current / A"};
    char *title = g_strdup_printf("%s: a ladder of speeds", j->name);
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
            const double trust = j->distant ? r->quality : CVK_DEG_PER_RAD * r->angle_rms_rad;
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
                    goes_up(n)     ? "notitle"
                    : is_loaded(n) ? "title 'with load'"
                    : j->distant   ? "title 'as it stands'"
                                   : "title 'without load'",
                    n + 1 < j->walks ? ", " : "\n");
        }
    }
    return close_figure(g, j->given->plot, complaint);
}

/* ---- the command ----------------------------------------------------------------------------- */

static void choose_speeds(job *j, double bus_v)
{
    const arguments *a = j->given;
    const cvk_motor_settings *m = &j->settings.motor;
    const double no_load = bus_v / sqrt(3.0) / fmax((double)m->flux_linkage_wb, 1e-6);
    j->rpm = CVK_RPM_PER_RAD_S / j->pole_pairs;
    j->options = cvk_ladder_options_default();
    j->options.within = a->within;
    j->options.ripple = a->ripple;
    j->options.rated_rad_s = a->rated_rpm > 0.0 ? a->rated_rpm / j->rpm : 0.6 * no_load;
}

static int prepare_bench(job *j, const char *path)
{
    const arguments *a = j->given;
    int status = read_bench(VERB, path, a->tune, a->parameters, &j->rig);
    status = status == EXIT_DONE ? set_rig_keys(VERB, a->set, &j->rig) : status;
    if (status == EXIT_DONE) {
        const cvk_rig_motor *m = &j->rig.motor;
        g_strlcpy(j->name, j->rig.name, sizeof j->name);
        j->walks = WALKS;
        j->pole_pairs = m->pole_pairs;
        j->settings = j->rig.tune;
        j->settings.motor.flux_linkage_wb = (float)m->flux_linkage_wb;
        j->load_nm = a->load * 1.5 * m->pole_pairs * m->flux_linkage_wb *
                     (double)j->rig.tune.limit.current_a;
        choose_speeds(j, j->rig.supply.bus_v);
    }
    return status;
}

/* A controller behind a link, with the settings that it has. */
static int prepare_device(job *j, const char *address)
{
    const arguments *a = j->given;
    cvk_device device;
    if (a->tune != NULL || a->set != NULL || a->parameters != NULL) {
        return complain_usage(VERB, "a device has its own settings (corvak tune changes them) and "
                                    "no rig: --tune, --parameter and --set are for rigs");
    }
    j->distant = TRUE;
    const int status = open_motor(VERB, address, &j->session, &device);
    if (status == EXIT_DONE) {
        g_strlcpy(j->name, device.name, sizeof j->name);
        j->walks = WALKS / 2;
        j->pole_pairs = device.pole_pairs;
        j->settings = *device.settings(device.context);
        choose_speeds(j, cvk_session_signal_now(&j->session.session, "vdc"));
        cvk_device_close(&device);
    }
    return status;
}

static int work(job *j, const char *bench)
{
    const arguments *a = j->given;
    cvk_complaint complaint;
    int status = names_device(bench) ? prepare_device(j, bench) : prepare_bench(j, bench);
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
    arguments a = {.seed = 1, .within = presets.within, .ripple = presets.ripple, .load = 0.3};
    const GOptionEntry entries[] = {
        {"tune", 't', 0, G_OPTION_ARG_FILENAME, &a.tune,
         "the controller's tune file (else X.tune.yaml beside X.rig.yaml)", "FILE"},
        {"parameter", 'P', 0, G_OPTION_ARG_STRING_ARRAY, &a.parameters,
         "change a parameter of the controller", "KEY=VALUE"},
        {"set", 0, 0, G_OPTION_ARG_STRING_ARRAY, &a.set, "change a key of the rig", "KEY=VALUE"},
        {"seed", 's', 0, G_OPTION_ARG_INT64, &a.seed, "draws the rig's imperfections (1)", "N"},
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
                 a.seed >= 0 && a.rated_rpm >= 0.0)) {
        complain_usage(VERB,
                       "--within, --ripple: above 0; --load: 0 to 1; --seed: 0 and up; --rated: "
                       "above 0");
    } else {
        char *const inputs[] = {argv[1], a.tune};
        status = check_output(VERB, a.plot, TRUE, inputs, G_N_ELEMENTS(inputs));
        if (status == EXIT_DONE) {
            job *j = g_new0(job, 1);
            j->given = &a;
            catch_interrupt();
            status = work(j, argv[1]);
            close_device(&j->session);
            g_free(j);
        }
    }
    g_free(a.tune);
    g_free(a.plot);
    g_strfreev(a.parameters);
    g_strfreev(a.set);
    return status;
}
