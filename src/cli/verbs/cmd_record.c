/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak record: runs an excitation on a device or a simulated rig and writes the log as it comes.
 */
#include "base/open_device.h"
#include "base/record.h"

#include "corvak/core/units.h"
#include "corvak/files/rig_yaml.h"
#include "corvak/files/scenario_yaml.h"
#include "corvak/host/recorder.h"
#include "corvak/rig/scope.h"
#include "corvak/sim/device.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

#define VERB "record"

typedef struct options {
    char *rig; /* or the address of a device */
    char *tune, *output, *channels, *scenario, *plot, *scope;
    char **set, **without, **parameters;
    gboolean ideal, no_sensor;
    gint64 seed;
    gint decimate;
    double from_s, length_s, rate_hz;
} options;

typedef struct recording {
    const options *given;
    cvk_rig_config config;
    cvk_rig_scenario scenario;
    const char *excitation;
    const cvk_program *row; /* of the table of programs */
    record_channel channel[CVK_LOG_WRITER_MOST];
    size_t channels;
    cvk_log_writer *log;
    cvk_record_figure *figure;
    guint64 rows;     /* written */
    gboolean distant; /* a controller behind a link: nothing of a bench is known */
    cvk_device device;
    cvk_record_wish wish;
    cvk_record_summary summary;
    double length_s; /* of the program, at most; 0: not known */
} recording;

/* ---- preparing ------------------------------------------------------------------------------ */

static gboolean prepare_rig(recording *r)
{
    cvk_complaint complaint;
    const options *given = r->given;
    const char *path = g_str_has_prefix(given->rig, "sim:") ? given->rig + 4 : given->rig;
    if (read_bench(VERB, path, given->tune, given->parameters, &r->config) != EXIT_DONE) {
        return FALSE;
    }
    if (given->scenario != NULL &&
        cvk_scenario_file_read(&r->scenario, given->scenario, &complaint) != CVK_OK) {
        complain_file(VERB, &complaint);
        return FALSE;
    }
    if (set_rig_keys(VERB, given->set, &r->config) != EXIT_DONE) {
        return FALSE;
    }
    if (given->ideal && !cvk_rig_switch(&r->config, "all", false)) {
        return FALSE;
    }
    for (int n = 0; given->without != NULL && given->without[n] != NULL; n++) {
        if (!cvk_rig_switch(&r->config, given->without[n], false)) {
            complain_usage(VERB,
                           "--without %s: no such imperfection; they stand under imperfections in "
                           "corvak list keys",
                           given->without[n]);
            return FALSE;
        }
    }
    if (given->scope != NULL) {
        r->config.inverter.fidelity = CVK_FIDELITY_SWITCHED;
    }
    return TRUE;
}

/* A rotor angle that is left out: every column that a rotor sensor fills. */
static gboolean of_rotor_sensor(const record_channel *channel)
{
    static const char *const names[] = {"theta_m", "enc", "index", "hall", "sin", "cos", "tach"};
    for (size_t n = 0; n < G_N_ELEMENTS(names); n++) {
        if (strcmp(channel->column.name, names[n]) == 0) {
            return TRUE;
        }
    }
    return FALSE;
}

/* What a controller's own sensor puts into a log. */
static char *channels_of_device(const recording *r)
{
    static const char *const of_kind[] = {",theta_m", ",enc,index", ",sin,cos",
                                          ",hall",    ",tach",      ""};
    const double kind = cvk_session_value(&r->device.session, "rotor.kind");
    const gboolean known = kind >= 0.0 && kind < (double)G_N_ELEMENTS(of_kind);
    const gboolean needless = r->row->shaft_held || r->row->bridge_off;
    return g_strconcat("t,ia,ib,ic", r->row->bridge_off ? ",va,vb,vc" : ",duty_a,duty_b,duty_c",
                       ",vdc", known && !needless ? of_kind[(int)kind] : "", NULL);
}

