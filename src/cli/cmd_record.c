/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak record: runs an excitation on the simulated rig and writes the log as CSV.
 */
#include "cli.h"

#include "corvak/files/rig_yaml.h"
#include "corvak/sim/sim.h"

#include <errno.h>
#include <stdio.h>
#include <string.h>

#define VERB "record"

typedef struct recording {
    const cvk_rig_config *config;
    const char *excitation;
    guint64 seed;
    gboolean rotor_sensor;
} recording;

/* The coast log has terminal voltages: with the bridge off there are no duties. */
static gboolean bridge_is_off(const recording *r)
{
    return strcmp(r->excitation, "coast") == 0;
}

static void write_head(FILE *out, const recording *r)
{
    fprintf(out, "# rig: %s\n# excitation: %s\n# seed: %" G_GUINT64_FORMAT "\n", r->config->name,
            r->excitation, r->seed);
    fprintf(out, "# current_gain_tolerance: %g\n# voltage_gain_tolerance: %g\n",
            r->config->sensing.current_gain_tolerance, r->config->sensing.voltage_gain_tolerance);
    fprintf(out, "t [s],ia [A],ib [A],ic [A],%s,vdc [V]%s\n",
            bridge_is_off(r) ? "va [V],vb [V],vc [V]" : "duty_a,duty_b,duty_c",
            r->rotor_sensor ? ",theta_m [rad]" : "");
}

static void write_row(FILE *out, const recording *r, const cvk_sim_row *row)
{
    const double *i = row->current_a;
    fprintf(out, "%.6f,%.4f,%.4f,%.4f,", row->time_s, i[0], i[1], i[2]);
    if (bridge_is_off(r)) {
        const double *v = row->sample.terminal_v;
        fprintf(out, "%.4f,%.4f,%.4f", v[0], v[1], v[2]);
    } else {
        fprintf(out, "%.6f,%.6f,%.6f", row->duty[0], row->duty[1], row->duty[2]);
    }
    fprintf(out, ",%.4f", row->sample.bus_v);
    if (r->rotor_sensor) {
        fprintf(out, ",%.6f", row->sensor_mech_rad);
    }
    fputc('\n', out);
}

/* Runs to the end of the excitation. Returns an exit status. */
static int run(FILE *out, const recording *r)
{
    cvk_sim *sim = g_new0(cvk_sim, 1);
    cvk_excitation *program = g_new0(cvk_excitation, 1);
    cvk_refusal why = {0};
    int status = EXIT_DONE;
    cvk_status started = cvk_sim_init(sim, r->config, r->seed, &why);
    if (started == CVK_OK) {
        started = cvk_sim_start(sim, r->excitation, program, &why);
    }
    if (started == CVK_NOT_IN_LOG) {
        status = complain_usage(VERB,
                                "there is no excitation \"%s\"; there are standstill, spin "
                                "and coast",
                                r->excitation);
    } else if (started != CVK_OK) {
        status = complain_usage(VERB, "drive.%s is %g; allowed: %g .. %g", why.field,
                                (double)why.value, (double)why.low, (double)why.high);
    } else {
        double length_s = (double)cvk_excitation_length_s(program);
        write_head(out, r);
        for (unsigned long row = 0; !cvk_excitation_finished(program); row++) {
            cvk_sim_row now = cvk_sim_step(sim);
            if (now.recorded) {
                write_row(out, r, &now);
            }
            if (row % 20000u == 0) {
                show_progress(r->excitation, MIN(now.time_s / length_s, 0.99));
            }
            if (sim->drive.fault != CVK_FAULT_NONE) {
                g_printerr("corvak record: the drive stopped after %.3f s: %s\n", now.time_s,
                           cvk_fault_text(sim->drive.fault));
                status = EXIT_ANSWER_NO;
                break;
            }
        }
        show_progress(r->excitation, 1.0);
    }
    g_free(program);
    g_free(sim);
    return status;
}

/* To a file: written beside it and renamed at the end, so that a log is whole or not there. */
static int run_to_file(const recording *r, const char *path)
{
    char *beside = g_strconcat(path, ".part", NULL);
    FILE *out = fopen(beside, "w");
    int status;
    if (out == NULL) {
        status = complain_usage(VERB, "%s: cannot be written (%s): check the folder", path,
                                g_strerror(errno));
        g_free(beside);
        return status;
    }
    status = run(out, r);
    gboolean whole = ferror(out) == 0;
    whole = fclose(out) == 0 && whole;
    if (status == EXIT_DONE && (!whole || rename(beside, path) != 0)) {
        status = complain_usage(VERB, "%s: cannot be written completely: is the disk full?", path);
    }
    if (status != EXIT_DONE) {
        remove(beside);
    }
    g_free(beside);
    return status;
}

int cmd_record(int argc, char **argv)
{
    char *rig_path = NULL, *output = NULL;
    gint64 seed = 1;
    gboolean no_sensor = FALSE;
    const GOptionEntry entries[] = {
        {"rig", 'r', 0, G_OPTION_ARG_FILENAME, &rig_path, "the rig file (needed)", "FILE"},
        {"output", 'o', 0, G_OPTION_ARG_FILENAME, &output, "where the log goes (else stdout)",
         "FILE"},
        {"seed", 's', 0, G_OPTION_ARG_INT64, &seed, "draws the rig's imperfections and noise (1)",
         "N"},
        {"no-rotor-sensor", 0, 0, G_OPTION_ARG_NONE, &no_sensor, "leave the rotor angle out", NULL},
        G_OPTION_ENTRY_NULL};
    if (!parse_options(VERB, "EXCITATION",
                       "Runs an excitation on the simulated rig, through the controller core, and "
                       "writes a log:\n"
                       "  standstill  shaft held: DC levels of both signs, then a square wave "
                       "along three directions\n"
                       "  spin        a few speeds, with and without a d-axis current\n"
                       "  coast       speeds up, switches the bridge off, logs terminal voltages",
                       "corvak record standstill --rig data/wheel.rig.yaml -o standstill.csv",
                       entries, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    int status;
    cvk_rig_config config;
    cvk_complaint complaint;
    if (argc != 2) {
        status = complain_usage(VERB, "name one excitation: standstill, spin or coast");
    } else if (rig_path == NULL) {
        status = complain_usage(VERB, "name the rig: --rig data/wheel.rig.yaml");
    } else if (seed < 0) {
        status = complain_usage(VERB, "--seed %" G_GINT64_FORMAT ": allowed are 0 and up", seed);
    } else if (cvk_rig_file_read(&config, rig_path, &complaint) != CVK_OK) {
        status = complain_file(VERB, &complaint);
    } else {
        const recording r = {&config, argv[1], (guint64)seed,
                             !no_sensor && strcmp(argv[1], "spin") == 0};
        status = output != NULL ? run_to_file(&r, output) : run(stdout, &r);
    }
    g_free(rig_path);
    g_free(output);
    return status;
}
