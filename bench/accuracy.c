/* SPDX-License-Identifier: Apache-2.0
 *
 * How close, and how honest: many seeds of eight motors, with all imperfections on: the four of the
 * studio and four more, from a few microhenry to millihenry, on the averaged and on the switched
 * inverter. Each seed is another bench: resistances of the bus capacitor and of the diodes and the
 * age of current readings, which the rigs leave at nothing and no log states, are drawn from it.
 * Errors and "statistical" coverage are counted on runs whose channels have no common gain error
 * (which no log can show), "inside" on runs of every fifth seed that have one. The logs are
 * standstill + spin + coast, a spin alone, an ordinary duty run alone, and a coast alone.
 *
 *   bench_accuracy [SEEDS [WORD...]]      (10, all): words choose motors, inverters (averaged,
 *                                         switched) and sets of logs (full, spin, duty, coast);
 *                                         the motor `random` is another one with each seed, and
 *                                         only there when it is named
 */
#include "corvak/files/rig_yaml.h"
#include "bound.h"
#include "corvak/ident/estimate.h"
#include "draw.h"
#include "math/parallel.h"
#include "recording.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { KEYS = 5, MOST_SEEDS = 1000, MOTORS = 9, THREADS = 2, GAIN_EVERY = 5 };
enum { SETS = 4 };
enum { STANDSTILL, SPIN, COAST, DUTY, RUNS };

static const cvk_card_key keys[KEYS] = {CVK_CARD_RESISTANCE, CVK_CARD_INDUCTANCE_D,
                                        CVK_CARD_INDUCTANCE_Q, CVK_CARD_FLUX_LINKAGE,
                                        CVK_CARD_INERTIA};
#define SMALL_L_FACTOR (5.0 / 3.0) /* of the bar for inductances below 10 uH */
#define POSSIBLE 10.0              /* per cent: a bound below that is a value that can be had */
/* What each seed draws evenly, up to: */
#define CAPACITOR_OHM 0.008
#define DIODE_OVER_SWITCH 4.0 /* from 1 */
#define LATE_S 0.6e-6

/* A motor: a rig of the studio, and what is different. */
typedef struct motor {
    const char *name, *base;
    const char *set[16];
} motor;

static const char random_name[] = "random";

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
    {random_name, "wheel", {NULL}},
};

/* Logs that are estimated together, and how close each of `keys` is meant to come, per cent. */
typedef struct set {
    const char *word, *what;
    bool uses[RUNS];
    double bars[KEYS];
} set;

static const char *const run_names[RUNS] = {"standstill", "spin", "coast", "duty"};

static const set sets[SETS] = {
    {"full",
     "standstill + spin + coast",
     {[STANDSTILL] = true, [SPIN] = true, [COAST] = true},
     {1.5, 3.0, 3.0, 0.5, 3.0}},
    {"spin", "spin alone", {[SPIN] = true}, {10.0, 10.0, 10.0, 0.7, 10.0}},
    {"duty", "duty alone", {[DUTY] = true}, {10.0, 10.0, 10.0, 0.7, 10.0}},
    {"coast", "coast alone", {[COAST] = true}, {10.0, 10.0, 10.0, 0.1, 10.0}},
};

/* What one estimate says of one of `keys`. */
typedef struct reading {
    bool known, inside, statistical, within_bar;
    double error;      /* signed, per cent */
    double half_width; /* of the statistical interval, per cent */
} reading;

typedef enum verdict { POLES_RIGHT, POLES_SILENT, POLES_WRONG, POLES_SURELY_WRONG } verdict;

typedef struct outcome {
    bool failed;
    reading key[KEYS];
    verdict poles;
} outcome;

/* A motor behind one inverter: what each seed has brought, without and with gain errors. */
typedef struct scores {
    cvk_rig_config config;
    bool chosen[SETS];
    int seeds;
    outcome of[SETS][2][MOST_SEEDS];
    /* half width, per cent, that no estimator can beat; NaN: none known */
    double bound[SETS][KEYS];
} scores;

