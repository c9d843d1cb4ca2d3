/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak watch: the rotor sensors while somebody turns the shaft by hand, and in the end whether
 * they are consistent. No torque is applied: the device is only looked at.
 */
#include "base/open_device.h"
#include "base/log_set.h"

#include "corvak/sim/device.h"
#include "corvak/files/scenario_yaml.h"
#include "corvak/host/hand_check.h"
#include "corvak/sim/sim.h"

#include <math.h>
#include <unistd.h>

#define VERB "watch"
#define SIGNALS 6u
#define REDRAW_S 0.1
#define PIPE_S 10.0         /* a device, when nobody says how long and there is no terminal */
#define HAND_MECH_RAD_S 4.0 /* of the hand that turns the simulated shaft, forth and back */
#define HAND_S 3.0
#define DIAL 36 /* characters of the dial */

typedef struct arguments {
    char *scenario;
    double length_s, pole_pairs, encoder_counts, periods_per_turn;
    gboolean json;
    log_options log;
} arguments;

/* ---- the picture ----------------------------------------------------------------------------- */

static void print_dial(double turns)
{
    const int at = (int)((turns - floor(turns)) * DIAL) % DIAL;
    for (int n = 0; n < DIAL; n++) {
        g_print("%s", n == at ? "\xe2\x97\x8f" : n % (DIAL / 4) == 0 ? "|" : "\xc2\xb7");
    }
}

static const char *way_text(double speed)
{
    return fabs(speed) < 0.02 ? "stands" : (speed > 0.0 ? "forward" : "backward");
}

static int print_sensor(const cvk_hand_check *c, int n, double speed)
{
    static const char *const units[] = {"deg", "counts", "deg of a period", ""};
    const cvk_hand_sensor *s = &c->sensor[n];
    const double scale = n == CVK_ROTOR_ABSOLUTE || n == CVK_ROTOR_SINCOS ? 180.0 / G_PI : 1.0;
    if (!s->seen || (!s->moved && (c->known.expected >> n & 1u) == 0u)) {
        return 0;
    }
    g_print("\033[K%-9s ", cvk_rotor_kind_name(n));
    print_dial(s->turns);
    if (n == CVK_ROTOR_HALLS) {
        const int code = (int)s->angle;
        g_print("  code %d%d%d, %6lu changes      %-8s", code >> 2 & 1, code >> 1 & 1, code & 1,
                c->edges, way_text(speed));
    } else {
        g_print("  %10.1f %-16s %-8s", s->angle * scale, units[n], way_text(speed));
    }
    g_print("  %+.3f turns", s->turns);
    if (n == CVK_ROTOR_ENCODER) {
        g_print(", index seen %lu times", c->marks);
    }
    g_print("\n");
    return 1;
}

typedef struct picture {
    gboolean on;
    int lines;
    double turns[CVK_ROTOR_ANGLE_KINDS], at_s;
} picture;

static void redraw(picture *p, const cvk_hand_check *c)
{
    const double passed_s = c->length_s - p->at_s;
    if (!p->on || (p->lines > 0 && passed_s < REDRAW_S)) {
        return;
    }
    if (p->lines > 0) {
        g_print("\033[%dA", p->lines);
    }
    p->lines = 0;
    for (int n = 0; n < CVK_ROTOR_ANGLE_KINDS; n++) {
        const double speed = passed_s > 0.0 ? (c->sensor[n].turns - p->turns[n]) / passed_s : 0.0;
        p->lines += print_sensor(c, n, speed);
        p->turns[n] = c->sensor[n].turns;
    }
    p->at_s = c->length_s;
    g_print("\033[Kturn the shaft by hand, more than once round, both ways; Ctrl-C ends  %6.1f s\n",
            c->length_s);
    p->lines++;
    fflush(stdout);
}

/* ---- a device ----------------------------------------------------------------------------------
 */

typedef struct watcher {
    cvk_hand_check check;
    picture picture;
    double period_s;
    gboolean has[SIGNALS]; /* the controller has that signal */
} watcher;

static const char *const signal_names[SIGNALS] = {"theta_m", "enc", "index", "hall", "sin", "cos"};

