/* SPDX-License-Identifier: Apache-2.0
 *
 * One rotor sensor against what the log's voltages and currents say of the field.
 *
 * Direction and ratio: of all whole ratios either way, the one with which the vectors of voltage or
 * current turn most alike, weighed by how many turns it did so. The offset: by the back-EMF, and,
 * when a current vector took the rotor along both ways, by the middle of the two lags; where both
 * are at hand they must agree.
 */
#include "calibration.h"

#include "corvak/core/units.h"

#include "math/numeric.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

#define MOST_RATIO 50
#define LEAST_WAY_RAD 0.02  /* own, that is no noise */
#define FIELD_STEP_S 2e-3   /* over which the field's way is followed */
#define ROCKED_TURNS 0.01   /* electrical: it moved, but did not go on */
#define MANY_TURNS 3.0      /* electrical: enough to decide */
#define LEAST_TURNS 0.4     /* electrical, to decide anything */
#define WEIGHT_PER_TURN 8.0 /* of a turn gone through, in independent looks at it; */
#define MOST_WEIGHT 8.0     /* and at most */
#define LIKENESS_FLOOR 0.05 /* of what a likeness is short of one, squared */
#define RATIO_WEIGHT 3.0    /* a part of the way has several electrical turns */
#define CLEAR_ODDS 2.0      /* of one part of the way, that is taken as contradicting another */
#define CONTRADICTING 5     /* one clear part in so many is more than chance */
#define SURE 0.99
#define FAIR_LIKENESS 0.6   /* else nothing turns with the sensor */
#define EVEN_LIKENESS 0.85  /* of a rotor that follows the field */
#define CLEARLY_LIKER 2.0   /* or at least so much more one way than the other */
#define HARMONICS_TURNS 1.2 /* of the sensor itself */
#define OFFSET_FLOOR                                                                               \
    (0.08 * CVK_RAD_PER_DEG) /* deviation, for what no column of the fit stands for */
#define ONE_WAY_DOUBT (1.2 * CVK_RAD_PER_DEG) /* half the hysteresis of usual halls */
#define COGGING_DOUBT (2.4 * CVK_RAD_PER_DEG)
#define COGGING_SHARE 0.25     /* of the lag */
#define STEP_DOUBT 0.29        /* of a sensor's step: half of it, evenly */
#define LATENCY_FLOOR_S 3.5e-6 /* what the dead times leave, largest where the ripple is */
#define EDGE_FLOOR (0.2 * CVK_RAD_PER_DEG)
#define HARMONIC_FLOOR (0.03 * CVK_RAD_PER_DEG) /* electrical */
#define USEFUL_OFFSET (12.0 * CVK_RAD_PER_DEG)  /* half interval of an offset that is given */
#define EDGE_PASSES 2.8 /* of a hall's edge, to tell its place and how sure that is */
#define FEW_PASSES_DOUBT (4.0 * CVK_RAD_PER_DEG)
#define DRAGGED_LAG                                                                                \
    (70.0 * CVK_RAD_PER_DEG)                 /* most that a rotor trails the vector that drags it  \
                                              */
#define TELLS_APART (25.0 * CVK_RAD_PER_DEG) /* deviation of an offset that tells d from q */
#define STEADY_LENGTH 0.05  /* wander of a vector that nobody regulates by the torque */
#define LEAST_EMF_SHARE 0.5 /* halls: of the voltages, that the rotor's motion be even */
#define SAME_PLACE (60.0 * CVK_RAD_PER_DEG)
#define CLEAR_PULL (4.0 * CVK_RAD_PER_DEG)

/* ---- direction and ratio -------------------------------------------------------------------- */

static double log_short(double likeness)
{
    return -log(1.0 - likeness * likeness + LIKENESS_FLOOR);
}

static double weight_of(double turns)
{
    return 0.5 * fmin(WEIGHT_PER_TURN * turns, MOST_WEIGHT);
}

/* Of voltage and current the one that tells more; a likeness where none flows is none. */
static double odds_of_part(const cvk_angle_likeness *a, const cvk_angle_likeness *b, int n)
{
    const double v = log_short(fmax(a->voltage[n], 0.0)) - log_short(fmax(b->voltage[n], 0.0));
    const double i = log_short(fmax(a->current[n], 0.0)) - log_short(fmax(b->current[n], 0.0));
    return weight_of(a->turns[n]) * (fabs(v) > fabs(i) ? v : i);
}

