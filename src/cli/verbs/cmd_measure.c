/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak measure: what is measured on a motor that runs.
 */
#include "measure.h"

#include "base/cli.h"

#include "corvak/files/closest.h"

#include <string.h>

#define VERB "measure"

static const struct {
    const char *name;
    int (*run)(int argc, char **argv);
} kinds[] = {{"ladder", measure_ladder}, {"steps", measure_steps}};

static const char *kind_at(size_t n)
{
    return kinds[n].name;
}

int cmd_measure(int argc, char **argv)
{
    for (size_t n = 0; argc > 1 && n < G_N_ELEMENTS(kinds); n++) {
        if (strcmp(argv[1], kinds[n].name) == 0) {
            return kinds[n].run(argc - 1, argv + 1);
        }
    }
    const GOptionEntry none[] = {G_OPTION_ENTRY_NULL};
    if (!parse_options(VERB, "ladder|steps DEVICE|RIG [OPTION...]",
                       "Measures on a motor that runs:\n"
                       "  ladder   the lowest and the highest usable speed\n"
                       "  steps    how speed and current answer to a step, and what was predicted\n"
                       "`corvak measure KIND --help` explains one.",
                       "corvak measure steps data/wheel.rig.yaml --speed 60", none, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    const char *closest = argc > 1 ? cvk_closest_name(argv[1], G_N_ELEMENTS(kinds), kind_at) : NULL;
    return closest != NULL
               ? complain_usage(VERB, "there is no \"%s\"; did you mean \"%s\"?", argv[1], closest)
               : complain_usage(VERB, "name what to measure: ladder or steps");
}
