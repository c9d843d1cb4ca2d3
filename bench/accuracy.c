/* SPDX-License-Identifier: Apache-2.0
 *
 * How close, and how honest: many seeds of eight motors, with all imperfections on: the four of the
 * studio and four more, from a few microhenry to millihenry, on the averaged and on the switched
 * inverter. Errors and "statistical" coverage are counted on runs whose channels have no common
 * gain error (which no log can show), "inside" on runs that have one. The logs are standstill +
 * spin + coast, a spin alone, an ordinary duty run alone, and a coast alone.
 *
 *   bench_accuracy [SEEDS [WORD...]]      (10, all): words choose motors, inverters (averaged,
 *                                         switched) and sets of logs (full, spin, duty, coast)
 */
#include "corvak/files/rig_yaml.h"
#include "bound.h"
#include "corvak/ident/estimate.h"
#include "recording.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

enum { MOST_LOGS = 3, KEYS = 5, MOST_SEEDS = 1000, MOTORS = 8 };

static const cvk_card_key keys[KEYS] = {CVK_CARD_RESISTANCE, CVK_CARD_INDUCTANCE_D,
                                        CVK_CARD_INDUCTANCE_Q, CVK_CARD_FLUX_LINKAGE,
                                        CVK_CARD_INERTIA};
#define SMALL_L_FACTOR (5.0 / 3.0) /* of the bar for inductances below 10 uH */
#define POSSIBLE 10.0              /* per cent: a bound below that is a value that can be had */

/* A motor: a rig of the studio, and what is different. */
typedef struct motor {
    const char *name, *base;
    const char *set[16];
} motor;

static const motor motors[MOTORS] = {
    {"wheel", "wheel", {NULL}},
    {"blower", "blower", {NULL}},
    {"mixer", "mixer", {NULL}},
    {"table", "table", {NULL}},
    {"grinder",
     "blower",
     {"motor.pole_pairs=2", "motor.resistance_ohm=0.005", "motor.inductance_d_h=4.0e-6",
      "motor.inductance_q_h=4.0e-6", "motor.flux_linkage_wb=0.0004", "drive.speed_rad_s=12000",
      "drive.resistance_ohm=0.006", "drive.inductance_d_h=4e-6", "drive.inductance_q_h=4e-6",
      "drive.flux_linkage_wb=0.0004", "shaft.inertia_kg_m2=2e-6",
      "shaft.friction_coulomb_nm=0.0008", "motor.iron_loss_ohm=8", NULL}},
    {"pump",
     "mixer",
     {"motor.pole_pairs=20", "motor.resistance_ohm=0.06", "motor.inductance_d_h=40e-6",
      "motor.inductance_q_h=100e-6", "motor.flux_linkage_wb=0.004", "drive.resistance_ohm=0.07",
      "drive.inductance_d_h=45e-6", "drive.inductance_q_h=90e-6", "drive.flux_linkage_wb=0.004",
      NULL}},
    {"shaker",
     "table",
     {"motor.pole_pairs=3", "motor.resistance_ohm=2.0", "motor.inductance_d_h=0.8e-3",
      "motor.inductance_q_h=1.2e-3", "motor.flux_linkage_wb=0.02", "drive.resistance_ohm=2",
      "drive.inductance_d_h=0.8e-3", "drive.inductance_q_h=1.2e-3", "drive.flux_linkage_wb=0.02",
      NULL}},
    {"lift",
     "wheel",
     {"motor.pole_pairs=10", "motor.resistance_ohm=0.3", "motor.inductance_d_h=1.2e-3",
      "motor.inductance_q_h=1.8e-3", "motor.flux_linkage_wb=0.06", "drive.resistance_ohm=0.3",
      "drive.inductance_d_h=1.2e-3", "drive.inductance_q_h=1.8e-3", "drive.flux_linkage_wb=0.06",
      "drive.speed_rad_s=120", NULL}},
};

/* Logs that are estimated together, and how close each of `keys` is meant to come, per cent. */
typedef struct set {
    const char *word, *what;
    const char *logs[MOST_LOGS + 1];
    double bars[KEYS];
} set;