static void on_samples(void *context, const cvk_session_samples *samples)
{
    watcher *w = context;
    for (unsigned r = 0; r < samples->rows; r++) {
        double v[SIGNALS];
        unsigned column = 0;
        for (unsigned n = 0; n < SIGNALS; n++) {
            v[n] =
                w->has[n] ? (double)samples->value[r * samples->columns + column++] : (double)NAN;
        }
        const double t = w->period_s * ((double)samples->tick + (double)(r * samples->decimation));
        const cvk_hand_row row = {t, v[0], v[1], v[2], v[3], v[4], v[5]};
        cvk_hand_look(&w->check, &row);
    }
    redraw(&w->picture, &w->check);
}

/* What the controller says of its sensor; what is said on the command line wins. */
static cvk_hand_known known_of(const arguments *a, const cvk_session *s)
{
    const double kind = cvk_session_value(s, "rotor.kind");
    cvk_hand_known known = {.pole_pairs = cvk_session_value(s, "motor.pole_pairs"),
                            .encoder_counts = cvk_session_value(s, "rotor.counts"),
                            .periods = cvk_session_value(s, "rotor.periods_per_turn")};
    known.expected = kind >= 0.0 && kind < (double)CVK_ROTOR_ANGLE_KINDS ? 1u << (int)kind : 0u;
    known.pole_pairs = a->pole_pairs > 0.0 ? a->pole_pairs : known.pole_pairs;
    known.encoder_counts = a->encoder_counts > 0.0 ? a->encoder_counts : known.encoder_counts;
    known.periods = a->periods_per_turn > 0.0 ? a->periods_per_turn : known.periods;
    return known;
}

/* The hand that turns a simulated shaft: that of a scenario, or forth and back. */
static int set_hand(const arguments *a, const cvk_device *d, double *length_s)
{
    cvk_rig_scenario hand = {.count = 2};
    cvk_complaint complaint;
    if (a->scenario != NULL) {
        if (cvk_scenario_file_read(&hand, a->scenario, &complaint) != CVK_OK) {
            return complain_file(VERB, &complaint);
        }
    }
    for (unsigned n = 0; n < 2 && a->scenario == NULL; n++) {
        hand.item[n] = cvk_rig_event_default(CVK_LOAD_DRIVEN);
        hand.item[n].from_s = n * HAND_S;
        hand.item[n].for_s = HAND_S;
        hand.item[n].ramp_s = 0.25 * HAND_S;
        hand.item[n].value[0] = n == 0 ? HAND_MECH_RAD_S : -HAND_MECH_RAD_S;
    }
    *length_s = *length_s > 0.0 ? *length_s : 2.0 * HAND_S;
    cvk_rig_set_scenario(cvk_sim_device_inside(d)->rig, &hand);
    return EXIT_DONE;
}

static int watch_device(const arguments *a, const char *address, watcher *w)
{
    cvk_device d;
    double length_s = a->length_s;
    unsigned place[SIGNALS], count = 0;
    int status = open_device(VERB, address, w->picture.on, &d);
    cvk_session *s = &d.session;
    if (status == EXIT_DONE) {
        const cvk_hand_known known = known_of(a, s);
        cvk_hand_begin(&w->check, &known);
        w->period_s = (double)s->period_s;
        for (unsigned n = 0; n < SIGNALS; n++) {
            const int found = cvk_session_signal_named(s, signal_names[n]);
            w->has[n] = found >= 0;
            place[count] = (unsigned)found;
            count += found >= 0;
        }
        if (d.bench.context != NULL) {
            status = set_hand(a, &d, &length_s);
        } else if (a->scenario != NULL) {
            status = complain_usage(VERB, "--scenario is for sim:RIG; give it to corvak serve");
        }
    }
    if (status == EXIT_DONE) {
        length_s = length_s > 0.0 ? length_s : (w->picture.on ? (double)INFINITY : PIPE_S);
        s->calls = (cvk_session_calls){.context = w, .samples = on_samples};
        const unsigned decimation = cvk_session_decimation(s, count, 0.0);
        status = check_device(VERB, &d, cvk_session_stream(s, place, count, decimation));
        const double until_s = cvk_session_now_s(s) + length_s;
        while (status == EXIT_DONE && !interrupted && cvk_session_now_s(s) < until_s) {
            status = check_device(VERB, &d, cvk_session_pump(s, 0.02));
        }
    }
    cvk_device_close(&d);
    return status;
}

/* ---- a log -------------------------------------------------------------------------------------
 */

static double cell(const cvk_log *log, cvk_column column, size_t row)
{
    return log->column[column] != NULL ? log->column[column][row] : (double)NAN;
}