static int parts_of(double turns)
{
    return (int)fmin(fmax(floor(turns), 1.0), CVK_AF_BLOCKS);
}

/* Turns going up and down, in the sensor's own count; noise about one place is no way. */
static void ways_of(const cvk_sensor_column *c, size_t rows, double ways[2])
{
    const double least = c->kind == CVK_ROTOR_HALLS ? 0.0 : 4.0 * c->step_rad + LEAST_WAY_RAD;
    double last = NAN;
    ways[0] = ways[1] = 0.0;
    for (size_t k = 0; k < rows; k++) {
        const double x = c->angle_rad[k];
        if (isfinite(x) && !(fabs(x - last) <= least)) {
            ways[0] += x > last ? (x - last) / (2.0 * CVK_PI_WIDE) : 0.0;
            ways[1] += x < last ? (last - x) / (2.0 * CVK_PI_WIDE) : 0.0;
            last = x;
        }
    }
}

typedef struct choice {
    int direction, ratio;
    double odds; /* over nothing turning alike */
    double likeness;
} choice;

static cvk_status try_ratio(const cvk_angle_data *d, const cvk_sensor_column *c, double own_turns,
                            int direction, int ratio, choice *out)
{
    const cvk_angle_model m = {.column = c, .direction = direction, .ratio = ratio};
    cvk_angle_likeness like;
    cvk_status status = cvk_angle_likeness_of(d, &m, parts_of(own_turns), &like);
    *out = (choice){direction, ratio, 0.0, like.mean};
    for (int n = 0; n < like.blocks && status == CVK_OK; n++) {
        const double best = fmax(fmax(like.voltage[n], like.current[n]), 0.0);
        /* a part of the way in own turns: the ratio shows over whole ones */
        out->odds += RATIO_WEIGHT * weight_of(like.turns[n]) * log_short(best);
    }
    return status;
}

/* The likeliest ratio, either way. Its probability among all. */
static cvk_status find_ratio(const cvk_angle_data *d, const cvk_sensor_column *c, double own_turns,
                             cvk_sensor_calibration *out)
{
    choice tried[2 * MOST_RATIO];
    int best = 0;
    for (int n = 0; n < 2 * MOST_RATIO; n++) {
        cvk_status status = try_ratio(d, c, own_turns, n % 2 == 0 ? 1 : -1, 1 + n / 2, &tried[n]);
        if (status != CVK_OK) {
            return status;
        }
        best = tried[n].odds > tried[best].odds ? n : best;
    }
    double sum = 0.0;
    for (int n = 0; n < 2 * MOST_RATIO; n++) {
        sum += tried[n].ratio == tried[best].ratio && n != best
                   ? 0.0
                   : exp(tried[n].odds - tried[best].odds);
    }
    out->ratio = tried[best].ratio;
    out->ratio_probability = 1.0 / sum;
    if (out->ratio_probability < SURE && tried[best].likeness < EVEN_LIKENESS && d->current_flows) {
        snprintf(out->why, sizeof out->why,
                 "the rotor does not follow the field evenly (voltages and currents are alike to "
                 "%.0f %% at best): it swings, slips or is held; turn it more slowly, or with more "
                 "current",
                 100.0 * tried[best].likeness);
    }
    return CVK_OK;
}