static gboolean prepare_channels(recording *r)
{
    size_t count = 0;
    char *list = r->given->channels != NULL ? g_strdup(r->given->channels)
                 : r->distant               ? channels_of_device(r)
                                            : usual_channels(r->row, &r->config);
    const gboolean good = choose_channels(VERB, list, r->channel, &count);
    g_free(list);
    for (size_t n = 0; n < count && good; n++) {
        record_channel c = r->channel[n];
        if (r->given->no_sensor && of_rotor_sensor(&c)) {
            continue;
        }
        if (c.of_bench && r->distant) {
            complain_usage(VERB, "--channels %s: only a simulated bench knows it", c.column.name);
            return FALSE;
        }
        if (c.signal != NULL && cvk_record_place(&r->wish, c.column.name) < 0) {
            if (r->wish.more_count == CVK_RECORD_MORE_SIGNALS) {
                complain_usage(VERB, "--channels: at most %u signals",
                               (unsigned)CVK_RECORD_MORE_SIGNALS);
                return FALSE;
            }
            r->wish.more[r->wish.more_count++] = c.column.name;
        }
        c.place = c.signal != NULL ? cvk_record_place(&r->wish, c.column.name) : -1;
        r->channel[r->channels++] = c;
    }
    return good;
}

/* The row of the table; null, with the message printed, when there is none. */
static const cvk_program *find_program(const char *name)
{
    const cvk_program *program = cvk_program_named(name);
    if (program == NULL) {
        GString *names = g_string_new(NULL);
        for (unsigned n = 0; n < cvk_program_count(); n++) {
            g_string_append_printf(names, "%s%s", n > 0 ? ", " : "", cvk_program_at(n)->name);
        }
        complain_usage(VERB, "there is no excitation \"%s\"; there are %s", name, names->str);
        g_string_free(names, TRUE);
    }
    return program;
}

/* For the progress: as the controller will prepare it. */
static double length_of(const recording *r)
{
    const cvk_hardware hardware = cvk_sim_hardware(&r->config);
    cvk_excitation *program = g_new0(cvk_excitation, 1);
    const double length_s =
        cvk_program_prepare(r->row, program, &r->config.tune, &hardware, 0.0f, NULL) == CVK_OK
            ? (double)cvk_excitation_length_s(program)
            : 0.0;
    g_free(program);
    return length_s;
}

/* Returns an exit status. */
static int open_rig(recording *r)
{
    cvk_refusal why = {0};
    if (!prepare_rig(r)) {
        return EXIT_BAD_USAGE;
    }
    const cvk_status status =
        cvk_sim_device_open(&r->device, &r->config, (uint64_t)r->given->seed, FALSE, &why);
    if (status != CVK_OK) {
        return complain_refusal(VERB, status, &why);
    }
    if (r->scenario.count > 0) {
        cvk_rig_set_scenario(cvk_sim_device_inside(&r->device)->rig, &r->scenario);
    }
    r->length_s = length_of(r);
    return EXIT_DONE;
}

/* A controller behind a link, with the settings that it has. */
static int open_controller(recording *r)
{
    const options *o = r->given;
    if (o->tune != NULL || o->parameters != NULL || o->set != NULL || o->without != NULL ||
        o->ideal || o->scope != NULL || o->scenario != NULL) {
        return complain_usage(VERB, "a device has its own settings (corvak tune changes them) and "
                                    "no rig: --tune, --parameter, --set, --without, --ideal, "
                                    "--scope and --scenario are for rigs");
    }
    const int status = open_device(VERB, o->rig, FALSE, &r->device);
    g_strlcpy(r->config.name, r->device.session.name, sizeof r->config.name);
    return status;
}

/* A line that cannot carry each row would leave out what the excitation is made of. */
static int check_line(const recording *r)
{
    const cvk_session *s = &r->device.session;
    const unsigned every = cvk_session_decimation(s, CVK_RECORD_SIGNALS + r->wish.more_count, 0.0);
    return every <= (unsigned)r->given->decimate
               ? EXIT_DONE
               : complain_usage(VERB,
                                "this line carries only every %uth row of these channels: use a "
                                "faster line (?baud=RATE), fewer --channels, or --decimate %u "
                                "where that is enough",
                                every, every);
}

/* How the rig was not as its file says, for who compares with it: KEY=VALUE. */
static char *changes_of(const options *given)
{
    GString *text = g_string_new(NULL);
    for (int n = 0; given->set != NULL && given->set[n] != NULL; n++) {
        g_string_append_printf(text, " %s", given->set[n]);
    }
    if (given->ideal) {
        g_string_append(text, " imperfections.all=off");
    }
    for (int n = 0; given->without != NULL && given->without[n] != NULL; n++) {
        g_string_append_printf(text, " imperfections.%s=off", given->without[n]);
    }
    return g_string_free(text, FALSE);
}

