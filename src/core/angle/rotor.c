/* SPDX-License-Identifier: Apache-2.0
 *
 * The rotor sensor: the decoder of its kind, its known errors taken off, and a second-order
 * tracking filter behind it (alpha-beta filter, both poles at the bandwidth): quantisation and
 * noise do not reach the speed, and a constant speed leaves no lag.
 *
 * A reading that cannot be is left out: the filter goes on at its speed, and the quality falls to
 * nothing within LOST_S. Nothing ever makes the angle jump but beginning anew, which happens with
 * the bridge off only.
 */
#include "decoders.h"

#include "base/arithmetic.h"

#include <stddef.h>

#define PRIME_TICKS 16u   /* readings from which the first speed is taken */
#define FARTHEST_RAD 0.8f /* electrical, of a reading from where it is expected */
#define DISPUTE_RAD 1.05f /* apart from a flux observer that is sure */
#define SURE 0.9f

static const char *const kinds[] = CVK_SENSOR_NAMES;
static const char *const startups[] = {"stored", "index", "calibrate", NULL};

#define EDGE_ROW(n)                                                                                \
    CVK_ROW(rotor, hall_edge_##n##_rad, "rad", -0.5f, 0.5f, 0.0f, true,                            \
            "halls: how far edge " #n " lies behind its place, electrical, going up")

#define STUCK_RAD 0.6f   /* electrical, that the rotor goes on while the sensor's reading stays */
#define STUCK_STEPS 4.0f /* and steps of the sensor */
#define ANEW_S 0.01f     /* bridge off: a rotor elsewhere for so long is believed to be there */
#define DISPUTE_S 0.02f  /* sensor and observer apart for so long: one of the two is wrong */

static const cvk_parameter rows[] = {
    CVK_ROW_CHOICE(rotor, kind, kinds, CVK_ROTOR_KINDS - 1, CVK_ROTOR_NONE,
                   "kind of the rotor sensor"),
    CVK_ROW_CHOICE(
        rotor, startup, startups, 2, 0,
        "offset holds after power-up: as stored, once past the index, or if calibrated anew"),
    CVK_ROW_WHOLE(rotor, counts, 4, 1e6f, 4096, "encoder: counts per turn, four per line"),
    CVK_ROW_WHOLE(rotor, periods_per_turn, 0, 200, 0,
                  "sin/cos: periods per turn; 0: one per pole pair"),
    CVK_ROW_YES_NO(rotor, reversed, 0, "whether it counts against the field's direction"),
    CVK_ROW(rotor, offset_rad, "rad", -7.0f, 7.0f, 0.0f, false,
            "electrical angle at sensor angle zero"),
    CVK_ROW(rotor, latency_s, "s", 0.0f, 1e-3f, 0.0f, true,
            "age of a reading: the angle is reckoned on by it"),
    CVK_ROW(rotor, bandwidth_hz, "Hz", 1.0f, 5000.0f, 100.0f, true,
            "bandwidth of the tracking filter behind the sensor; halls get half of it"),
    CVK_ROW(rotor, cosine_1_rad, "rad", -0.5f, 0.5f, 0.0f, true,
            "error of a reading once a turn of the sensor, cosine part, in its own angle"),
    CVK_ROW(rotor, sine_1_rad, "rad", -0.5f, 0.5f, 0.0f, true, "the same, sine part"),
    CVK_ROW(rotor, cosine_2_rad, "rad", -0.5f, 0.5f, 0.0f, true, "twice a turn, cosine part"),
    CVK_ROW(rotor, sine_2_rad, "rad", -0.5f, 0.5f, 0.0f, true, "twice a turn, sine part"),
    CVK_ROW(rotor, index_rad, "rad", -7.0f, 7.0f, 0.0f, false,
            "encoder: sensor angle at the index mark"),
    CVK_ROW(rotor, amplitude_v, "V", 0.0f, 100.0f, 0.0f, true,
            "sin/cos: amplitude; much less is a pulled cable; 0: not known"),
    CVK_ROW(rotor, sin_offset_v, "V", -50.0f, 50.0f, 0.0f, true, "sin/cos: offset of sin"),
    CVK_ROW(rotor, cos_offset_v, "V", -50.0f, 50.0f, 0.0f, true, "sin/cos: offset of cos"),
    CVK_ROW(rotor, gain_ratio, "", 0.5f, 2.0f, 1.0f, true, "sin/cos: gain of sin over that of cos"),
    CVK_ROW(rotor, quadrature_rad, "rad", -0.7f, 0.7f, 0.0f, true,
            "sin/cos: sin leads by this much more than a quarter period"),
    EDGE_ROW(1),
    EDGE_ROW(2),
    EDGE_ROW(3),
    EDGE_ROW(4),
    EDGE_ROW(5),
    EDGE_ROW(6),
    CVK_ROW(rotor, hall_hysteresis_rad, "rad", 0.0f, 1.0f, 0.0f, true,
            "halls: between an edge going up and going down, electrical"),
    CVK_ROW(rotor, tachometer_v_s, "V s", -100.0f, 100.0f, 0.0f, true,
            "tachometer: volts per mechanical rad/s; 0: not known"),
};
const cvk_parameter_rows cvk_rotor_rows = CVK_ROWS(rows);

/* ---- a reading ------------------------------------------------------------------------------- */

static cvk_rotor_reading read_own(cvk_rotor *r, const cvk_setup *setup,
                                  const cvk_rotor_readings *read)
{
    switch ((cvk_rotor_kind)setup->settings.rotor.kind) {
    case CVK_ROTOR_ABSOLUTE:
        return cvk_absolute_read(read);
    case CVK_ROTOR_ENCODER:
        return cvk_encoder_read(&r->encoder, setup, read);
    case CVK_ROTOR_SINCOS:
        return cvk_sincos_read(setup, read);
    case CVK_ROTOR_HALLS:
        return cvk_halls_read(&r->halls, setup, read);
    default: /* the others have no angle, and do not come here */
        return cvk_rotor_refused(CVK_ANGLE_OFF);
    }
}

/* The sensor's known errors, in its own angle. */
static float error_at(const cvk_rotor_settings *s, float own_rad)
{
    const cvk_rotation once = cvk_rotation_of(own_rad);
    const cvk_rotation twice = cvk_rotation_then(once, once);
    return s->cosine_1_rad * once.cosine + s->sine_1_rad * once.sine +
           s->cosine_2_rad * twice.cosine + s->sine_2_rad * twice.sine;
}

static float electrical_of(const cvk_rotor *r, const cvk_setup *setup, float own_rad)
{
    const cvk_rotor_settings *s = &setup->settings.rotor;
    const float true_rad = setup->rotor.corrected ? own_rad - error_at(s, own_rad) : own_rad;
    return r->found ? cvk_wrap_angle(r->found_ratio * true_rad + r->found_offset_rad)
                    : cvk_wrap_angle(setup->rotor.ratio * true_rad + s->offset_rad);
}

/* The reading stays the same while the rotor should have gone on. Halls know that by themselves. */
static bool is_stuck(cvk_rotor *r, const cvk_setup *setup, float own_rad)
{
    if (own_rad != r->own_before_rad || setup->settings.rotor.kind == CVK_ROTOR_HALLS) {
        r->own_before_rad = own_rad;
        r->stayed_rad = 0.0f;
        return false;
    }
    r->stayed_rad += r->now.speed_rad_s * setup->period_s;
    return fabsf(r->stayed_rad) > setup->rotor.stuck_rad;
}

/* An observer that is sure of itself says something else, for long. */
static bool is_disputed(cvk_rotor *r, const cvk_setup *setup, const cvk_moment *now)
{
    const cvk_angle *seen = &now->source[setup->observer.chosen];
    const bool apart = seen->quality > SURE &&
                       fabsf(cvk_wrap_angle(seen->angle_rad - r->now.angle_rad)) > DISPUTE_RAD;
    r->disputed = apart ? r->disputed + 1u : 0u;
    return r->disputed > setup->rotor.dispute_ticks;
}

/* ---- tracking -------------------------------------------------------------------------------- */

/* The first readings: where it is, and how fast it goes. */
static void prime(cvk_rotor *r, const cvk_setup *setup, const cvk_rotor_reading *read,
                  float angle_rad)
{
    if (read->quality == 0.0f) {
        r->now = (cvk_angle){0.0f, 0.0f, 0.0f, read->reason};
        r->primed = 0;
        return;
    }
    if (r->primed == 0) {
        r->turned_rad = 0.0f;
    } else {
        r->turned_rad += cvk_wrap_angle(angle_rad - r->now.angle_rad);
    }
    r->now = (cvk_angle){angle_rad, 0.0f, 0.0f, CVK_ANGLE_NOT_SETTLED};
    if (++r->primed == PRIME_TICKS) {
        const bool halls = setup->settings.rotor.kind == CVK_ROTOR_HALLS;
        r->now.speed_rad_s =
            halls ? 0.0f : r->turned_rad / ((float)(PRIME_TICKS - 1u) * setup->period_s);
        r->now.quality = read->quality;
        r->now.reason = CVK_ANGLE_FINE;
        r->lost = r->disputed = 0;
    }
}

/* What the angle is worth after so many readings that were left out, less those that were not. */
static float worth(const cvk_rotor *r, const cvk_setup *setup)
{
    const float share = (float)r->lost / (float)(setup->start.lost_ticks + 1u);
    return share < 1.0f ? 1.0f - share : 0.0f;
}

/* Without a reading the angle goes on at its speed. */
static void go_on(cvk_rotor *r, const cvk_setup *setup, int32_t reason)
{
    r->now.quality = worth(r, setup);
    r->now.reason = reason;
    r->lost += r->lost <= setup->start.lost_ticks + setup->rotor.anew_ticks ? 1u : 0u;
}

static void track(cvk_rotor *r, const cvk_setup *setup, const cvk_rotor_reading *read,
                  float angle_rad, const cvk_moment *now)
{
    const float expected = r->now.angle_rad + r->now.speed_rad_s * setup->period_s;
    const bool halls = setup->settings.rotor.kind == CVK_ROTOR_HALLS; /* they judge themselves */
    const float off = cvk_wrap_angle(angle_rad - expected);
    const float error = halls ? cvk_clamp(off, FARTHEST_RAD) : off;
    r->now.angle_rad = cvk_wrap_angle(expected);
    if (read->quality == 0.0f) {
        go_on(r, setup, read->reason);
    } else if (is_stuck(r, setup, read->own_rad)) {
        go_on(r, setup, CVK_ANGLE_STUCK);
    } else if (fabsf(error) > FARTHEST_RAD && !halls) {
        go_on(r, setup, CVK_ANGLE_JUMPED);
    } else if (is_disputed(r, setup, now)) {
        r->now.angle_rad = cvk_wrap_angle(expected + setup->rotor.gain_angle * error);
        r->now.speed_rad_s += setup->rotor.gain_speed * error;
        go_on(r, setup, CVK_ANGLE_NO_MATCH);
    } else {
        r->now.angle_rad = cvk_wrap_angle(expected + setup->rotor.gain_angle * error);
        r->now.speed_rad_s += setup->rotor.gain_speed * error;
        r->now.quality = r->lost == 0u ? read->quality : read->quality * worth(r, setup);
        r->now.reason = CVK_ANGLE_FINE;
        r->lost -= r->lost > 0u ? 1u : 0u; /* by chance a wrong one may come near */
    }
    if (r->lost > setup->rotor.anew_ticks && read->quality > 0.0f && now->bridge_on == 0) {
        r->primed = 0;
    }
}

bool cvk_rotor_is_known(const cvk_angles *angles, const cvk_rotor_settings *s)
{
    const cvk_rotor *r = &angles->rotor;
    const bool counts_only = s->kind == CVK_ROTOR_ENCODER;
    const bool marked = s->startup == CVK_ROTOR_INDEX && r->encoder.indexed;
    return r->aligned || marked || (s->startup != CVK_ROTOR_CALIBRATE && !counts_only);
}

/* The reading of this call, its angle, and what the filter makes of it. */
static void follow(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now)
{
    cvk_rotor *r = &angles->rotor;
    const cvk_rotor_reading read = read_own(r, setup, &now->readings.rotor);
    const float late_rad = setup->settings.rotor.latency_s * r->now.speed_rad_s;
    const float angle_rad = electrical_of(r, setup, read.own_rad) + late_rad;
    r->read_own_rad = read.own_rad;
    r->read_quality = read.quality;
    if (r->primed < PRIME_TICKS) {
        prime(r, setup, &read, angle_rad);
    } else {
        track(r, setup, &read, angle_rad, now);
    }
}

void cvk_rotor_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now)
{
    cvk_rotor *r = &angles->rotor;
    const int32_t kind = setup->settings.rotor.kind;
    if (kind == CVK_ROTOR_NONE) {
        now->source[CVK_ANGLE_ROTOR] = (cvk_angle){0.0f, 0.0f, 0.0f, CVK_ANGLE_OFF};
        return;
    }
    now->rotor_known = cvk_rotor_is_known(angles, &setup->settings.rotor) ? 1 : 0;
    if (kind == CVK_ROTOR_TACHOMETER) {
        r->now = (cvk_angle){0.0f, setup->rotor.per_volt * now->readings.rotor.tachometer_v, 0.0f,
                             CVK_ANGLE_SPEED_ONLY};
    } else {
        follow(angles, setup, now);
    }
    now->source[CVK_ANGLE_ROTOR] = r->now;
}