static const set sets[] = {
    {"full",
     "standstill + spin + coast",
     {"standstill", "spin", "coast", NULL},
     {1.5, 3.0, 3.0, 0.5, 3.0}},
    {"spin", "spin alone", {"spin", NULL}, {10.0, 10.0, 10.0, 0.7, 10.0}},
    {"duty", "duty alone", {"duty", NULL}, {10.0, 10.0, 10.0, 0.7, 10.0}},
    {"coast", "coast alone", {"coast", NULL}, {10.0, 10.0, 10.0, 0.1, 10.0}},
};
enum { SETS = sizeof sets / sizeof sets[0] };

typedef struct score {
    int known, inside, within_bar;
    double error[MOST_SEEDS]; /* signed, per cent */
    double half_width;        /* of the interval, per cent, summed */
    double share[MOST_SEEDS]; /* that the error takes of it */
} score;

typedef struct scores {
    score key[KEYS];
    int poles_right, poles_wrong, poles_surely_wrong, poles_silent, failed;
    double longest_s;   /* that an estimate took */
    double bound[KEYS]; /* half width, per cent, that no estimator can beat; NaN: none known */
} scores;

/* What all motors together get. */
typedef struct total {
    int known[KEYS], inside[KEYS], statistical[KEYS], within_bar[KEYS], runs;
    int possible[KEYS], given[KEYS]; /* by the bound; and of those */
    int known_with_gain[KEYS];
    double share[KEYS][MOTORS * MOST_SEEDS]; /* of the interval, that an error takes */
} total;

static cvk_rig_config rig_of(const motor *m)
{
    cvk_rig_config rig = studio_rig(m->base);
    cvk_complaint complaint;
    for (int n = 0; m->set[n] != NULL; n++) {
        if (cvk_rig_set(&rig, m->set[n], &complaint) != CVK_OK) {
            fprintf(stderr, "%s: %s\n", m->name, complaint.text);
            exit(2);
        }
    }
    snprintf(rig.name, sizeof rig.name, "%s", m->name);
    return rig;
}

static double truth_of(const cvk_rig_config *config, cvk_card_key key)
{
    switch (key) {
    case CVK_CARD_RESISTANCE:
        return cvk_rig_visible_resistance(config);
    case CVK_CARD_INDUCTANCE_D:
        return config->motor.inductance_d_h;
    case CVK_CARD_INDUCTANCE_Q:
        return config->motor.inductance_q_h;
    case CVK_CARD_FLUX_LINKAGE:
        return config->motor.flux_linkage_wb;
    default:
        return config->shaft.inertia_kg_m2 + config->shaft.load_inertia_kg_m2;
    }
}

static double bar_of(const cvk_rig_config *config, const double bars[KEYS], int k)
{
    bool small = (k == 1 || k == 2) && truth_of(config, keys[k]) < 10e-6;
    return bars[k] * (small ? SMALL_L_FACTOR : 1.0);
}

static void judge(scores *s, const cvk_rig_config *config, const double bars[KEYS],
                  const cvk_estimate *e, bool statistical)
{
    for (int k = 0; k < KEYS; k++) {
        const cvk_card_entry *entry = &e->card.entry[keys[k]];
        double truth = truth_of(config, keys[k]);
        double low = statistical ? entry->statistical_low : entry->low;
        double high = statistical ? entry->statistical_high : entry->high;
        if (!entry->known) {
            continue;
        }
        double error = 100.0 * (entry->value / truth - 1.0);
        const double half = 50.0 * (high - low) / truth;
        s->key[k].share[s->key[k].known] = fabs(error) / half;
        s->key[k].error[s->key[k].known++] = error;
        s->key[k].half_width += half;
        s->key[k].inside += truth >= low && truth <= high;
        s->key[k].within_bar += fabs(error) <= bar_of(config, bars, k);
    }
    const cvk_card_entry *poles = &e->card.entry[CVK_CARD_POLE_PAIRS];
    bool right = poles->known && poles->value == config->motor.pole_pairs;
    s->poles_right += right;
    s->poles_silent += !poles->known;
    s->poles_wrong += poles->known && !right;
    s->poles_surely_wrong += poles->known && !right && poles->probability > 0.99;
}