/* What stands before the columns. */
static size_t notes_of(const recording *r, cvk_log_writer_note notes[13])
{
    size_t n = 0;
    const struct {
        const char *key;
        double value;
    } numbers[] = {
        {"current_gain_tolerance", r->config.sensing.current_gain_tolerance},
        {"voltage_gain_tolerance", r->config.sensing.voltage_gain_tolerance},
        {"current_delay_s", r->config.sensing.amplifier_lag_s},
        {"pwm_hz", r->config.inverter.pwm_hz},
        {"encoder_counts", r->config.rotor_sensor.counts}, /* the last: with an encoder only */
    };
    if (r->distant) {
        n = notes_of_session(&r->device.session, notes);
        notes[n].key = "excitation";
        g_strlcpy(notes[n++].value, r->excitation, sizeof notes[0].value);
        return n;
    }
    size_t count = G_N_ELEMENTS(numbers) - 1;
    for (size_t c = 0; c < r->channels; c++) {
        count += strcmp(r->channel[c].column.name, "enc") == 0;
    }
    notes[n++] = (cvk_log_writer_note){.key = "rig"};
    g_strlcpy(notes[0].value, r->config.name, sizeof notes[0].value);
    notes[n++] = (cvk_log_writer_note){.key = "excitation"};
    g_strlcpy(notes[1].value, r->excitation, sizeof notes[1].value);
    notes[n].key = "seed";
    g_snprintf(notes[n++].value, sizeof notes[0].value, "%" G_GINT64_FORMAT, r->given->seed);
    for (size_t k = 0; k < MIN(count, G_N_ELEMENTS(numbers)); k++) {
        notes[n].key = numbers[k].key;
        g_snprintf(notes[n++].value, sizeof notes[0].value, "%g", numbers[k].value);
    }
    char *changes = changes_of(r->given);
    if (changes[0] != '\0' && strlen(changes) < sizeof notes[0].value) {
        notes[n].key = "rig_changes";
        g_strlcpy(notes[n++].value, changes + 1, sizeof notes[0].value);
    }
    g_free(changes);
    return n;
}

static gboolean open_log(recording *r, const cvk_log_writer_column *columns, size_t count)
{
    cvk_log_writer_note notes[13];
    cvk_complaint complaint;
    size_t note_count = notes_of(r, notes);
    const char *output = r->given->output;
    output = output != NULL && strcmp(output, "-") == 0 ? NULL : output;
    r->log = cvk_log_writer_open(output, columns, count, notes, note_count, &complaint);
    if (r->log == NULL) {
        complain_file(VERB, &complaint);
        return FALSE;
    }
    if (r->given->plot != NULL) {
        r->figure = cvk_record_figure_new(columns, count);
    }
    return TRUE;
}

static void put_row(recording *r, const double *cells)
{
    r->rows++;
    cvk_log_writer_row(r->log, cells);
    if (r->figure != NULL) {
        cvk_record_figure_row(r->figure, cells);
    }
}

/* ---- running -------------------------------------------------------------------------------- */

typedef struct run_state {
    recording *recording;
    gboolean write_rows; /* else a scope writes them */
    double until_s, length_s;
    guint64 periods, recorded;
} run_state;

static bool on_row(void *context, const cvk_device_row *row, const cvk_bench_truth *truth,
                   bool recorded)
{
    run_state *state = context;
    recording *r = state->recording;
    if (recorded && state->write_rows && state->recorded++ % (guint64)r->given->decimate == 0) {
        double cells[CVK_LOG_WRITER_MOST];
        for (size_t c = 0; c < r->channels; c++) {
            cells[c] = record_cell(&r->channel[c], row->time_s, row->value, truth);
        }
        put_row(r, cells);
    }
    if (state->periods++ % 2000u == 0 && state->length_s > 0.0) {
        show_progress(r->excitation, MIN(row->time_s / state->length_s, 0.99));
    }
    return row->time_s <= state->until_s && !interrupted;
}

/* One line at the end of every recording. */
static void tell_summary(const recording *r)
{
    const cvk_record_summary *s = &r->summary;
    const double pole_pairs = cvk_session_value(&r->device.session, "motor.pole_pairs");
    g_printerr("corvak record: %s of %s: %s s, %" G_GUINT64_FORMAT " rows", r->excitation,
               r->config.name, digits(s->length_s, 4), r->rows);
    if (s->missing > 0) {
        g_printerr(" (%zu more did not come over the link: gaps)", s->missing);
    }
    g_printerr("; largest current %s A, fastest %s %s\n", digits(s->largest_a, 3),
               pole_pairs > 0.0 ? digits(CVK_RPM_PER_RAD_S * s->fastest_rad_s / pole_pairs, 3)
                                : digits(s->fastest_rad_s, 3),
               pole_pairs > 0.0 ? "rpm" : "rad/s electrical");
}

