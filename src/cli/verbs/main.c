/* SPDX-License-Identifier: Apache-2.0
 *
 * The corvak command: the list of verbs, in the order of work, and the way to each.
 */
#include "base/cli.h"

#include "corvak/core/version.h"
#include "corvak/files/closest.h"

#include <locale.h>
#include <stdio.h>
#include <string.h>

/* A row without a way to run heads a group. */
static const struct {
    const char *name, *summary;
    int (*run)(int argc, char **argv);
} verbs[] = {
    {"Know the motor", NULL, NULL},
    {"record", "run an excitation on the simulated rig and write a log", cmd_record},
    {"examine", "tell how healthy a log is and what it can show", cmd_examine},
    {"estimate", "from logs to the motor card: R, L, flux linkage, pole pairs", cmd_estimate},
    {"plan", "propose the recording that sharpens the card most", cmd_plan},
    {"card", "show a motor card, compare it, set a value by hand", cmd_card},
    {"Know its sensors", NULL, NULL},
    {"wiring", "from one log: which phase is at which leg, which way the sensor counts",
     cmd_wiring},
    {"calibrate", "rotor sensors and current channels from a log, into the tune file",
     cmd_calibrate},
    {"watch", "the rotor sensors while the shaft is turned by hand: consistent, or what is not",
     cmd_watch},
    {"Make it run", NULL, NULL},
    {"gains", "from a motor card and a rig to the controller's tune file", cmd_gains},
    {"replay", "run the observers over a log and search their settings", cmd_replay},
    {"run", "run the controller on the simulated rig through a scenario", cmd_run},
    {"tune", "a live session with a controller: guarded changes, measured steps", cmd_tune},
    {"measure", "on a running motor: lowest and highest usable speed, answers to steps",
     cmd_measure},
    {"range", "what torque there is at which speed", cmd_range},
    {"The bench", NULL, NULL},
    {"rig", "check a rig file and explain what the rig can do", cmd_rig},
    {"serve", "the simulated controller as a process of its own", cmd_serve},
    {"list", "parameters, signals, devices, excitations, keys of a rig file", cmd_list},
};

/* Text goes out as it is, in UTF-8, whatever the locale: a log of a machine without one must still
 * read mΩ, and JSON is UTF-8 by definition. */
static void put_out(const char *text)
{
    fputs(text, stdout);
}

static void put_error(const char *text)
{
    fputs(text, stderr);
}

static void print_verbs(void)
{
    g_print("corvak " CVK_VERSION " - brushless motors: from logs to numbers you can trust\n\n"
            "Verbs, in the order of work:\n");
    for (size_t n = 0; n < G_N_ELEMENTS(verbs); n++) {
        if (verbs[n].run == NULL) {
            g_print("\n%s\n", verbs[n].name);
        } else {
            g_print("  %-10s %s\n", verbs[n].name, verbs[n].summary);
        }
    }
    g_print("\ncorvak VERB --help explains one, with an example.\n");
}

static const char *verb_at(size_t n)
{
    return verbs[n].run != NULL ? verbs[n].name : "";
}

int main(int argc, char **argv)
{
    (void)setlocale(LC_CTYPE, "C.UTF-8"); /* options are UTF-8 whatever the user's locale */
    g_set_print_handler(put_out);
    g_set_printerr_handler(put_error);
    if (argc < 2 || strcmp(argv[1], "--help") == 0 || strcmp(argv[1], "-h") == 0) {
        print_verbs();
        return check_stdout(EXIT_DONE);
    }
    if (strcmp(argv[1], "--version") == 0) {
        g_print("corvak " CVK_VERSION "\n");
        return EXIT_DONE;
    }
    for (size_t n = 0; n < G_N_ELEMENTS(verbs); n++) {
        if (verbs[n].run != NULL && strcmp(argv[1], verbs[n].name) == 0) {
            return check_stdout(verbs[n].run(argc - 1, argv + 1));
        }
    }
    const char *closest = cvk_closest_name(argv[1], G_N_ELEMENTS(verbs), verb_at);
    if (closest != NULL) {
        g_printerr("corvak: there is no verb \"%s\"; did you mean \"%s\"?\n", argv[1], closest);
    } else {
        g_printerr("corvak: there is no verb \"%s\"; `corvak` alone lists them\n", argv[1]);
    }
    return EXIT_BAD_USAGE;
}
