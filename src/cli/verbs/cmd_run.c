/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak run: a closed-loop run of a device or a simulated rig through a scenario, and what came of
 * it.
 */
#include "base/cli.h"

#include "corvak/core/units.h"

#include "base/record.h"

#include "corvak/files/scenario_yaml.h"
#include "corvak/host/run.h"
#include "corvak/sim/device.h"
#include "corvak/sim/run_plan.h"
#include "base/open_device.h"

#include <math.h>
#include <string.h>

#define VERB "run"
#define DISTANT_S 1e-3 /* between rows over a link, when no log wants more */

static const char logged[] =
    "t,ia,ib,ic,vdc,duty_a,duty_b,duty_c,mode,start_phase,angle_source,theta_e,speed_e,speed_set,"
    "id,iq,id_set,iq_set,theta_flux,speed_flux,quality_flux,headroom,fault,true_theta_e,"
    "true_speed_m";

typedef struct arguments {
    bench_options bench;
    char *output, *plot, *channels;
    gint decimate;
    double length_s, rated_rpm;
    gboolean json;
} arguments;

typedef struct job {
    const arguments *given;
    motor_device motor;
    cvk_rig_scenario scenario;
    cvk_run_plan plan;
    cvk_run run;
    record_channel channel[CVK_LOG_WRITER_MOST];
    size_t channels;
    cvk_log_writer *log;
    cvk_run_figure *figure;
    guint64 rows;
} job;

/* ---- the plan -------------------------------------------------------------------------------- */

static int make_plan(job *j)
{
    cvk_run_plan *plan = &j->plan;
    if (cvk_run_plan_from_scenario(plan, &j->scenario, j->motor.pole_pairs) != CVK_OK) {
        return complain_usage(VERB, "the scenario asks the controller for nothing: give it events "
                                    "with `what: speed`, `position`, `torque`, `stop`, `brake` or "
                                    "`coast`");
    }
    plan->length_s = j->given->length_s > 0.0 ? j->given->length_s : plan->length_s;
    const double fastest = j->motor.bus_v / sqrt(3.0) / j->motor.flux_linkage_wb; /* no load */
    plan->rated_rad_s = j->given->rated_rpm > 0.0
                            ? j->given->rated_rpm / CVK_RPM_PER_RAD_S * j->motor.pole_pairs
                            : 0.6 * fastest;
    plan->spacing_s = j->given->output != NULL
                          ? j->given->decimate * (double)j->motor.device.session.period_s
                      : j->motor.distant ? DISTANT_S
                                         : 0.0;
    return EXIT_DONE;
}

/* ---- running -------------------------------------------------------------------------------- */

static void log_row(const job *j, const cvk_device_row *row, const cvk_bench_truth *truth)
{
    double cells[CVK_LOG_WRITER_MOST];
    for (size_t c = 0; c < j->channels; c++) {
        cells[c] = record_cell(&j->channel[c], row->time_s, row->value, truth);
    }
    cvk_log_writer_row(j->log, cells);
}

static bool on_row(void *context, const cvk_device_row *row, const cvk_bench_truth *truth)
{
    job *j = context;
    if (j->log != NULL) {
        log_row(j, row, truth);
    }
    if (j->figure != NULL) {
        cvk_run_figure_row(j->figure, row, truth, j->motor.pole_pairs);
    }
    if (j->rows++ % (j->motor.distant ? 100u : 4000u) == 0) {
        show_progress(VERB, MIN(row->time_s / j->plan.length_s, 0.99));
    }
    return !interrupted;
}

static int open_log(job *j)
{
    cvk_log_writer_column columns[CVK_LOG_WRITER_MOST];
    cvk_log_writer_note notes[3] = {{.key = "rig"}, {.key = "scenario"}, {.key = "seed"}};
    cvk_complaint complaint;
    const char *path = j->given->output;
    g_strlcpy(notes[0].value, j->motor.name, sizeof notes[0].value);
    g_strlcpy(notes[1].value, j->scenario.name, sizeof notes[1].value);
    g_snprintf(notes[2].value, sizeof notes[2].value, "%" G_GINT64_FORMAT, j->given->bench.seed);
    for (size_t n = 0; n < j->channels; n++) {
        columns[n] = j->channel[n].column;
    }
    j->log = cvk_log_writer_open(path, columns, j->channels, notes, 3, &complaint);
    return j->log != NULL ? EXIT_DONE : complain_file(VERB, &complaint);
}