/* From the likenesses one way and the other. */
static void decide_direction(const cvk_angle_likeness *a, const cvk_angle_likeness *b,
                             cvk_sensor_calibration *out)
{
    double odds = 0.0;
    int for_up = 0, for_down = 0;
    for (int n = 0; n < a->blocks; n++) {
        const double part = odds_of_part(a, b, n);
        odds += part;
        for_up += part > CLEAR_ODDS;
        for_down += part < -CLEAR_ODDS;
    }
    const int fewer = for_up < for_down ? for_up : for_down;
    out->direction_probability = 1.0 / (1.0 + exp(-fabs(odds)));
    out->direction = odds > 0.0 ? 1 : -1;
    if (fewer >= 2 && CONTRADICTING * fewer >= for_up + for_down) {
        out->direction = 0;
        snprintf(out->why, sizeof out->why,
                 "it counts with the field in %d parts of the log and against it in %d: the "
                 "direction was reversed in between (a plug put in again, a wire exchanged?); "
                 "record anew",
                 for_up, for_down);
    } else if (fmax(a->mean, b->mean) < FAIR_LIKENESS &&
               fmax(a->mean, b->mean) < CLEARLY_LIKER * fmin(a->mean, b->mean)) {
        out->direction = 0;
        snprintf(out->why, sizeof out->why,
                 "nothing turns with it: voltages and currents are alike to %.0f %% only; the "
                 "rotor does not follow the field, or the sensor slips",
                 100.0 * fmax(a->mean, b->mean));
    } else if (out->direction_probability < SURE && out->turns > MANY_TURNS) {
        out->direction = 0;
        snprintf(out->why, sizeof out->why,
                 "in %.0f electrical turns voltages and currents turn with it neither way: are "
                 "counts per turn and pole pairs (%d) right, or does it slip?",
                 out->turns, out->ratio);
    } else if (out->direction_probability < SURE) {
        out->direction = 0;
        snprintf(out->why, sizeof out->why,
                 "%.2f electrical turns are too few to see which way it counts (probability "
                 "%.2f): turn the shaft further",
                 out->turns, out->direction_probability);
    }
}

static cvk_status find_direction(const cvk_angle_data *d, const cvk_sensor_column *c,
                                 cvk_sensor_calibration *out)
{
    const cvk_angle_model up = {.column = c, .direction = 1, .ratio = out->ratio};
    const cvk_angle_model down = {.column = c, .direction = -1, .ratio = out->ratio};
    cvk_angle_likeness a, b;
    cvk_status status = cvk_angle_likeness_of(d, &up, parts_of(out->turns), &a);
    if (status == CVK_OK) {
        status = cvk_angle_likeness_of(d, &down, parts_of(out->turns), &b);
    }
    if (status == CVK_OK) {
        decide_direction(&a, &b, out);
    }
    return status;
}

/* ---- the offset ----------------------------------------------------------------------------- */

static unsigned features_for(const cvk_sensor_column *c, double own_turns, const double ways[2])
{
    unsigned wanted = 0;
    if (c->kind == CVK_ROTOR_HALLS) {
        for (int n = 0; n < CVK_HALL_EDGES; n++) {
            wanted |= ways[0] > EDGE_PASSES ? 1u << (CVK_AF_EDGES_UP + n) : 0u;
            wanted |= ways[1] > EDGE_PASSES ? 1u << (CVK_AF_EDGES_DOWN + n) : 0u;
        }
        return wanted != 0u ? wanted : 1u << CVK_AF_OFFSET;
    }
    wanted |= 1u << CVK_AF_OFFSET;
    wanted |= c->kind == CVK_ROTOR_ENCODER ? 1u << CVK_AF_SLIP : 0u;
    if (own_turns >= HARMONICS_TURNS) {
        wanted |= 1u << CVK_AF_COSINE_1 | 1u << CVK_AF_SINE_1 | 1u << CVK_AF_COSINE_2 |
                  1u << CVK_AF_SINE_2;
    }
    return wanted;
}

static double deviation(const cvk_angle_fit *fit, int feature)
{
    return sqrt(fmax(fit->cov[feature * CVK_AF_COUNT + feature], 0.0));
}

/* Weighted sum of features and its deviation. */
static void combine(const cvk_angle_fit *fit, const double weight[CVK_AF_COUNT], double *value,
                    double *sd)
{
    double variance = 0.0;
    *value = 0.0;
    for (int r = 0; r < CVK_AF_COUNT; r++) {
        *value += weight[r] * fit->value[r];
        for (int c = 0; c < CVK_AF_COUNT; c++) {
            variance += weight[r] * weight[c] * fit->cov[r * CVK_AF_COUNT + c];
        }
    }
    *sd = sqrt(fmax(variance, 0.0));
}