static void prepare_halls(cvk_rotor_constants *c, const cvk_rotor_settings *s)
{
    const float late[CVK_ROTOR_EDGES] = {s->hall_edge_1_rad, s->hall_edge_2_rad,
                                         s->hall_edge_3_rad, s->hall_edge_4_rad,
                                         s->hall_edge_5_rad, s->hall_edge_6_rad};
    for (int n = 0; n < CVK_ROTOR_EDGES; n++) {
        c->hall_edge_rad[n] = CVK_PI / 3.0f * ((float)n + 0.5f) + late[n];
    }
    c->half_hysteresis_rad = 0.5f * s->hall_hysteresis_rad;
}

void cvk_rotor_prepare(cvk_setup *setup)
{
    const cvk_rotor_settings *s = &setup->settings.rotor;
    cvk_rotor_constants *c = &setup->rotor;
    const float pole_pairs = (float)setup->settings.motor.pole_pairs;
    const float sign = s->reversed != 0 ? -1.0f : 1.0f, T = setup->period_s;
    const float periods = s->periods_per_turn > 0 ? (float)s->periods_per_turn : pole_pairs;
    const bool shaft = s->kind == CVK_ROTOR_ABSOLUTE || s->kind == CVK_ROTOR_ENCODER;
    c->ratio = sign * (shaft                                           ? pole_pairs
                       : s->kind == CVK_ROTOR_SINCOS && periods > 0.0f ? pole_pairs / periods
                                                                       : 1.0f);
    c->per_count_rad = CVK_TWO_PI / (float)s->counts;
    c->index_counts = (int32_t)(s->index_rad / c->per_count_rad);
    c->index_doubt_counts = s->counts / 64;
    c->stuck_rad = STUCK_STEPS * (s->kind == CVK_ROTOR_ENCODER ? pole_pairs * c->per_count_rad : 0);
    c->stuck_rad = c->stuck_rad > STUCK_RAD ? c->stuck_rad : STUCK_RAD;
    c->per_gain = 1.0f / s->gain_ratio;
    const cvk_rotation lean = cvk_rotation_of(s->quadrature_rad);
    c->per_cos_lean = 1.0f / lean.cosine;
    c->tan_lean = lean.sine / lean.cosine;
    c->corrected = s->cosine_1_rad != 0.0f || s->sine_1_rad != 0.0f || s->cosine_2_rad != 0.0f ||
                   s->sine_2_rad != 0.0f;
    c->per_volt = s->tachometer_v_s != 0.0f ? pole_pairs / s->tachometer_v_s : 0.0f;
    c->anew_ticks = cvk_ticks_of(ANEW_S, T);
    c->dispute_ticks = cvk_ticks_of(DISPUTE_S, T);
    prepare_halls(c, s);
    /* six readings a turn are too few for as much: what is between them would swing */
    const float bandwidth = (s->kind == CVK_ROTOR_HALLS ? CVK_HALLS_SHARE : 1.0f) * s->bandwidth_hz;
    cvk_tracking_gains(CVK_TWO_PI * bandwidth, T, &c->gain_angle, &c->gain_speed);
}