/* ---- the command ---------------------------------------------------------------------------- */

static int run_it(job *j)
{
    cvk_complaint complaint;
    cvk_device *device = &j->motor.device;
    const cvk_status status = cvk_run_device(device, &j->plan, on_row, j, &j->run);
    show_progress(VERB, 1.0);
    int result = status == CVK_STOPPED ? EXIT_DONE : check_device(VERB, device, status);
    if (j->log != NULL && cvk_log_writer_close(j->log, result == EXIT_DONE, &complaint) != CVK_OK) {
        result = complain_file(VERB, &complaint);
    }
    if (result == EXIT_DONE && j->figure != NULL &&
        !cvk_run_figure_draw(j->figure, j->given->plot, j->motor.name, j->scenario.name,
                             &complaint)) {
        result = complain_file(VERB, &complaint);
    }
    if (result != EXIT_DONE) {
        return result;
    }
    if (interrupted) {
        g_printerr("corvak run: interrupted: the motor stops by its lease\n");
        return EXIT_ANSWER_NO;
    }
    if (j->run.missing > 0) {
        g_printerr("corvak run: note: %zu of %zu rows did not come over the link\n", j->run.missing,
                   j->run.missing + j->run.rows);
    }
    const cvk_run_setting how = run_setting_of(&j->motor, j->scenario.name, &j->given->bench);
    show_document(cvk_run_document(&j->run, &j->plan, &how), j->given->json);
    return cvk_run_is_good(&j->run, &j->plan) ? EXIT_DONE : EXIT_ANSWER_NO;
}

/* Loads and faults of the scenario have no hands here. */
static void note_what_is_left_out(const job *j)
{
    for (unsigned n = 0; n < j->scenario.count; n++) {
        if (cvk_run_leaves_out(&j->scenario.item[n])) {
            g_printerr("corvak run: note: %s: %s is for a simulated bench; nothing puts it on this "
                       "motor\n",
                       j->scenario.item[n].name,
                       cvk_rig_event_describe(j->scenario.item[n].what)->name);
        }
    }
}

/* The signals of the log that a run does not look at anyway. What only a bench knows is left out
 * where there is none, or refused when it was asked for. */
static int choose_log(job *j)
{
    const gboolean bench = j->motor.device.bench.context != NULL;
    const char *list = j->given->channels != NULL ? j->given->channels : logged;
    size_t count = 0;
    if (!choose_channels(VERB, list, j->channel, &count)) {
        return EXIT_BAD_USAGE;
    }
    j->channels = 0;
    for (size_t n = 0; n < count; n++) {
        record_channel c = j->channel[n];
        if (c.of_bench && !bench) {
            if (j->given->channels != NULL) {
                return complain_usage(VERB, "--channels %s: only a simulated bench knows it",
                                      c.column.name);
            }
            continue;
        }
        if (c.signal != NULL && cvk_run_place(&j->plan, c.column.name) < 0) {
            if (j->plan.more_count == CVK_RUN_MORE_SIGNALS) {
                return complain_usage(VERB,
                                      "--channels: at most %u signals beside those that a "
                                      "run looks at anyway",
                                      (unsigned)CVK_RUN_MORE_SIGNALS);
            }
            j->plan.more[j->plan.more_count++] = c.column.name;
        }
        c.place = c.signal != NULL ? cvk_run_place(&j->plan, c.column.name) : -1;
        j->channel[j->channels++] = c;
    }
    return EXIT_DONE;
}