/* The offset of a fit: for halls the mean of their edges. */
static void offset_of(const cvk_angle_fit *fit, unsigned wanted, double *value, double *sd)
{
    double weight[CVK_AF_COUNT] = {0.0};
    const bool up = (wanted >> CVK_AF_EDGES_UP & 1u) != 0u;
    const bool down = (wanted >> CVK_AF_EDGES_DOWN & 1u) != 0u;
    weight[CVK_AF_OFFSET] = 1.0;
    for (int n = 0; n < CVK_HALL_EDGES; n++) {
        weight[CVK_AF_EDGES_UP + n] = up ? (down ? 0.5 : 1.0) / CVK_HALL_EDGES : 0.0;
        weight[CVK_AF_EDGES_DOWN + n] = down ? (up ? 0.5 : 1.0) / CVK_HALL_EDGES : 0.0;
    }
    combine(fit, weight, value, sd);
}

/* Readings stand for the lower end of their step or for its middle: a log does not tell. */
static double step_doubt(const cvk_angle_model *m)
{
    const double step = m->column->kind == CVK_ROTOR_HALLS ? 0.0 : m->column->step_rad;
    return m->column->kind == CVK_ROTOR_SINCOS ? 0.0 : STEP_DOUBT * m->ratio * step;
}

/* Counts are lost one by one, at random: beside their mean, which the fit takes off, their number
 * wanders by its root. */
static double slip_doubt(const cvk_angle_model *m, const cvk_angle_fit *fit, double turns)
{
    const double step = m->ratio * m->column->step_rad, slip = fabs(fit->value[CVK_AF_SLIP]);
    if ((m->wanted >> CVK_AF_SLIP & 1u) == 0u || slip < 2.0 * deviation(fit, CVK_AF_SLIP)) {
        return 0.0;
    }
    return step * sqrt(slip * turns * 2.0 * CVK_PI_WIDE / step / 3.0);
}

static cvk_measured interval(const cvk_angle_fit *fit, double value, double sd, double floor)
{
    return cvk_measured_of(value, cvk_student95(fit->dof) * hypot(sd, floor));
}

static void write_edges(const cvk_angle_model *m, const cvk_angle_fit *fit,
                        cvk_hall_calibration *out)
{
    const bool up = (m->wanted >> CVK_AF_EDGES_UP & 1u) != 0u;
    const bool down = (m->wanted >> CVK_AF_EDGES_DOWN & 1u) != 0u;
    for (int n = 0; n < CVK_HALL_EDGES; n++) {
        double weight[CVK_AF_COUNT] = {0.0}, value, sd;
        weight[CVK_AF_OFFSET] = 1.0;
        weight[CVK_AF_EDGES_UP + n] = up ? (down ? 0.5 : 1.0) : 0.0;
        weight[CVK_AF_EDGES_DOWN + n] = down ? (up ? 0.5 : 1.0) : 0.0;
        combine(fit, weight, &value, &sd);
        value = remainder(value + m->direction * cvk_hall_edge_angle(n), 2.0 * CVK_PI_WIDE);
        out->edge_rad[n] = interval(fit, value, sd, up && down ? EDGE_FLOOR : ONE_WAY_DOUBT);
        out->hysteresis_rad[n] = CVK_UNKNOWN_MEASURED;
        if (up && down) { /* going up it comes later than going down */
            memset(weight, 0, sizeof weight);
            weight[CVK_AF_EDGES_UP + n] = m->direction;
            weight[CVK_AF_EDGES_DOWN + n] = -m->direction;
            combine(fit, weight, &value, &sd);
            out->hysteresis_rad[n] = interval(fit, value, sd, EDGE_FLOOR);
        }
    }
}

/* The sensor's own errors: electrical ones of the fit over the ratio, of the other sign. */
static void write_harmonics(const cvk_angle_model *m, const cvk_angle_fit *fit,
                            cvk_sensor_calibration *out)
{
    const double per_own = -1.0 / (double)(m->direction * m->ratio);
    for (int n = 0; n < CVK_SENSOR_HARMONICS; n++) {
        const int at = CVK_AF_COSINE_1 + 2 * n;
        if ((m->wanted >> at & 1u) == 0u) {
            continue;
        }
        cvk_measured *const to[2] = {&out->cosine_rad[n], &out->sine_rad[n]};
        for (int k = 0; k < 2; k++) {
            const double half =
                cvk_student95(fit->dof) * hypot(deviation(fit, at + k), HARMONIC_FLOOR);
            *to[k] = cvk_measured_of(per_own * fit->value[at + k], fabs(per_own) * half);
        }
    }
}

