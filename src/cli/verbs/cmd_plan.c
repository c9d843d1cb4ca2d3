/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak plan: the next recording, and what it is expected to bring.
 */
#include "base/cli.h"

#include "corvak/core/units.h"
#include "base/log_set.h"

#include "corvak/files/card_yaml.h"
#include "corvak/files/rig_yaml.h"
#include "corvak/host/plan.h"
#include "corvak/sim/plan_bench.h"

#include <math.h>

#define VERB "plan"
#define SEED 20261u

typedef struct arguments {
    gboolean json, sensor;
    double current, rpm, time;
    char *card;
    log_options logs;
} arguments;

typedef struct job {
    log_set set;
    cvk_rig_config rig;
    cvk_plan plan;
} job;

/* The card's values are believed more than the rig file's. */
static void believe_card(cvk_rig_config *rig, const cvk_card *card)
{
    const struct {
        cvk_card_key key;
        double *field;
    } fields[] = {{CVK_CARD_INDUCTANCE_D, &rig->motor.inductance_d_h},
                  {CVK_CARD_INDUCTANCE_Q, &rig->motor.inductance_q_h},
                  {CVK_CARD_FLUX_LINKAGE, &rig->motor.flux_linkage_wb},
                  {CVK_CARD_INERTIA, &rig->shaft.inertia_kg_m2},
                  {CVK_CARD_FRICTION_COULOMB, &rig->shaft.friction_coulomb_nm},
                  {CVK_CARD_FRICTION_VISCOUS, &rig->shaft.friction_viscous_nm_s}};
    for (size_t n = 0; n < G_N_ELEMENTS(fields); n++) {
        if (card->entry[fields[n].key].known) {
            *fields[n].field = card->entry[fields[n].key].value;
        }
    }
    if (card->entry[CVK_CARD_POLE_PAIRS].known) {
        rig->motor.pole_pairs = (int)card->entry[CVK_CARD_POLE_PAIRS].value;
    }
    if (card->entry[CVK_CARD_RESISTANCE].known) {
        rig->motor.resistance_ohm = fmax(
            card->entry[CVK_CARD_RESISTANCE].value - rig->inverter.switch_resistance_ohm, 1e-4);
    }
}

static void on_progress(double share)
{
    show_progress("trying recordings", share);
}

static char *command_of(const job *j, const char *rig, const cvk_plan_option *option)
{
    GString *text = g_string_new(NULL);
    g_string_printf(text, "corvak record %s %s", option->excitation, rig);
    if (option->plateau_s != (double)j->rig.tune.program.hold_s) {
        g_string_append_printf(text, " --parameter program.hold_s=%g", option->plateau_s);
    }
    if (j->plan.current_a != (double)j->rig.tune.limit.current_a) {
        g_string_append_printf(text, " --parameter limit.current_a=%g", j->plan.current_a);
    }
    if (j->plan.speed_rad_s != (double)j->rig.tune.program.speed_rad_s) {
        g_string_append_printf(text, " --parameter program.speed_rad_s=%g", j->plan.speed_rad_s);
    }
    g_string_append_printf(text, " -o next-%s.h5", option->excitation);
    return g_string_free(text, FALSE);
}

static int work(job *j, const arguments *a, char **paths, int count)
{
    cvk_complaint complaint;
    cvk_card card;
    if (count < 1) {
        return complain_usage(VERB, "name a rig file, and the logs that there are already");
    }
    if (read_bench(VERB, paths[0], NULL, NULL, &j->rig) != EXIT_DONE) {
        return EXIT_BAD_USAGE;
    }
    if (a->card != NULL && cvk_card_file_read(&card, a->card, &complaint) != CVK_OK) {
        return complain_file(VERB, &complaint);
    }
    if (a->card != NULL) {
        believe_card(&j->rig, &card);
    }
    int status =
        count > 1 ? read_log_set(&j->set, VERB, &a->logs, paths + 1, count - 1) : EXIT_DONE;
    if (status != EXIT_DONE) {
        return status;
    }
    if (a->current < 0.0 || a->rpm < 0.0 || a->time < 0.0) {
        return complain_usage(VERB, "limits are positive: --current %g --rpm %g --time %g",
                              a->current, a->rpm, a->time);
    }
    const cvk_plan_limits limits = {.current_a = a->current,
                                    .speed_rad_s =
                                        a->rpm * CVK_RAD_S_PER_RPM * j->rig.motor.pole_pairs,
                                    .time_s = a->time,
                                    .rotor_sensor = a->sensor,
                                    .threads = (int)g_get_num_processors()};
    cvk_sim_plan_bench own = {.rig = &j->rig, .seed = SEED};
    const cvk_plan_bench bench = cvk_plan_on_sim(&own);
    const cvk_status planned = cvk_plan_next(&bench, &j->rig.tune, j->set.log, j->set.count,
                                             &limits, on_progress, &j->plan);
    if (planned != CVK_OK) {
        return complain_usage(VERB, "%s", cvk_status_text(planned));
    }
    char *command =
        j->plan.best >= 0 ? command_of(j, paths[0], &j->plan.option[j->plan.best]) : NULL;
    show_document(cvk_plan_document(&j->plan, command), a->json);
    g_free(command);
    return j->plan.best >= 0 ? EXIT_DONE : EXIT_ANSWER_NO;
}

int cmd_plan(int argc, char **argv)
{
    arguments a = {.logs = LOG_OPTIONS_DEFAULT};
    const GOptionEntry entries[] = {
        JSON_OPTION(&a.json),
        {"current", 0, 0, G_OPTION_ARG_DOUBLE, &a.current, "largest phase current (the rig's)",
         "A"},
        {"rpm", 0, 0, G_OPTION_ARG_DOUBLE, &a.rpm, "largest speed (the rig's)", "RPM"},
        {"time", 0, 0, G_OPTION_ARG_DOUBLE, &a.time, "longest recording (any)", "S"},
        {"rotor-sensor", 0, 0, G_OPTION_ARG_NONE, &a.sensor, "a rotor sensor can be logged", NULL},
        {"card", 'c', 0, G_OPTION_ARG_FILENAME, &a.card,
         "believe this card's values more than the rig file's", "CARD"},
        LOG_OPTION_ENTRIES(a.logs),
        G_OPTION_ENTRY_NULL};
    if (!parse_options(
            VERB, "RIG [LOG...]",
            "Proposes the next recording: the one that sharpens the widest interval "
            "most within the\nlimits, with what it should bring. Each candidate is tried "
            "on the simulated rig together\nwith the logs that there are.",
            "corvak plan data/wheel.rig.yaml data/wheel-standstill.csv --time 5", entries, &argc,
            &argv)) {
        return EXIT_BAD_USAGE;
    }
    job *j = g_new0(job, 1);
    int status = work(j, &a, argv + 1, argc - 1);
    free_log_set(&j->set);
    free_log_options(&a.logs);
    g_free(a.card);
    g_free(j);
    return status;
}