static int prepare(job *j, const char *rig_or_address, const char *scenario_path)
{
    const arguments *a = j->given;
    cvk_complaint complaint;
    if (cvk_scenario_file_read(&j->scenario, scenario_path, &complaint) != CVK_OK) {
        return complain_file(VERB, &complaint);
    }
    int status = open_motor(VERB, rig_or_address, &a->bench, &j->motor);
    if (status == EXIT_DONE) {
        status = make_plan(j);
    }
    if (status == EXIT_DONE && a->output != NULL) {
        status = choose_log(j);
    }
    if (status != EXIT_DONE) {
        return status;
    }
    cvk_sim *sim = cvk_sim_device_inside(&j->motor.device);
    if (sim != NULL) {
        cvk_rig_set_scenario(sim->rig, &j->scenario);
    } else {
        note_what_is_left_out(j);
    }
    if (a->output != NULL) {
        status = open_log(j);
    }
    if (status == EXIT_DONE && a->plot != NULL) {
        j->figure = cvk_run_figure_new(j->plan.length_s);
    }
    return status;
}

static int check_options(const arguments *a, int argc, char **argv)
{
    if (argc != 3) {
        return complain_usage(VERB, "name a rig file or a device, and a scenario file");
    }
    if (a->decimate < 1 || a->bench.seed < 0 || !(a->length_s >= 0.0 && a->length_s <= 3600.0) ||
        !(a->rated_rpm >= 0.0)) {
        return complain_usage(VERB, "--decimate: 1 and up; --seed: 0 and up; --length: up to 3600; "
                                    "--rated: above 0");
    }
    char *const inputs[] = {argv[1], argv[2], a->bench.tune};
    const int status = check_output(VERB, a->output, FALSE, inputs, G_N_ELEMENTS(inputs));
    return status == EXIT_DONE ? check_output(VERB, a->plot, TRUE, inputs, G_N_ELEMENTS(inputs))
                               : status;
}

int cmd_run(int argc, char **argv)
{
    arguments a = {.bench = BENCH_OPTIONS_DEFAULT, .decimate = 1};
    const GOptionEntry entries[] = {
        BENCH_OPTION_ENTRIES(a.bench),
        {"length", 'l', 0, G_OPTION_ARG_DOUBLE, &a.length_s,
         "length of the run (3 s after a last stop, 5 s after a last speed)", "S"},
        {"rated", 0, 0, G_OPTION_ARG_DOUBLE, &a.rated_rpm,
         "rated speed: the angle is judged above a tenth of it (60 % of the no-load speed)", "RPM"},
        {"output", 'o', 0, G_OPTION_ARG_FILENAME, &a.output, "write a log: .csv or .h5", "FILE"},
        {"channels", 'c', 0, G_OPTION_ARG_STRING, &a.channels, "what to log (corvak list signals)",
         "A,B,..."},
        {"decimate", 'd', 0, G_OPTION_ARG_INT, &a.decimate, "keep every Nth row (1)", "N"},
        PLOT_OPTION(&a.plot, "draw the run"),
        JSON_OPTION(&a.json),
        G_OPTION_ENTRY_NULL};
    if (!parse_options(
            VERB, "RIG|DEVICE SCENARIO",
            "Runs the controller on the simulated rig, or a device (tcp:, serial:, sim:RIG), "
            "through a scenario that asks for "
            "speeds, positions,\ntorques and stops, puts loads on the shaft, lets things "
            "happen, and says what is expected of it all.\nExit status 1 when a "
            "set-point is not reached or a criterion missed.",
            "corvak run data/wheel.rig.yaml data/throwing.scenario.yaml --tune "
            "wheel.tune.yaml --plot run.png",
            entries, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    int status = check_options(&a, argc, argv);
    if (status == EXIT_DONE) {
        job *j = g_new0(job, 1);
        j->given = &a;
        catch_interrupt();
        status = prepare(j, argv[1], argv[2]);
        status = status == EXIT_DONE ? run_it(j) : status;
        cvk_run_figure_free(j->figure);
        cvk_device_close(&j->motor.device);
        g_free(j);
    }
    free_bench_options(&a.bench);
    g_free(a.output);
    g_free(a.plot);
    g_free(a.channels);
    return status;
}