/* Halls were passed up and down: one way alone, half their hysteresis is in the offset. */
static bool both_ways(const cvk_angle_model *m)
{
    return (m->wanted >> CVK_AF_EDGES_UP & 1u) != 0u && (m->wanted >> CVK_AF_EDGES_DOWN & 1u) != 0u;
}

static void write_fit(const cvk_angle_model *m, const cvk_angle_fit *fit,
                      cvk_sensor_calibration *out)
{
    double value, sd, floor = OFFSET_FLOOR;
    offset_of(fit, m->wanted, &value, &sd);
    /* the magnets' detents lie alike at every edge: halls alone cannot tell them from their offset
     */
    if (m->column->kind == CVK_ROTOR_HALLS && out->reference == CVK_REFERENCE_CURRENT) {
        floor = COGGING_DOUBT + COGGING_SHARE * fabs(fit->value[CVK_AF_WAY]);
    } else if (m->column->kind == CVK_ROTOR_HALLS && (m->wanted >> CVK_AF_OFFSET & 1u) != 0u) {
        floor = FEW_PASSES_DOUBT;
    } else if (m->column->kind == CVK_ROTOR_HALLS && !both_ways(m)) {
        floor = ONE_WAY_DOUBT;
    }
    out->electrical_offset_rad =
        interval(fit, remainder(value, 2.0 * CVK_PI_WIDE), sd,
                 hypot(hypot(floor, step_doubt(m)), slip_doubt(m, fit, out->turns)));
    write_harmonics(m, fit, out);
    if (m->column->kind == CVK_ROTOR_HALLS && (m->wanted >> CVK_AF_OFFSET & 1u) == 0u) {
        write_edges(m, fit, &out->hall);
    }
    if (out->reference == CVK_REFERENCE_BACK_EMF && (m->wanted >> CVK_AF_LATENCY & 1u) != 0u) {
        out->latency_s = interval(fit, fit->value[CVK_AF_LATENCY], deviation(fit, CVK_AF_LATENCY),
                                  LATENCY_FLOOR_S);
    }
    if (out->reference == CVK_REFERENCE_CURRENT) {
        out->lag_rad =
            interval(fit, fit->value[CVK_AF_WAY], deviation(fit, CVK_AF_WAY), OFFSET_FLOOR);
    }
}

/* ---- which of the two references ------------------------------------------------------------- */

/* A vector that drags the rotor lies near its d axis, both ways; one that a controller turns with
 * the rotor lies near q. The back-EMF tells which, or else the vector's length: that of a
 * controller follows the torque. */
static bool dragged(const cvk_angle_fit *current, unsigned wanted, const cvk_angle_fit *emf)
{
    double by_current, by_emf = 0.0, sd, emf_sd = INFINITY;
    if (!current->fine || current->size < FAIR_LIKENESS ||
        fabs(current->value[CVK_AF_WAY]) > DRAGGED_LAG) {
        return false;
    }
    offset_of(current, wanted, &by_current, &sd);
    if (emf->fine) {
        offset_of(emf, wanted, &by_emf, &emf_sd);
    }
    if (emf_sd > TELLS_APART) {
        return current->wander < STEADY_LENGTH;
    }
    return fabs(remainder(by_current - by_emf, 2.0 * CVK_PI_WIDE)) < SAME_PLACE;
}

static double rms_of(const double *x, size_t n)
{
    double sum = 0.0;
    for (size_t k = 0; k < n; k++) {
        sum += x[k] * x[k];
    }
    return n > 0 ? sqrt(sum / (double)n) : NAN;
}

static cvk_status draw_error(const cvk_angle_data *d, const cvk_angle_model *m,
                             const cvk_angle_fit *fit, cvk_sensor_calibration *out)
{
    const bool by_current = out->reference == CVK_REFERENCE_CURRENT;
    cvk_status status = cvk_angle_error_curve(d, m, fit, by_current, &out->curve);
    out->error_before_rad = rms_of(out->curve.before_rad, out->curve.points);
    out->error_after_rad = rms_of(out->curve.after_rad, out->curve.points);
    return status;
}