static double now_s(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (double)t.tv_sec + 1e-9 * (double)t.tv_nsec;
}

static void run(scores *s, const cvk_rig_config *config, const set *of, int seeds, bool statistical)
{
    const char *const *names = of->logs;
    static cvk_estimate estimate;
    const cvk_estimate_options options = cvk_estimate_options_default();
    memset(s, 0, sizeof *s);
    for (int seed = 1; seed <= seeds; seed++) {
        recording r[MOST_LOGS];
        const cvk_log *logs[MOST_LOGS];
        size_t count = 0;
        for (; names[count] != NULL; count++) {
            /* pole pairs from a rotor column in the driven logs, from the pattern in a coast */
            bool sensor = strcmp(names[count], "coast") != 0;
            record(&r[count], config, names[count], 1000u * (uint64_t)seed, sensor);
            logs[count] = &r[count].log;
        }
        const double start_s = now_s();
        const cvk_status status = cvk_estimate_logs(logs, count, &options, &estimate);
        s->longest_s = fmax(s->longest_s, now_s() - start_s);
        if (status == CVK_OK) {
            judge(s, config, of->bars, &estimate, statistical);
        } else {
            s->failed++;
        }
        for (size_t n = 0; n < count; n++) {
            recording_free(&r[n]);
        }
    }
}

static int compare(const void *a, const void *b)
{
    double x = fabs(*(const double *)a), y = fabs(*(const double *)b);
    return (x > y) - (x < y);
}

/* The sharpest that any of the first seed's logs can be about each. */
static void find_bounds(scores *s, const cvk_rig_config *config, const char *const *names)
{
    double truth[BOUND_KEYS];
    for (int k = 0; k < KEYS; k++) {
        s->bound[k] = NAN;
    }
    for (int k = 0; k < BOUND_KEYS; k++) {
        truth[k] = truth_of(config, keys[k]);
    }
    for (size_t n = 0; names[n] != NULL && strcmp(names[n], "coast") != 0; n++) {
        recording r;
        double percent[BOUND_KEYS];
        record(&r, config, names[n], 1000u, true);
        bound_of(&r.log, truth, percent);
        for (int k = 0; k < BOUND_KEYS; k++) {
            s->bound[k] = fmin(s->bound[k], percent[k]); /* fmin ignores NaN */
        }
        recording_free(&r);
    }
}

static void report(const set *of, const cvk_rig_config *config, scores *plain, const scores *gain,
                   int seeds, total *all)
{
    printf("%s, %s inverter, %s; an estimate took %.2f s at most\n", config->name,
           config->inverter.fidelity == CVK_FIDELITY_SWITCHED ? "switched" : "averaged", of->what,
           plain->longest_s);
    printf("  %-18s %7s %9s %8s %8s %8s %9s %8s %10s %12s\n", "", "known", "mean", "median",
           "worst", "bar", "interval", "bound", "inside", "statistical");
    for (int k = 0; k < KEYS; k++) {
        score *one = &plain->key[k];
        const bool possible = plain->bound[k] < POSSIBLE;
        all->possible[k] += possible ? seeds : 0;
        all->given[k] += possible ? one->known : 0;
        const score *other = &gain->key[k];
        if (one->known == 0) {
            printf("  %-18s %3d/%-3d %57.3f %%\n", cvk_card_key_name(keys[k]), 0, seeds,
                   plain->bound[k]);
            continue;
        }
        double mean = 0.0;
        for (int n = 0; n < one->known; n++) {
            mean += one->error[n] / one->known;
        }
        qsort(one->error, (size_t)one->known, sizeof one->error[0], compare);
        printf("  %-18s %3d/%-3d %+7.3f %% %6.3f %% %6.3f %% %6.2f %% %7.3f %% %6.3f %% %5d/%-4d "
               "%6d/%-4d\n",
               cvk_card_key_name(keys[k]), one->known, seeds, mean,
               fabs(one->error[one->known / 2]), fabs(one->error[one->known - 1]),
               bar_of(config, of->bars, k), one->half_width / one->known, plain->bound[k],
               other->inside, other->known, one->inside, one->known);
        memcpy(&all->share[k][all->known[k]], one->share, (size_t)one->known * sizeof *one->share);
        all->known[k] += one->known;
        all->known_with_gain[k] += other->known;
        all->inside[k] += other->inside;
        all->statistical[k] += one->inside;
        all->within_bar[k] += one->within_bar;
    }
    all->runs += seeds;
    printf("  pole pairs: %d right, %d wrong (%d surely), %d not decided; %d runs gave nothing\n\n",
           plain->poles_right, plain->poles_wrong, plain->poles_surely_wrong, plain->poles_silent,
           plain->failed);
    fflush(stdout);
}

