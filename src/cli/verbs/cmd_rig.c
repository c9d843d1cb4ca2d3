/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak rig: checks a rig file and explains what the rig can be expected to do.
 */
#include "base/cli.h"

#include "corvak/core/units.h"

#include "corvak/files/rig_yaml.h"
#include "corvak/rig/outlook.h"

#include <math.h>
#include <string.h>

#define VERB "rig"

int cmd_rig(int argc, char **argv)
{
    gboolean json = FALSE;
    char *plot = NULL, *tune = NULL;
    const GOptionEntry entries[] = {
        PLOT_OPTION(&plot, "run both inverters and draw how they compare"),
        {"tune", 't', 0, G_OPTION_ARG_FILENAME, &tune,
         "the controller's tune file (else X.tune.yaml beside X.rig.yaml)", "FILE"},
        JSON_OPTION(&json),
        G_OPTION_ENTRY_NULL};
    if (!parse_options(VERB, "FILE",
                       "Checks a rig file and explains it: time constants, speed range, ripple "
                       "currents, and what\nis implausible. Exit status 1 when something is.",
                       "corvak rig data/wheel.rig.yaml", entries, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    cvk_rig_config config;
    cvk_complaint complaint;
    if (argc != 2) {
        return complain_usage(VERB, "name one rig file, such as data/wheel.rig.yaml");
    }
    if (read_bench(VERB, argv[1], tune, NULL, &config) != EXIT_DONE) {
        return EXIT_BAD_USAGE;
    }
    cvk_rig_outlook outlook;
    cvk_rig_look_ahead(&config, &outlook);
    show_document(cvk_outlook_document(&config, &outlook), json);
    int status = outlook.doubts == 0 ? EXIT_DONE : EXIT_ANSWER_NO;
    if (plot != NULL) {
        cvk_rig_comparison comparison;
        if (cvk_rig_compare_inverters(&config, &comparison) != CVK_OK ||
            !cvk_draw_inverters(&config, &comparison, plot, &complaint)) {
            status = complain_file(VERB, &complaint);
        }
    }
    g_free(plot);
    g_free(tune);
    return status;
}