static void choose_reference(const cvk_angle_model *m, const cvk_angle_fit *emf,
                             const cvk_angle_fit *current, cvk_sensor_calibration *out)
{
    const bool halls = m->column->kind == CVK_ROTOR_HALLS;
    double by_emf = 0.0, emf_sd = INFINITY, by_current, current_sd;
    if (emf->fine) {
        offset_of(emf, m->wanted, &by_emf, &emf_sd);
    }
    const bool by_speed =
        emf->fine && cvk_student95(emf->dof) * hypot(emf_sd, OFFSET_FLOOR) < USEFUL_OFFSET;
    if (!(halls && by_speed) && dragged(current, m->wanted, emf)) {
        offset_of(current, m->wanted, &by_current, &current_sd);
        const double apart = remainder(by_current - by_emf, 2.0 * CVK_PI_WIDE);
        const double doubt = 3.0 * hypot(hypot(emf_sd, current_sd), OFFSET_FLOOR);
        if (halls) {
            out->reference = CVK_REFERENCE_CURRENT;
            write_fit(m, current, out);
            return;
        }
        if (fabs(apart) > fmax(doubt, CLEAR_PULL)) {
            snprintf(out->why, sizeof out->why,
                     "a load pulls: by the current vector the offset is %.1f degrees from that by "
                     "the back-EMF; take the load off, or record at speed (corvak record spin)",
                     apart / CVK_RAD_PER_DEG);
            return;
        }
        if (current_sd < emf_sd) {
            out->reference = CVK_REFERENCE_CURRENT;
            write_fit(m, current, out);
            return;
        }
    }
    if (by_speed) {
        out->reference = CVK_REFERENCE_BACK_EMF;
        write_fit(m, emf, out);
        return;
    }
    snprintf(out->why, sizeof out->why,
             "the back-EMF is too small to show the offset (it would be known to %.0f degrees), "
             "and no current vector drags the rotor both ways: record at speed (corvak record "
             "spin), or a sweep both ways",
             fmin(cvk_student95(CVK_AF_BLOCKS / 2.0) * emf_sd / CVK_RAD_PER_DEG, 180.0));
}

/* How far the current vector has gone round, from its farthest one way to the other. */
static double field_turns(const cvk_angle_data *d)
{
    const cvk_waveforms *s = d->waveforms;
    const size_t step = (size_t)fmax(1.0, FIELD_STEP_S / s->period_s);
    double turns = 0.0, most = 0.0, least_turns = 0.0;
    for (size_t k = step; k + step < s->rows && d->current_flows; k += step) {
        const double complex now = d->current[k + step] - d->current[k];
        const double complex before = d->current[k] - d->current[k - step];
        const double least = 0.3 * s->peak_current_a * (double)step * s->period_s;
        if (cabs(now) > least && cabs(before) > least) {
            turns += carg(now * conj(before)) / (2.0 * CVK_PI_WIDE);
            most = fmax(most, turns);
            least_turns = fmin(least_turns, turns);
        }
    }
    return most - least_turns;
}

/* It hardly moved: why. */
static void explain_rest(const cvk_angle_data *d, const cvk_sensor_column *c,
                         cvk_sensor_calibration *out)
{
    const double span = c->span_rad * fmax(out->ratio, 1.0) / (2.0 * CVK_PI_WIDE),
                 field = field_turns(d);
    if (field < 1.0) {
        snprintf(out->why, sizeof out->why,
                 "it moved by %.2f electrical turns only, at least %.1f are needed: turn the shaft "
                 "further",
                 span, LEAST_TURNS);
    } else if (c->stuck && c->kind != CVK_ROTOR_HALLS && c->kind != CVK_ROTOR_ENCODER) {
        snprintf(
            out->why, sizeof out->why,
            "its reading is frozen while the field turned: unplugged, or the shaft is blocked");
    } else if (span > ROCKED_TURNS) {
        snprintf(
            out->why, sizeof out->why,
            "it rocked by %.2f electrical turns while the field went round: too little current "
            "(%.3g A) to move the rotor, or it is held",
            span, d->waveforms->peak_current_a);
    } else {
        snprintf(out->why, sizeof out->why,
                 "it did not move while the field turned: the shaft is blocked, or %.3g A are too "
                 "little current to move it",
                 d->waveforms->peak_current_a);
    }
}