/* How many times wider the intervals are than 95 of 100 errors need. */
static double wider(double *share, int count)
{
    if (count == 0) {
        return NAN;
    }
    qsort(share, (size_t)count, sizeof *share, compare);
    return 1.0 / share[(int)ceil(0.95 * count) - 1];
}

static void report_total(const char *what, total *all)
{
    printf("all motors, %s\n  %-18s %9s %12s %12s %12s %12s %12s\n", what, "", "known",
           "of possible", "within bar", "inside", "statistical", "wider than");
    for (int k = 0; k < KEYS; k++) {
        double known = all->known[k] > 0 ? all->known[k] : 1;
        double with_gain = all->known_with_gain[k] > 0 ? all->known_with_gain[k] : 1;
        printf("  %-18s %4d/%-4d %7d/%-4d %10.1f %% %10.1f %% %10.1f %% %7.2f needs\n",
               cvk_card_key_name(keys[k]), all->known[k], all->runs, all->given[k],
               all->possible[k], 100.0 * all->within_bar[k] / known,
               100.0 * all->inside[k] / with_gain, 100.0 * all->statistical[k] / known,
               wider(all->share[k], all->known[k]));
    }
    printf("\n");
}

/* Chosen when its word is given, or no word of its kind. */
static bool chosen(const char *word, const char *const *kind, int argc, char **argv)
{
    bool any = false;
    for (int n = 2; n < argc; n++) {
        if (strcmp(argv[n], word) == 0) {
            return true;
        }
        for (int k = 0; kind[k] != NULL; k++) {
            any = any || strcmp(argv[n], kind[k]) == 0;
        }
    }
    return !any;
}

static void bench(const motor *m, int fidelity, const set *of, int seeds, total *all)
{
    static scores with_gain, without_gain;
    cvk_rig_config config = rig_of(m), exact;
    config.inverter.fidelity = fidelity;
    exact = config;
    exact.sensing.current_gain_tolerance = exact.sensing.voltage_gain_tolerance = 0.0;
    run(&with_gain, &config, of, seeds, false);
    run(&without_gain, &exact, of, seeds, true);
    find_bounds(&without_gain, &exact, of->logs);
    report(of, &config, &without_gain, &with_gain, seeds, all);
}

int main(int argc, char **argv)
{
    static const char *const inverters[] = {"averaged", "switched", NULL};
    const char *motor_words[MOTORS + 1] = {NULL};
    const char *set_words[SETS + 1] = {NULL};
    const int seeds = argc > 1 ? atoi(argv[1]) : 10;
    if (seeds < 1 || seeds > MOST_SEEDS) {
        fprintf(stderr, "bench_accuracy: 1 to %d seeds\n", MOST_SEEDS);
        return 2;
    }
    for (size_t m = 0; m < MOTORS; m++) {
        motor_words[m] = motors[m].name;
    }
    for (int n = 0; n < SETS; n++) {
        set_words[n] = sets[n].word;
    }
    for (int fidelity = 0; fidelity < 2; fidelity++) {
        for (int n = 0; n < SETS; n++) {
            static total all;
            memset(&all, 0, sizeof all);
            for (size_t m = 0; m < MOTORS; m++) {
                if (chosen(inverters[fidelity], inverters, argc, argv) &&
                    chosen(sets[n].word, set_words, argc, argv) &&
                    chosen(motors[m].name, motor_words, argc, argv)) {
                    bench(&motors[m], fidelity, &sets[n], seeds, &all);
                }
            }
            if (all.runs > 0) {
                printf("%s inverter: ", inverters[fidelity]);
                report_total(sets[n].what, &all);
            }
        }
    }
    return 0;
}