/* What all motors together get. */
typedef struct total {
    int known[KEYS], inside[KEYS], statistical[KEYS], within_bar[KEYS], runs;
    int possible[KEYS], given[KEYS]; /* by the bound; and of those */
    int known_with_gain[KEYS];
    double error[KEYS], half_width[KEYS];    /* sums, per cent */
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

/* Another motor on a bench of the studio, which the controller knows roughly. */
static cvk_rig_config random_motor(uint64_t *state, int fidelity)
{
    static const char *const benches[] = {"wheel", "blower", "mixer", "table"};
    cvk_rig_config rig = studio_rig(benches[(int)(4.0 * draw_even(state))]);
    double is[4];
    float told[4];
    is[1] = rig.motor.inductance_d_h * draw_between(state, 0.4, 2.5);
    is[0] = rig.motor.resistance_ohm * draw_between(state, 0.5, 2.5);
    is[2] = is[1] * draw_between(state, 1.0, 2.2);
    is[3] = rig.motor.flux_linkage_wb * draw_between(state, 0.6, 1.3);
    for (int n = 0; n < 4; n++) {
        told[n] = (float)(is[n] * draw_between(state, 0.85, 1.2));
    }
    give_winding(&rig, is, told);
    rig.inverter.dead_time_s = draw_between(state, 200e-9, 900e-9);
    rig.inverter.fidelity = fidelity;
    return rig;
}

static cvk_rig_config bench_of(const cvk_rig_config *config, int seed, bool gains)
{
    cvk_rig_config rig = *config;
    uint64_t state = (uint64_t)seed;
    for (const char *c = rig.name; *c != '\0'; c++) {
        state = 31u * state + (uint64_t)*c;
    }
    if (strcmp(rig.name, random_name) == 0) {
        rig = random_motor(&state, config->inverter.fidelity);
    }
    rig.supply.capacitor_resistance_ohm = CAPACITOR_OHM * draw_even(&state);
    rig.inverter.diode_resistance_ohm =
        rig.inverter.switch_resistance_ohm * (1.0 + (DIODE_OVER_SWITCH - 1.0) * draw_even(&state));
    rig.sensing.amplifier_lag_s = LATE_S * draw_even(&state);
    if (!gains) {
        rig.sensing.current_gain_tolerance = rig.sensing.voltage_gain_tolerance = 0.0;
    }
    return rig;
}

static void judge(outcome *out, const cvk_rig_config *config, const double bars[KEYS],
                  const cvk_estimate *e)
{
    for (int k = 0; k < KEYS; k++) {
        const cvk_card_entry *entry = &e->card.entry[keys[k]];
        const double truth = truth_of(config, keys[k]);
        const double error = 100.0 * (entry->value / truth - 1.0);
        out->key[k] = (reading){
            .known = entry->known,
            .inside = truth >= entry->low && truth <= entry->high,
            .statistical = truth >= entry->statistical_low && truth <= entry->statistical_high,
            .within_bar = fabs(error) <= bar_of(config, bars, k),
            .error = error,
            .half_width = 50.0 * (entry->statistical_high - entry->statistical_low) / truth};
    }
    const cvk_card_entry *poles = &e->card.entry[CVK_CARD_POLE_PAIRS];
    const bool right = poles->value == config->motor.pole_pairs;
    out->poles = !poles->known               ? POLES_SILENT
                 : right                     ? POLES_RIGHT
                 : poles->probability > 0.99 ? POLES_SURELY_WRONG
                                             : POLES_WRONG;
}

/* The sharpest that any of these logs can be about each. */
static void find_bounds(double bound[KEYS], const set *of, const cvk_rig_config *config,
                        const recording recorded[RUNS])
{
    double truth[BOUND_KEYS], percent[BOUND_KEYS];
    for (int k = 0; k < BOUND_KEYS; k++) {
        truth[k] = truth_of(config, keys[k]);
    }
    for (int n = 0; n < RUNS; n++) {
        if (!of->uses[n] || n == COAST) {
            continue;
        }
        bound_of(&recorded[n].log, truth, percent);
        for (int k = 0; k < BOUND_KEYS; k++) {
            bound[k] = fmin(bound[k], percent[k]); /* fmin ignores NaN */
        }
    }
}

static void estimate(outcome *out, const set *of, const cvk_rig_config *config,
                     const recording recorded[RUNS])
{
    cvk_estimate_options options = cvk_estimate_options_default();
    cvk_estimate *found = malloc(sizeof *found);
    const cvk_log *logs[RUNS];
    size_t count = 0;
    for (int n = 0; n < RUNS; n++) {
        if (of->uses[n]) {
            logs[count++] = &recorded[n].log;
        }
    }
    options.threads = 1; /* seeds run beside each other */
    out->failed = found == NULL || cvk_estimate_logs(logs, count, &options, found) != CVK_OK;
    if (!out->failed) {
        judge(out, config, of->bars, found);
    }
    free(found);
}

static bool needed(const scores *s, int run)
{
    bool any = false;
    for (int n = 0; n < SETS; n++) {
        any = any || (s->chosen[n] && sets[n].uses[run]);
    }
    return any;
}

/* One seed's bench, with gain errors or without: each run is recorded once for all sets. */
static bool run_seed(void *context, size_t job)
{
    scores *s = context;
    const int gains = (int)job >= s->seeds, seed = (int)job % s->seeds + 1;
    recording recorded[RUNS];
    if (gains && seed % GAIN_EVERY != 1) {
        return true;
    }
    const cvk_rig_config config = bench_of(&s->config, seed, gains);
    for (int n = 0; n < RUNS; n++) {
        /* pole pairs from a rotor column in the driven logs, from the pattern in a coast */
        if (needed(s, n)) {
            record(&recorded[n], &config, run_names[n], 1000u * (uint64_t)seed, n != COAST);
        }
    }
    for (int n = 0; n < SETS; n++) {
        if (s->chosen[n]) {
            estimate(&s->of[n][gains][seed - 1], &sets[n], &config, recorded);
        }
        if (s->chosen[n] && !gains && seed == 1) {
            find_bounds(s->bound[n], &sets[n], &config, recorded);
        }
    }
    for (int n = 0; n < RUNS; n++) {
        if (needed(s, n)) {
            recording_free(&recorded[n]);
        }
    }
    return true;
}

static int compare(const void *a, const void *b)
{
    double x = fabs(*(const double *)a), y = fabs(*(const double *)b);
    return (x > y) - (x < y);
}

/* One line of the report, and its share of the total. */
static void report_key(const scores *s, int set_index, int k, total *all)
{
    const outcome *plain = s->of[set_index][0], *gain = s->of[set_index][1];
    const double bound = s->bound[set_index][k];
    double error[MOST_SEEDS], mean = 0.0, width = 0.0, worst = 0.0;
    int known = 0, statistical = 0, inside = 0, of_gain = 0, worst_seed = 0;
    for (int n = 0; n < s->seeds; n++) {
        const reading *r = &plain[n].key[k], *other = &gain[n].key[k];
        of_gain += other->known;
        inside += other->known && other->inside;
        if (r->known) {
            all->share[k][all->known[k]++] = fabs(r->error) / r->half_width;
            all->within_bar[k] += r->within_bar;
            statistical += r->statistical;
            mean += r->error;
            width += r->half_width;
            error[known++] = r->error;
            worst_seed = fabs(r->error) >= worst ? n + 1 : worst_seed;
            worst = fmax(worst, fabs(r->error));
        }
    }
    all->possible[k] += bound < POSSIBLE ? s->seeds : 0;
    all->given[k] += bound < POSSIBLE ? known : 0;
    all->error[k] += mean;
    all->half_width[k] += width;
    all->known_with_gain[k] += of_gain;
    all->inside[k] += inside;
    all->statistical[k] += statistical;
    if (known == 0) {
        printf("  %-18s %3d/%-3d %62.3f %%\n", cvk_card_key_name(keys[k]), 0, s->seeds, bound);
        return;
    }
    qsort(error, (size_t)known, sizeof error[0], compare);
    printf("  %-18s %3d/%-3d %+7.3f %% %6.3f %% %6.3f %% %4d %6.2f %% %7.3f %% %6.3f %% %5d/%-4d "
           "%6d/%-4d\n",
           cvk_card_key_name(keys[k]), known, s->seeds, mean / known, fabs(error[known / 2]), worst,
           worst_seed, bar_of(&s->config, sets[set_index].bars, k), width / known, bound, inside,
           of_gain, statistical, known);
}

static void report(const scores *s, int set_index, total *all)
{
    int poles[4] = {0}, failed = 0;
    printf("%s, %s inverter, %s\n", s->config.name,
           s->config.inverter.fidelity == CVK_FIDELITY_SWITCHED ? "switched" : "averaged",
           sets[set_index].what);
    printf("  %-18s %7s %9s %8s %8s %4s %8s %9s %8s %10s %12s\n", "", "known", "mean", "median",
           "worst", "seed", "bar", "interval", "bound", "inside", "statistical");
    for (int k = 0; k < KEYS; k++) {
        report_key(s, set_index, k, all);
    }
    for (int n = 0; n < s->seeds; n++) {
        const outcome *one = &s->of[set_index][0][n];
        failed += one->failed;
        if (one->failed) {
            printf("  seed %d gave nothing\n", n + 1);
        }
        poles[one->poles] += !one->failed;
    }
    all->runs += s->seeds;
    printf("  pole pairs: %d right, %d wrong (%d surely), %d not decided; %d runs gave nothing\n\n",
           poles[POLES_RIGHT], poles[POLES_WRONG] + poles[POLES_SURELY_WRONG],
           poles[POLES_SURELY_WRONG], poles[POLES_SILENT], failed);
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
    printf("all motors, %s\n  %-18s %9s %12s %12s %12s %12s %12s %19s\n", what, "", "known",
           "of possible", "within bar", "inside", "statistical", "wider than", "mean of interval");
    for (int k = 0; k < KEYS; k++) {
        double known = all->known[k] > 0 ? all->known[k] : 1;
        double with_gain = all->known_with_gain[k] > 0 ? all->known_with_gain[k] : 1;
        printf("  %-18s %4d/%-4d %7d/%-4d %10.1f %% %10.1f %% %10.1f %% %7.2f needs %+7.2f of "
               "%5.2f %%\n",
               cvk_card_key_name(keys[k]), all->known[k], all->runs, all->given[k],
               all->possible[k], 100.0 * all->within_bar[k] / known,
               100.0 * all->inside[k] / with_gain, 100.0 * all->statistical[k] / known,
               wider(all->share[k], all->known[k]), all->error[k] / known,
               all->half_width[k] / known);
    }
    printf("\n");
}

static bool named(const char *word, int argc, char **argv)
{
    bool found = false;
    for (int n = 2; n < argc; n++) {
        found = found || strcmp(argv[n], word) == 0;
    }
    return found;
}

/* Chosen when its word is given, or no word of its kind. */
static bool chosen(const char *word, const char *const *kind, int argc, char **argv)
{
    bool any = false;
    for (int k = 0; kind[k] != NULL; k++) {
        any = any || named(kind[k], argc, argv);
    }
    return !any || named(word, argc, argv);
}

/* A motor behind an inverter. */
static void bench(const motor *m, int fidelity, const bool set_chosen[SETS], int seeds,
                  total all[SETS])
{
    static scores s;
    memset(&s, 0, sizeof s);
    s.config = rig_of(m);
    s.config.inverter.fidelity = fidelity;
    s.seeds = seeds;
    memcpy(s.chosen, set_chosen, sizeof s.chosen);
    for (int n = 0; n < SETS * KEYS; n++) {
        s.bound[n / KEYS][n % KEYS] = NAN;
    }
    (void)cvk_for_each(2u * (size_t)seeds, THREADS, run_seed, &s);
    for (int n = 0; n < SETS; n++) {
        if (set_chosen[n]) {
            report(&s, n, &all[n]);
        }
    }
}

static void bench_inverter(int fidelity, const char *name, const bool motor_chosen[MOTORS],
                           const bool set_chosen[SETS], int seeds)
{
    static total all[SETS];
    memset(all, 0, sizeof all);
    for (size_t m = 0; m < MOTORS; m++) {
        if (motor_chosen[m]) {
            bench(&motors[m], fidelity, set_chosen, seeds, all);
        }
    }
    for (int n = 0; n < SETS; n++) {
        if (set_chosen[n]) {
            printf("%s inverter: ", name);
            report_total(sets[n].what, &all[n]);
        }
    }
}

int main(int argc, char **argv)
{
    static const char *const inverters[] = {"averaged", "switched", NULL};
    const char *motor_words[MOTORS + 1] = {NULL};
    const char *set_words[SETS + 1] = {NULL};
    bool motor_chosen[MOTORS], set_chosen[SETS];
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
    for (size_t m = 0; m < MOTORS; m++) {
        motor_chosen[m] = chosen(motors[m].name, motor_words, argc, argv);
        if (motors[m].name == random_name) {
            motor_chosen[m] = named(random_name, argc, argv);
        }
    }
    for (int n = 0; n < SETS; n++) {
        set_chosen[n] = chosen(sets[n].word, set_words, argc, argv);
    }
    for (int fidelity = 0; fidelity < 2; fidelity++) {
        if (chosen(inverters[fidelity], inverters, argc, argv)) {
            bench_inverter(fidelity, inverters[fidelity], motor_chosen, set_chosen, seeds);
        }
    }
    return 0;
}