/* ---- in order ------------------------------------------------------------------------------- */

/* Nothing to look at: the reason. */
static bool readable(const cvk_angle_data *d, const cvk_sensor_column *c,
                     cvk_sensor_calibration *out)
{
    const size_t rows = d->waveforms->rows;
    out->bad_share = (double)c->bad / (double)rows;
    if (out->bad_share > 0.5) {
        snprintf(out->why, sizeof out->why,
                 c->kind == CVK_ROTOR_HALLS
                     ? "%.0f %% of its codes are 0 or 7, which no rotor makes: unplugged or "
                       "without supply? Halls 60 degrees apart read so too: invert hall b"
                     : "%.0f %% of its readings are no numbers: is it plugged in?",
                 100.0 * out->bad_share);
        return false;
    }
    if (c->stuck) {
        explain_rest(d, c, out);
        return false;
    }
    return true;
}

void cvk_calibrate_direction(const cvk_angle_data *d, const cvk_sensor_column *c,
                             cvk_sensor_calibration *out)
{
    cvk_angle_likeness up, down;
    out->present = true;
    cvk_count_likeness(d, c, CVK_AF_BLOCKS, &up, &down);
    for (int n = 0; n < up.blocks; n++) {
        out->turns += up.turns[n];
    }
    if (c->stuck || out->turns < LEAST_TURNS) {
        explain_rest(d, c, out);
        return;
    }
    decide_direction(&up, &down, out);
}

/* Ratio and direction are known: the offset, and what else the log shows. */
static cvk_status place(const cvk_angle_data *d, const cvk_sensor_column *c, unsigned wanted,
                        cvk_sensor_calibration *out)
{
    cvk_angle_model m = {
        .column = c, .direction = out->direction, .ratio = out->ratio, .wanted = wanted};
    cvk_angle_fit emf, current = {.fine = false};
    cvk_angle_model at_speed = m;
    at_speed.wanted |= 1u << CVK_AF_LATENCY;
    cvk_status status = cvk_angle_by_back_emf(d, &at_speed, &emf);
    if (status == CVK_OK && d->current_flows) {
        status = cvk_angle_by_current(d, &m, &current);
    }
    if (c->kind == CVK_ROTOR_HALLS && emf.emf_share < LEAST_EMF_SHARE) {
        emf.fine = false; /* slow: between two edges the rotor moves as it likes */
    }
    if (status == CVK_OK) {
        m.wanted = at_speed.wanted;
        choose_reference(&m, &emf, &current, out);
    }
    if (status == CVK_OK && out->reference != CVK_REFERENCE_NONE) {
        status = draw_error(d, &m, out->reference == CVK_REFERENCE_CURRENT ? &current : &emf, out);
    }
    return status;
}

cvk_status cvk_calibrate_angle(const cvk_angle_data *d, const cvk_sensor_column *c, int ratio,
                               cvk_sensor_calibration *out)
{
    const size_t rows = d->waveforms->rows;
    double ways[2];
    out->present = true;
    if (!readable(d, c, out)) {
        return CVK_OK;
    }
    ways_of(c, rows, ways);
    const double own_turns = ways[0] + ways[1];
    out->ratio = ratio;
    out->ratio_probability = ratio > 0 ? 1.0 : 0.0;
    cvk_status status = ratio > 0 ? CVK_OK : find_ratio(d, c, own_turns, out);
    out->turns = own_turns * out->ratio;
    if (status != CVK_OK || out->turns < LEAST_TURNS) {
        explain_rest(d, c, out);
        return status;
    }
    if (out->ratio_probability < SURE && out->why[0] != '\0') {
        return CVK_OK;
    }
    if (out->ratio_probability < SURE) {
        snprintf(out->why, sizeof out->why,
                 "its %.2f turns do not show the pole pairs (%d with probability %.2f): give them "
                 "(--pole-pairs), or turn the shaft further",
                 own_turns, out->ratio, out->ratio_probability);
        return CVK_OK;
    }
    status = find_direction(d, c, out);
    if (status != CVK_OK || out->direction == 0) {
        return status;
    }
    return place(d, c, features_for(c, own_turns, ways), out);
}
