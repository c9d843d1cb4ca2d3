/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak wiring: which phase is at which leg, and which way the sensor counts.
 */
#include "base/calibration.h"

#define VERB "wiring"

int cmd_wiring(int argc, char **argv)
{
    gboolean json = FALSE;
    sensor_options options = {.log = LOG_OPTIONS_DEFAULT};
    const GOptionEntry entries[] = {JSON_OPTION(&json), SENSOR_OPTION_ENTRIES(options),
                                    LOG_OPTION_ENTRIES(options.log), G_OPTION_ENTRY_NULL};
    if (!parse_options(VERB, "LOG",
                       "From one log of a spin, a sweep or a shaft turned by hand: which motor "
                       "phase is at which leg and\nwhich way the rotor sensor counts, what to "
                       "swap, or which parameter does instead.",
                       "corvak wiring data/mixer-sweep.h5", entries, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    cvk_calibration *c = g_new0(cvk_calibration, 1);
    log_set *set = g_new0(log_set, 1);
    int status = calibrate_one_log(VERB, &options, argv + 1, argc - 1, set, c);
    if (status != EXIT_BAD_USAGE) {
        status = c->wiring.undecided[0] == '\0' ? EXIT_DONE : EXIT_ANSWER_NO;
        show_document(cvk_wiring_document(c, set->log[0]->name), json);
    }
    free_log_set(set);
    free_log_options(&options.log);
    g_free(set);
    g_free(c);
    return status;
}
