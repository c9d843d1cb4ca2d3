/* SPDX-License-Identifier: Apache-2.0
 *
 * The sources of the electrical angle. Each is a step that reads the moment and writes its own
 * {angle, speed, quality, reason}; all of them run in every call, so that a handover is prepared
 * and they can be compared. The hot path knows none by name: the list stands in angles.c.
 */
#ifndef CORVAK_CORE_ANGLE_ANGLE_SOURCES_H
#define CORVAK_CORE_ANGLE_ANGLE_SOURCES_H

#include "base/arithmetic.h"
#include "tracking.h"

/* The imposed angle. */
typedef struct cvk_imposed {
    float angle_rad, speed_rad_s;
} cvk_imposed;

/* A rotor sensor behind its tracking filter. */
typedef struct cvk_encoder {
    int32_t counts_before, step_before; /* of the counter */
    int32_t position;                   /* counts within a turn */
    bool begun, indexed;                /* the index mark has given the position */
} cvk_encoder;

typedef struct cvk_halls {
    float edge_rad, since_s, speed_rad_s; /* own angle of the last edge, time since, speed before */
    int32_t sector, way;
    int32_t odd, odd_sector; /* readings in a row of a code that is not due, and which */
    bool begun;
} cvk_halls;

typedef struct cvk_rotor {
    cvk_angle now;
    float own_before_rad, stayed_rad, turned_rad;
    uint32_t primed;         /* readings so far */
    uint32_t lost, disputed; /* control calls in a row */
    cvk_encoder encoder;
    cvk_halls halls;
    float read_own_rad, read_quality;    /* the last reading, as the decoder has it */
    float found_ratio, found_offset_rad; /* by a calibration: in place of the settings' */
    bool found;
    volatile bool aligned; /* a task said that the offset holds */
} cvk_rotor;

/* Each observer's state; what is tracked comes first. A new one is begun by zeros. */

/* observer_flux.c */
typedef struct cvk_flux_observer {
    cvk_tracked at;
    cvk_ab stator_wb; /* flux linkage, stationary frame */
} cvk_flux_observer;

/* observer_emf.c */
typedef struct cvk_emf_observer {
    cvk_tracked at;
    cvk_dq emf_v; /* filtered, in the frame of the angle */
} cvk_emf_observer;

/* observer_kalman.c. The covariance of the errors of flux linkage (d and q in the rotor's frame, as
 * a share of the magnets'), angle, and angle turned in a sample. */
typedef struct cvk_kalman_observer {
    cvk_tracked at;
    cvk_ab stator_wb;
    float dd, dq, da, ds, qq, qa, qs, aa, as, ss;
} cvk_kalman_observer;

/* injection.c */
typedef struct cvk_injection {
    cvk_tracked at;
    cvk_ab before_a, change_a; /* current at the sample before, and its change up to that */
    float sign;                /* of the voltage of this call */
    cvk_dq swing_a;            /* mean, in the frame of the angle */
    float across_a;            /* mean swing along q, when the voltage is there; 0: none seen yet */
    float last_swing_d_a;
    float error_rad, error_square_rad2; /* means */
    uint32_t ticks;                     /* since it began; 0: it rests */
    bool known;                         /* north and south are told apart */
} cvk_injection;

#define CVK_STATE(NAME, name, text) cvk_##name##_observer name;
typedef struct cvk_observers {
    CVK_OBSERVER_LIST(CVK_STATE)
} cvk_observers;
#undef CVK_STATE

typedef struct cvk_angles {
    cvk_imposed imposed;
    cvk_rotor rotor;
    cvk_observed observed;
    cvk_adaptation adaptation;
    cvk_observers observers;
    cvk_injection injection;
    cvk_ab added_v;        /* by a source, in the voltage that acts until the next sample */
    uint32_t judged_ticks; /* since qualities were judged */
    bool observing;        /* voltage and current were known at the sample before */
} cvk_angles;

/* What each source takes from the settings. */
void cvk_rotor_prepare(cvk_setup *setup);
void cvk_observers_prepare(cvk_setup *setup);
void cvk_injection_prepare(cvk_setup *setup);

/* Every source steps. */
void cvk_angles_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now);

/* What the sources need on top of the voltage of this call. */
void cvk_angles_add_voltage(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now);

/* The source that sees a rotor at rest (setup->at_rest) goes on from here, north known. */
void cvk_angles_seed_at_rest(cvk_angles *angles, float angle_rad, float speed_rad_s);

/* The steps: now->source[...] is theirs to write. */
void cvk_imposed_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now);
void cvk_rotor_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now);
/* Whether the rotor sensor's offset holds, since power-up, with these settings. */
bool cvk_rotor_is_known(const cvk_angles *angles, const cvk_rotor_settings *settings);

/* The observers: one of them, or all, by the settings. */
void cvk_observers_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now);
/* Each one's step; and where it goes on when somebody knows where the rotor is: `at` has angle,
 * speed and the variance of the angle, `stator_wb` the stator's flux linkage there. */
#define CVK_STEPS(NAME, name, text)                                                                \
    void cvk_##name##_step(cvk_angles *angles, const cvk_setup *setup, cvk_moment *now);           \
    void cvk_##name##_seed(cvk_angles *angles, const cvk_setup *setup, const cvk_tracked *at,      \
                           cvk_ab stator_wb);
CVK_OBSERVER_LIST(CVK_STEPS)
#undef CVK_STEPS

/* Every observer goes on from this angle, of this variance, and speed: somebody knows where the
 * rotor is. */
void cvk_observers_seed(cvk_angles *angles, const cvk_setup *setup, const cvk_moment *now,
                        float angle_rad, float speed_rad_s, float variance_rad2);

/* One goes on with all that another one has observed. */
void cvk_observers_hand_over(cvk_angles *to, const cvk_angles *from);

/* Observers with other settings look at the same motor; the moment stays as it is. `seen`: what
 * their chosen one has last seen, and sees now. */
void cvk_observers_step_aside(cvk_angles *twin, const cvk_setup *setup, cvk_moment *now,
                              cvk_angle *seen);

/* At standstill the resistance has turned out to be off by so much more; nothing unless
 * observer.adapt. */
void cvk_observers_measure_resistance(cvk_angles *angles, const cvk_setup *setup, float off_ohm);

/* Neither does the bridge make voltages nor are the terminals measured. */
static inline bool cvk_is_blind(const cvk_moment *now)
{
    return now->bridge_on == 0 && now->terminals_known == 0;
}

/* The back-EMF that the motion of the active flux since the sample before is. */
static inline cvk_ab cvk_emf_seen(const cvk_angles *angles, const cvk_setup *setup)
{
    const cvk_ab chord = cvk_chord_seen(&angles->observed, setup);
    const float rate = 1.0f / setup->period_s;
    return (cvk_ab){rate * chord.alpha, rate * chord.beta};
}

#endif