static double hall_of(const cvk_log *log, size_t row)
{
    if (log->column[CVK_COLUMN_HALL] != NULL) {
        return log->column[CVK_COLUMN_HALL][row];
    }
    double code = 0.0;
    for (int n = 0; n < 3; n++) {
        const double level = cell(log, (cvk_column)(CVK_COLUMN_HALL_A + n), row);
        code += isfinite(level) ? (level > 0.5 ? 1 << n : 0) : (double)NAN;
    }
    return code;
}

static int watch_log(const arguments *a, char *path, watcher *w)
{
    log_set *set = g_new0(log_set, 1);
    int status = read_log_set(set, VERB, &a->log, &path, 1);
    if (status == EXIT_DONE) {
        const cvk_log *log = set->log[0];
        const cvk_hand_known known = {
            .expected = (1u << CVK_ROTOR_ANGLE_KINDS) - 1u,
            .pole_pairs = a->pole_pairs > 0.0 ? a->pole_pairs : log->pole_pairs,
            .encoder_counts = a->encoder_counts > 0.0 ? a->encoder_counts : log->encoder_counts,
            .periods = a->periods_per_turn};
        cvk_hand_begin(&w->check, &known);
        for (size_t k = 0; k < log->rows; k++) {
            const cvk_hand_row row = {cell(log, CVK_COLUMN_T, k),
                                      cell(log, CVK_COLUMN_THETA_M, k),
                                      cell(log, CVK_COLUMN_ENC, k),
                                      cell(log, CVK_COLUMN_INDEX, k),
                                      hall_of(log, k),
                                      cell(log, CVK_COLUMN_SIN, k),
                                      cell(log, CVK_COLUMN_COS, k)};
            cvk_hand_look(&w->check, &row);
        }
    }
    free_log_set(set);
    g_free(set);
    return status;
}

int cmd_watch(int argc, char **argv)
{
    arguments a = {.log = LOG_OPTIONS_DEFAULT};
    const GOptionEntry entries[] = {
        {"for", 0, 0, G_OPTION_ARG_DOUBLE, &a.length_s,
         "look so long (until Ctrl-C; in a pipe 10 s)", "S"},
        {"scenario", 'S', 0, G_OPTION_ARG_FILENAME, &a.scenario,
         "what turns the shaft of sim:RIG (else once forth and back)", "FILE"},
        {"pole-pairs", 0, 0, G_OPTION_ARG_DOUBLE, &a.pole_pairs,
         "pole pairs of the motor (else from the device or log)", "N"},
        {"encoder-counts", 0, 0, G_OPTION_ARG_DOUBLE, &a.encoder_counts,
         "counts per turn (else from the device or log)", "N"},
        {"periods-per-turn", 0, 0, G_OPTION_ARG_DOUBLE, &a.periods_per_turn,
         "of a sin/cos sensor (else one per pole pair)", "N"},
        {"json", 0, 0, G_OPTION_ARG_NONE, &a.json, "print the verdict as one JSON document", NULL},
        LOG_OPTION_ENTRIES(a.log),
        G_OPTION_ENTRY_NULL};
    if (!parse_options(VERB, "DEVICE|LOG",
                       "Shows the rotor sensors while the shaft is turned by hand, and says in "
                       "the end whether they are\nconsistent, or what is not. No torque is "
                       "applied. DEVICE is tcp:HOST:PORT, serial:PATH?baud=RATE,\nor sim:RIG, "
                       "whose shaft turns once forth and back.",
                       "corvak watch sim:data/mixer.rig.yaml", entries, &argc, &argv)) {
        return EXIT_BAD_USAGE;
    }
    watcher *w = g_new0(watcher, 1);
    int status = EXIT_BAD_USAGE;
    w->picture.on = !a.json && isatty(STDOUT_FILENO);
    if (argc != 2) {
        complain_usage(VERB, "name one device or one log");
    } else if (!(a.length_s >= 0.0) || !(a.pole_pairs >= 0.0) || !(a.encoder_counts >= 0.0)) {
        complain_usage(VERB, "--for, --pole-pairs and --encoder-counts: 0 and up");
    } else if (names_device(argv[1])) {
        catch_interrupt();
        status = watch_device(&a, argv[1], w);
    } else {
        status = watch_log(&a, argv[1], w);
    }
    if (status == EXIT_DONE) {
        cvk_hand_judge(&w->check);
        show_document(cvk_hand_check_document(&w->check), a.json);
        status = w->check.consistent ? EXIT_DONE : EXIT_ANSWER_NO;
    }
    g_free(w);
    g_free(a.scenario);
    free_log_options(&a.log);
    return status;
}
