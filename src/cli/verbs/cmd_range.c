/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak range: the torque-speed map of a motor card on a rig's power stage.
 */
#include "base/cli.h"

#include "corvak/core/units.h"

#include "corvak/core/parameters.h"
#include "corvak/files/card_yaml.h"
#include "corvak/host/torque_map.h"
#include "corvak/sim/sim.h"

#include <math.h>

#define VERB "range"

typedef struct arguments {
    char *tune, *plot;
    char **parameters;
    double winding_degc;
    gboolean json;
} arguments;

/* ---- what is known --------------------------------------------------------------------------- */

/* NaN, with the message printed, when the card lacks it. */
static double needed(const cvk_card *card, cvk_card_key key)
{
    const cvk_card_entry *e = &card->entry[key];
    if (!e->known) {
        g_printerr("corvak range: the card lacks %s: %s\n", cvk_card_key_name(key),
                   e->missing[0] != '\0' ? e->missing : "it is not on it");
    }
    return e->known ? e->value : NAN;
}

/* The current that warms the winding to `degc` in the end; 0 when the rig does not say how it is
 * cooled. */
static double continuous_current(const cvk_rig_config *rig, double resistance_ohm, double degc)
{
    const cvk_rig_motor *m = &rig->motor;
    const double hot_ohm = resistance_ohm * (1.0 + m->copper_per_k * (degc - 25.0));
    const double rise_k = degc - m->ambient_degc;
    return m->winding_k_w > 0.0 && rise_k > 0.0 ? sqrt(rise_k / (m->winding_k_w * 1.5 * hot_ohm))
                                                : 0.0;
}

static gboolean describe(const arguments *a, const cvk_card *card, const cvk_rig_config *rig,
                         cvk_torque_motor *m)
{
    const cvk_card_entry *own = &card->entry[CVK_CARD_DEAD_TIME_VOLTAGE];
    const cvk_settings *tune = &rig->tune;
    const cvk_hardware hardware = cvk_sim_hardware(rig);
    const double limit_a = (double)tune->limit.current_a,
                 weakening_a = (double)tune->torque.weakening_current_a;
    *m = (cvk_torque_motor){.resistance_ohm = needed(card, CVK_CARD_RESISTANCE),
                            .inductance_d_h = needed(card, CVK_CARD_INDUCTANCE_D),
                            .inductance_q_h = needed(card, CVK_CARD_INDUCTANCE_Q),
                            .flux_linkage_wb = needed(card, CVK_CARD_FLUX_LINKAGE),
                            .pole_pairs = needed(card, CVK_CARD_POLE_PAIRS),
                            .bus_v = rig->supply.bus_v,
                            .most_duty = (double)cvk_hardware_most_duty(&hardware),
                            .inverter_v = own->known ? own->value : 0.0,
                            .current_a = limit_a,
                            .weakening_a = weakening_a > 0.0 ? weakening_a : limit_a,
                            .bus_most_v = (double)tune->protect.bus_max_v};
    m->continuous_a = continuous_current(rig, m->resistance_ohm, a->winding_degc);
    return isfinite(m->resistance_ohm + m->inductance_d_h + m->inductance_q_h + m->flux_linkage_wb +
                    m->pole_pairs);
}

/* ---- the command ----------------------------------------------------------------------------- */

static int work(const arguments *a, const char *card_path, const char *rig_path)
{
    cvk_complaint complaint;
    cvk_card card;
    cvk_rig_config rig;
    cvk_torque_motor motor;
    cvk_torque_map range;
    if (cvk_card_file_read(&card, card_path, &complaint) != CVK_OK) {
        return complain_file(VERB, &complaint);
    }
    if (read_bench(VERB, rig_path, a->tune, a->parameters, &rig) != EXIT_DONE) {
        return EXIT_BAD_USAGE;
    }
    if (!(a->winding_degc > rig.motor.ambient_degc)) {
        return complain_usage(VERB, "--winding: %g degC is not above the rig's ambient_degc of %g",
                              a->winding_degc, rig.motor.ambient_degc);
    }
    if (!describe(a, &card, &rig, &motor)) {
        return EXIT_ANSWER_NO;
    }
    cvk_torque_map_compute(&motor, &range);
    show_document(cvk_range_document(&motor, &range, rig.name, a->winding_degc), a->json);
    return a->plot == NULL || cvk_draw_range(&range, rig.name, a->plot, &complaint)
               ? EXIT_DONE
               : complain_file(VERB, &complaint);
}

int cmd_range(int argc, char **argv)
{
    arguments a = {.winding_degc = 110.0};
    const GOptionEntry entries[] = {{"tune", 't', 0, G_OPTION_ARG_FILENAME, &a.tune,
                                     "limits (else X.tune.yaml beside X.rig.yaml)", "FILE"},
                                    {"parameter", 'P', 0, G_OPTION_ARG_STRING_ARRAY, &a.parameters,
                                     "change one of those, such as torque.weakening_current_a=5",
                                     "KEY=VALUE"},
                                    {"winding", 0, 0, G_OPTION_ARG_DOUBLE, &a.winding_degc,
                                     "temperature that the winding bears for long (110)", "DEGC"},
                                    PLOT_OPTION(&a.plot, "draw torque over speed"),
                                    JSON_OPTION(&a.json),
                                    G_OPTION_ENTRY_NULL};
    if (!parse_options(VERB, "CARD RIG",
                       "Tells what torque a motor has at which speed: by current, by voltage at "
                       "each depth of modulation,\nwith field weakening, and for long.",
                       "corvak range wheel.card.yaml data/wheel.rig.yaml --plot range.png", entries,
                       &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    int status = EXIT_BAD_USAGE;
    if (argc != 3) {
        complain_usage(VERB, "name a motor card and a rig file");
    } else if (!(a.winding_degc > 0.0 && a.winding_degc <= 250.0)) {
        complain_usage(VERB, "--winding: %g; it may be above 0, to 250 degC", a.winding_degc);
    } else {
        char *const inputs[] = {argv[1], argv[2], a.tune};
        status = check_output(VERB, a.plot, TRUE, inputs, G_N_ELEMENTS(inputs));
        status = status == EXIT_DONE ? work(&a, argv[1], argv[2]) : status;
    }
    g_free(a.tune);
    g_free(a.plot);
    g_strfreev(a.parameters);
    return status;
}