/* Runs to the end of the excitation, or to `until_s`. Returns an exit status. */
static int run(recording *r, gboolean write_rows, double until_s)
{
    run_state state = {.recording = r,
                       .write_rows = write_rows,
                       .until_s = until_s,
                       .length_s = MIN(until_s, r->length_s)};
    r->wish.excitation = r->excitation;
    r->wish.shaft_held = r->row->shaft_held;
    r->wish.context = &state;
    r->wish.row = on_row;
    const cvk_status status = cvk_record_device(&r->device, &r->wish, &r->summary);
    show_progress(r->excitation, 1.0);
    if (interrupted) {
        g_printerr("corvak record: interrupted after %.3f s: no log is written\n",
                   r->summary.length_s);
        return EXIT_BAD_USAGE;
    }
    if (status == CVK_STOPPED) {
        g_printerr("corvak record: the drive stopped after %.3f s: %s; the log ends there\n",
                   r->summary.length_s, cvk_fault_text(r->summary.fault));
        return EXIT_ANSWER_NO;
    }
    if (status != CVK_OK && r->rows > 0) { /* what came is a log */
        g_printerr("corvak record: %s; the log ends after %.3f s\n", r->device.session.text,
                   r->summary.length_s);
        return EXIT_ANSWER_NO;
    }
    if (status == CVK_OK) {
        tell_summary(r);
    }
    return check_device(VERB, &r->device, status);
}

/* ---- scope ---------------------------------------------------------------------------------- */

typedef struct scope_run {
    recording *recording;
    int column[8]; /* 0..2 legs' voltages, 3..5 currents, 6 bus */
    size_t columns;
} scope_run;

static void on_scope_row(void *context, const cvk_rig_scope_row *row)
{
    scope_run *s = context;
    const double all[] = {row->leg_v[0], row->leg_v[1], row->leg_v[2], row->leg_a[0],
                          row->leg_a[1], row->leg_a[2], row->bus_v};
    double cells[9] = {row->time_s};
    for (size_t n = 0; n < s->columns; n++) {
        cells[n + 1] = all[s->column[n]];
    }
    put_row(s->recording, cells);
}

static int run_scope(recording *r)
{
    static const char *const names[] = {"va", "vb", "vc", "ia", "ib", "ic", "vdc"};
    const options *given = r->given;
    scope_run s = {.recording = r};
    cvk_log_writer_column columns[9] = {{"t", "s", 9}};
    char **wanted = g_strsplit(given->scope, ",", -1);
    for (size_t n = 0; wanted[n] != NULL; n++) {
        size_t k = 0;
        while (k < G_N_ELEMENTS(names) && strcmp(names[k], g_strstrip(wanted[n])) != 0) {
            k++;
        }
        if (k == G_N_ELEMENTS(names) || s.columns == G_N_ELEMENTS(s.column)) {
            int status =
                complain_usage(VERB, "--scope %s: the probes are va vb vc ia ib ic vdc", wanted[n]);
            g_strfreev(wanted);
            return status;
        }
        s.column[s.columns++] = (int)k;
        columns[s.columns] = (cvk_log_writer_column){names[k], names[k][0] == 'i' ? "A" : "V", 4};
    }
    g_strfreev(wanted);
    if (!open_log(r, columns, s.columns + 1)) {
        return EXIT_BAD_USAGE;
    }
    cvk_rig_scope scope = {.from_s = given->from_s,
                           .until_s = given->from_s + given->length_s,
                           .rate_hz = given->rate_hz,
                           .row = on_scope_row,
                           .context = &s};
    cvk_rig_scope_attach(cvk_sim_device_inside(&r->device)->rig, &scope);
    return run(r, FALSE, scope.until_s);
}

static int run_log(recording *r)
{
    cvk_log_writer_column columns[CVK_LOG_WRITER_MOST];
    for (size_t n = 0; n < r->channels; n++) {
        columns[n] = r->channel[n].column;
    }
    if (!open_log(r, columns, r->channels)) {
        return EXIT_BAD_USAGE;
    }
    return run(r, TRUE, INFINITY);
}

