/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak serve: the simulated controller as a process of its own.
 */
#include "base/open_device.h"

#include "corvak/files/scenario_yaml.h"
#include "corvak/sim/server.h"

#include <stdio.h>

#define VERB "serve"

typedef struct arguments {
    bench_options bench;
    char *listen, *scenario, *secret;
    gboolean quiet, open;
} arguments;

static int open_controller(cvk_sim_controller **controller, const arguments *a,
                           const char *rig_path)
{
    cvk_rig_config rig;
    cvk_refusal why = {0};
    cvk_complaint complaint;
    static cvk_rig_scenario scenario;
    int status = read_bench(VERB, rig_path, a->bench.tune, a->bench.parameters, &rig);
    if (status == EXIT_DONE) {
        status = set_rig_keys(VERB, a->bench.set, &rig);
    }
    if (status == EXIT_DONE && a->scenario != NULL &&
        cvk_scenario_file_read(&scenario, a->scenario, &complaint) != CVK_OK) {
        status = complain_file(VERB, &complaint);
    }
    if (status == EXIT_DONE) {
        const cvk_status opened =
            cvk_sim_controller_open(controller, &rig, (uint64_t)a->bench.seed, &why);
        status = opened == CVK_OK ? EXIT_DONE : complain_refusal(VERB, opened, &why);
    }
    if (status == EXIT_DONE && a->scenario != NULL) {
        cvk_rig_set_scenario(cvk_sim_controller_inside(*controller)->rig, &scenario);
    }
    return status;
}

/* Whoever waits for it in a pipe gets it now. */
static void print_address(void *context, const char *text)
{
    (void)context;
    g_print("%s\n", text);
    fflush(stdout);
}

static void print_event(void *context, double time_s, const char *text)
{
    (void)context;
    g_printerr("%9.3f s  %s\n", time_s, text);
}

static int serve(const arguments *a, const char *rig_path)
{
    cvk_sim_controller *controller = NULL;
    char text[CVK_SIM_SERVER_TEXT];
    int status = open_controller(&controller, a, rig_path);
    if (status == EXIT_DONE) {
        const cvk_sim_server_config config = {.listen = a->listen,
                                              .secret = a->secret,
                                              .open = a->open,
                                              .address = print_address,
                                              .tell = a->quiet ? NULL : print_event};
        status = cvk_sim_server_run(controller, &config, text) == CVK_OK
                     ? EXIT_DONE
                     : complain_usage(VERB, "%s", text);
    }
    cvk_sim_controller_close(controller);
    return status;
}

int cmd_serve(int argc, char **argv)
{
    arguments a = {.bench = BENCH_OPTIONS_DEFAULT};
    const GOptionEntry entries[] = {
        BENCH_OPTION_ENTRIES(a.bench),
        {"scenario", 0, 0, G_OPTION_ARG_FILENAME, &a.scenario,
         "what happens to the rig: loads, faults", "FILE"},
        {"listen", 'l', 0, G_OPTION_ARG_STRING, &a.listen,
         "tcp:ADDRESS:PORT, or pty for a pseudo-terminal (tcp:127.0.0.1:0: any free port)",
         "WHERE"},
        {"secret", 0, 0, G_OPTION_ARG_FILENAME, &a.secret,
         "only hosts that know what stands in this file may in", "FILE"},
        {"open", 0, 0, G_OPTION_ARG_NONE, &a.open, "listen beyond this machine without a secret",
         NULL},
        {"quiet", 'q', 0, G_OPTION_ARG_NONE, &a.quiet, "do not tell what happens", NULL},
        G_OPTION_ENTRY_NULL};
    if (!parse_options(
            VERB, "RIG",
            "The simulated controller as a process of its own, in real time: prints the "
            "address that\n`corvak tune` takes, tells on stderr what happens, and serves "
            "until Ctrl-C, which stops the motor\nfirst. Up to 8 hosts at once: one "
            "commands, all may watch, any may stop the motor.",
            "corvak serve data/wheel.rig.yaml --listen tcp:127.0.0.1:4242", entries, &argc,
            &argv)) {
        return EXIT_BAD_USAGE;
    }
    int status = EXIT_DONE;
    if (argc != 2) {
        status = complain_usage(VERB, "name one rig file");
    } else if (a.bench.seed < 0) {
        status = complain_usage(VERB, "--seed: 0 and up");
    }
    a.listen = a.listen != NULL ? a.listen : g_strdup("tcp:127.0.0.1:0");
    status = status == EXIT_DONE ? serve(&a, argv[1]) : status;
    free_bench_options(&a.bench);
    g_free(a.listen);
    g_free(a.scenario);
    g_free(a.secret);
    return status;
}
