/* SPDX-License-Identifier: Apache-2.0
 *
 * How close, and how honest: many seeds of the four motors of the studio, with all imperfections
 * on. For each parameter: worst and median error, and how often the true value lies inside its 95 %
 * interval. "Statistical" is counted on a second set of runs whose channels have no gain error,
 * since a common gain error is what that interval leaves out.
 *
 *   bench_accuracy [SEEDS]      (10)
 */
#include "corvak/ident/estimate.h"
#include "recording.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>

enum { LOGS = 3, KEYS = 4, MOST_SEEDS = 1000 };

static const cvk_card_key keys[KEYS] = {CVK_CARD_RESISTANCE, CVK_CARD_INDUCTANCE_D,
                                        CVK_CARD_INDUCTANCE_Q, CVK_CARD_FLUX_LINKAGE};
static const double bars[KEYS] = {1.5, 3.0, 3.0, 0.7}; /* per cent */

typedef struct score {
    int known, inside, within_bar;
    double error[MOST_SEEDS];
} score;

typedef struct scores {
    score key[KEYS];
    int poles_right, poles_wrong, poles_silent;
} scores;

static double truth_of(const cvk_rig_config *config, cvk_card_key key)
{
    switch (key) {
    case CVK_CARD_RESISTANCE:
        return cvk_rig_visible_resistance(config);
    case CVK_CARD_INDUCTANCE_D:
        return config->motor.inductance_d_h;
    case CVK_CARD_INDUCTANCE_Q:
        return config->motor.inductance_q_h;
    default:
        return config->motor.flux_linkage_wb;
    }
}

static void judge(scores *s, const cvk_rig_config *config, const cvk_estimate *e, bool statistical)
{
    for (int k = 0; k < KEYS; k++) {
        const cvk_card_entry *entry = &e->card.entry[keys[k]];
        double truth = truth_of(config, keys[k]);
        double low = statistical ? entry->statistical_low : entry->low;
        double high = statistical ? entry->statistical_high : entry->high;
        if (!entry->known) {
            continue;
        }
        double error = 100.0 * fabs(entry->value / truth - 1.0);
        s->key[k].error[s->key[k].known++] = error;
        s->key[k].inside += truth >= low && truth <= high;
        s->key[k].within_bar += error <= bars[k];
    }
    const cvk_card_entry *poles = &e->card.entry[CVK_CARD_POLE_PAIRS];
    bool right = poles->known && poles->value == config->motor.pole_pairs;
    s->poles_right += right;
    s->poles_silent += !poles->known;
    s->poles_wrong += poles->known && !right;
}

static void run(scores *s, const cvk_rig_config *config, int seeds, bool statistical)
{
    static const char *const names[LOGS] = {"standstill", "spin", "coast"};
    static cvk_estimate estimate;
    const cvk_estimate_options options = cvk_estimate_options_default();
    *s = (scores){.poles_right = 0};
    for (int seed = 1; seed <= seeds; seed++) {
        recording r[LOGS];
        const cvk_log *logs[LOGS];
        for (int n = 0; n < LOGS; n++) {
            record(&r[n], config, names[n], 1000u * (uint64_t)seed, n == 1);
            logs[n] = &r[n].log;
        }
        if (cvk_estimate_logs(logs, LOGS, &options, &estimate) == CVK_OK) {
            judge(s, config, &estimate, statistical);
        }
        for (int n = 0; n < LOGS; n++) {
            recording_free(&r[n]);
        }
    }
}

static int compare(const void *a, const void *b)
{
    double x = *(const double *)a, y = *(const double *)b;
    return (x > y) - (x < y);
}

static void report(const char *name, scores *s, const scores *plain, int seeds)
{
    int inside = 0, counted = 0;
    printf("%s\n  %-18s %6s %8s %8s %8s %10s %12s\n", name, "", "known", "median", "worst", "bar",
           "inside", "statistical");
    for (int k = 0; k < KEYS; k++) {
        score *one = &s->key[k];
        if (one->known == 0) {
            printf("  %-18s %6d\n", cvk_card_key_name(keys[k]), 0);
            continue;
        }
        qsort(one->error, (size_t)one->known, sizeof one->error[0], compare);
        printf("  %-18s %3d/%-3d %6.3f %% %6.3f %% %6.2f %% %5d/%-4d %6d/%-4d\n",
               cvk_card_key_name(keys[k]), one->known, seeds, one->error[one->known / 2],
               one->error[one->known - 1], bars[k], one->inside, one->known, plain->key[k].inside,
               plain->key[k].known);
        inside += one->inside;
        counted += one->known;
    }
    printf("  true values inside their 95 %% intervals: %d of %d\n", inside, counted);
    printf("  pole pairs: %d right, %d wrong, %d not decided\n\n", s->poles_right, s->poles_wrong,
           s->poles_silent);
}

int main(int argc, char **argv)
{
    static scores with_gain, without_gain;
    int seeds = argc > 1 ? atoi(argv[1]) : 10;
    if (seeds < 1 || seeds > MOST_SEEDS) {
        fprintf(stderr, "bench_accuracy: 1 to %d seeds\n", MOST_SEEDS);
        return 2;
    }
    static const char *const motors[] = {"wheel", "blower", "mixer", "table"};
    printf("standstill + spin + coast, %d seeds each, errors against the rig's truth\n\n", seeds);
    for (size_t m = 0; m < sizeof motors / sizeof motors[0]; m++) {
        cvk_rig_config config = studio_rig(motors[m]);
        run(&with_gain, &config, seeds, false);
        config.sensing.current_gain_tolerance = config.sensing.voltage_gain_tolerance = 0.0;
        run(&without_gain, &config, seeds, true);
        report(motors[m], &with_gain, &without_gain, seeds);
        fflush(stdout);
    }
    return 0;
}