/* ---- the command ---------------------------------------------------------------------------- */

static int finish(recording *r, int status)
{
    cvk_complaint complaint;
    if (status == EXIT_DONE && r->log != NULL && r->rows == 0) {
        status = complain_usage(VERB,
                                "the log would be empty: --from lies beyond the end of the run "
                                "(%.3g s), or --decimate beyond its length",
                                r->length_s);
    }
    if (r->log != NULL &&
        cvk_log_writer_close(r->log, status != EXIT_BAD_USAGE, &complaint) != CVK_OK) {
        status = complain_file(VERB, &complaint);
    }
    if (r->figure != NULL && status != EXIT_BAD_USAGE) {
        char *title = g_strdup_printf("%s: %s%s%s", r->config.name, r->excitation,
                                      r->scenario.name[0] != '\0' ? ", " : "", r->scenario.name);
        if (!cvk_record_figure_draw(r->figure, title, r->given->plot, &complaint)) {
            status = complain_file(VERB, &complaint);
        }
        g_free(title);
    }
    cvk_record_figure_free(r->figure);
    return status;
}

static int record(const options *given, const char *excitation)
{
    recording *r = g_new0(recording, 1);
    r->given = given;
    r->excitation = excitation;
    int status = EXIT_BAD_USAGE;
    r->row = find_program(excitation);
    r->distant = names_device(given->rig) && !g_str_has_prefix(given->rig, "sim:");
    if (r->row != NULL) {
        status = r->distant ? open_controller(r) : open_rig(r);
    }
    if (status == EXIT_DONE) {
        status = prepare_channels(r) ? check_line(r) : EXIT_BAD_USAGE;
    }
    if (status == EXIT_DONE) {
        status = finish(r, given->scope != NULL ? run_scope(r) : run_log(r));
    }
    cvk_device_close(&r->device);
    g_free(r);
    return status;
}

static int list_channels(void)
{
    for (size_t n = 0; n < record_channel_count(); n++) {
        const record_channel channel = record_channel_at(n);
        g_print("%-14s %-6s %s\n", channel.column.name, channel.column.unit, channel.help);
    }
    return EXIT_DONE;
}

/* An extension that promises a format that is not written. */
static gboolean has_other_extension(const char *path)
{
    static const char *const written[] = {".csv", ".txt", ".tsv", ".log", ".h5", ".hdf5"};
    char *name = g_path_get_basename(path);
    const char *dot = strrchr(name, '.');
    gboolean other = dot != NULL && dot != name;
    for (size_t n = 0; n < G_N_ELEMENTS(written) && other; n++) {
        other = g_ascii_strcasecmp(dot, written[n]) != 0;
    }
    g_free(name);
    return other;
}

static int check_options(const options *o, int argc)
{
    if (argc != 3) {
        return complain_usage(VERB, "name one excitation and a rig file or a device, such as "
                                    "standstill data/wheel.rig.yaml");
    }
    if (o->seed < 0) {
        return complain_usage(VERB, "--seed %" G_GINT64_FORMAT ": allowed are 0 and up", o->seed);
    }
    if (o->decimate < 1) {
        return complain_usage(VERB, "--decimate %d: allowed are 1 and up", o->decimate);
    }
    if (o->output == NULL && isatty(STDOUT_FILENO)) {
        return complain_usage(VERB,
                              "where shall the log go? -o FILE.csv or FILE.h5; -o - prints it "
                              "on the terminal, and a pipe takes it as well");
    }
    if (o->output != NULL && strcmp(o->output, "-") != 0 && has_other_extension(o->output)) {
        return complain_usage(VERB,
                              "-o %s: logs are written as FILE.csv (also .txt, .tsv, .log) or "
                              "FILE.h5, .hdf5",
                              o->output);
    }
    char *const inputs[] = {o->rig, o->tune, o->scenario};
    if (check_output(VERB, o->output, FALSE, inputs, G_N_ELEMENTS(inputs)) != EXIT_DONE ||
        check_output(VERB, o->plot, TRUE, inputs, G_N_ELEMENTS(inputs)) != EXIT_DONE) {
        return EXIT_BAD_USAGE;
    }
    if (!(o->rate_hz >= 1e3 && o->rate_hz <= 1e9) || !(o->from_s >= 0.0) || !(o->length_s > 0.0)) {
        return complain_usage(VERB, "--rate: 1e3 .. 1e9; --from: 0 and up; --length: above 0");
    }
    return EXIT_DONE;
}

