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
    const cvk_run_setting how = run_setting_of(&j->motor, NULL, &a->bench);
    show_document(cvk_ladder_document(j->ladder, j->walks, &j->options, j->load_nm, &how), a->json);
    if (a->plot != NULL && !cvk_draw_ladder(j->ladder, j->walks, &how, a->plot, &complaint)) {
        return complain_file(VERB, &complaint);
    }
    gboolean all = TRUE;
    for (int n = 0; n < j->walks; n++) {
        all = all && j->ladder[n].farthest_rad_s > 0.0;
    }
    return all ? EXIT_DONE : EXIT_ANSWER_NO;
}

static gboolean parse(arguments *a, int *argc, char ***argv)
{
    const GOptionEntry entries[] = {
        BENCH_OPTION_ENTRIES(a->bench),
        {"within", 0, 0, G_OPTION_ARG_DOUBLE, &a->within,
         "usable: the mean speed is off by at most this (0.05)", "SHARE"},
        {"ripple", 0, 0, G_OPTION_ARG_DOUBLE, &a->ripple,
         "usable: rms of the speed about its mean, at most (0.2)", "SHARE"},
        {"load", 0, 0, G_OPTION_ARG_DOUBLE, &a->load,
         "torque of the brake, of that at limit.current_a (0.3)", "SHARE"},
        {"rated", 0, 0, G_OPTION_ARG_DOUBLE, &a->rated_rpm,
         "rated speed (60 % of the no-load speed)", "RPM"},
        PLOT_OPTION(&a->plot, "draw ripple, angle and current"),
        JSON_OPTION(&a->json),
        G_OPTION_ENTRY_NULL};
    return parse_options(
        VERB, "RIG|DEVICE",
        "Walks a ladder of speeds downwards and upwards, without and with load (a "
        "device as it stands), and\ntells the lowest and the highest that the motor "
        "keeps. Exit status 1 when there is none.",
        "corvak measure ladder data/wheel.rig.yaml --tune wheel.tune.yaml --plot ladder.png",
        entries, argc, argv);
}

int measure_ladder(int argc, char **argv)
{
    const cvk_ladder_options presets = cvk_ladder_options_default();
    arguments a = {.bench = BENCH_OPTIONS_DEFAULT,
                   .within = presets.within,
                   .ripple = presets.ripple,
                   .load = 0.3};
    if (!parse(&a, &argc, &argv)) {
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