static void free_options(options *o)
{
    g_free(o->tune);
    g_strfreev(o->parameters);
    g_free(o->output);
    g_free(o->channels);
    g_free(o->scenario);
    g_free(o->plot);
    g_free(o->scope);
    g_strfreev(o->set);
    g_strfreev(o->without);
}

static gboolean parse(options *o, int *argc, char ***argv)
{
    const GOptionEntry entries[] = {
        {"tune", 't', 0, G_OPTION_ARG_FILENAME, &o->tune,
         "the controller's tune file (else X.tune.yaml beside X.rig.yaml)", "FILE"},
        {"parameter", 'P', 0, G_OPTION_ARG_STRING_ARRAY, &o->parameters,
         "change a parameter of the controller, such as program.hold_s=0.8", "KEY=VALUE"},
        {"output", 'o', 0, G_OPTION_ARG_FILENAME, &o->output,
         "where the log goes: CSV, or HDF5 when it ends in .h5 (else CSV to stdout)", "FILE"},
        {"seed", 's', 0, G_OPTION_ARG_INT64, &o->seed,
         "draws the rig's imperfections and noise (1)", "N"},
        {"scenario", 'S', 0, G_OPTION_ARG_FILENAME, &o->scenario,
         "loads, set-points and faults during the run", "FILE"},
        {"channels", 'c', 0, G_OPTION_ARG_STRING, &o->channels, "what to log; `help` lists them",
         "A,B,..."},
        {"decimate", 'd', 0, G_OPTION_ARG_INT, &o->decimate, "keep every Nth row (1)", "N"},
        {"no-rotor-sensor", 0, 0, G_OPTION_ARG_NONE, &o->no_sensor, "leave rotor sensors out",
         NULL},
        {"set", 0, 0, G_OPTION_ARG_STRING_ARRAY, &o->set,
         "change a key of the rig, such as inverter.fidelity=switched", "KEY=VALUE"},
        {"without", 0, 0, G_OPTION_ARG_STRING_ARRAY, &o->without, "switch an imperfection off",
         "NAME"},
        {"ideal", 0, 0, G_OPTION_ARG_NONE, &o->ideal, "switch all imperfections off", NULL},
        {"scope", 0, 0, G_OPTION_ARG_STRING, &o->scope,
         "log these probes (va vb vc ia ib ic vdc) as a bench scope, switching visible", "A,B,..."},
        {"from", 0, 0, G_OPTION_ARG_DOUBLE, &o->from_s, "start of the scope's capture (0)", "S"},
        {"length", 0, 0, G_OPTION_ARG_DOUBLE, &o->length_s, "its length (0.002)", "S"},
        {"rate", 0, 0, G_OPTION_ARG_DOUBLE, &o->rate_hz, "its sample rate (5e6)", "HZ"},
        PLOT_OPTION(&o->plot, "draw the log"),
        G_OPTION_ENTRY_NULL};
    GString *summary = g_string_new("Runs an excitation on a device (tcp:, serial:) or a "
                                    "simulated rig, and writes a log:\n");
    for (unsigned n = 0; n < cvk_program_count(); n++) {
        g_string_append_printf(summary, "  %-11s %s\n", cvk_program_at(n)->name,
                               cvk_program_at(n)->help);
    }
    const gboolean parsed = parse_options(
        VERB, "EXCITATION RIG|DEVICE", summary->str,
        "corvak record standstill data/wheel.rig.yaml -o standstill.csv\n"
        "  corvak record duty data/wheel.rig.yaml --scenario data/centring.scenario.yaml "
        "-o duty.h5 --plot duty.png\n"
        "  corvak record spin data/wheel.rig.yaml --scope va,vb,ia --from 0.5 "
        "-o scope.csv",
        entries, argc, argv);
    g_string_free(summary, TRUE);
    return parsed;
}

int cmd_record(int argc, char **argv)
{
    options o = {.seed = 1, .decimate = 1, .length_s = 2e-3, .rate_hz = 5e6};
    if (!parse(&o, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    if (o.channels != NULL && strcmp(o.channels, "help") == 0) {
        free_options(&o);
        return list_channels();
    }
    o.rig = argc == 3 ? argv[2] : NULL;
    int status = check_options(&o, argc);
    if (status == EXIT_DONE) {
        catch_interrupt();
        status = record(&o, argv[1]);
    }
    free_options(&o);
    return status;
}
