/* SPDX-License-Identifier: Apache-2.0
 *
 * A set of settings with all constants that follow from it, prepared outside the control call.
 */
#ifndef CORVAK_CORE_BASE_SETUP_H
#define CORVAK_CORE_BASE_SETUP_H

#include "corvak/core/current_control.h"
#include "corvak/core/drive.h"
#include "corvak/core/parameters.h"
#include "text.h"

typedef struct cvk_rotor_constants {
    float ratio; /* electrical angle over the sensor's own, signed */
    float per_count_rad, stuck_rad;
    int32_t index_counts, index_doubt_counts; /* encoder: place of the mark; and how far off it is
                                                 still one */
    float per_gain, per_cos_lean, tan_lean;   /* sin/cos */
    float hall_edge_rad[CVK_ROTOR_EDGES], half_hysteresis_rad;
    float per_volt; /* tachometer: electrical rad/s */
    float gain_angle, gain_speed;
    uint32_t anew_ticks, dispute_ticks;
    bool corrected; /* some harmonic is known */
} cvk_rotor_constants;

typedef struct cvk_observer_constants {
    cvk_angle_source chosen; /* the observer in use */
    float pull; /* share of the error of the flux's length removed in one period, at least */
    float gain_angle, gain_speed;
    float most_rad_s;                 /* no speed is believed beyond it */
    float pace_least, pace_per_rad_s; /* share of the bandwidth, at least, and by speed */
    float filter;          /* share by which the back-EMF's filter follows in one period */
    float drift_speed_rad; /* of the Kalman filter: doubt of the angle turned in a sample */
    float doubt_rad_s;     /* speed times angle that the voltages may be off by */
    float adapting;        /* share of a misfit that is taken up in one judgement; 0: none */
} cvk_observer_constants;

typedef struct cvk_injection_constants {
    float swing_a;   /* mean of both axes, that is expected; 0: no injection */
    float rad_per_a; /* angle error for a swing along q */
    float gain_angle, gain_speed, seek_gain;
} cvk_injection_constants;

typedef struct cvk_torque_constants {
    float saliency_h;        /* Lq - Ld, for the least current; 0: none */
    float share;             /* by which weakening follows in a period; 0: none */
    float most_used;         /* of the linear range, that it leaves the voltage at, */
    float most_lost;         /* and most that is cut off from it */
    float most_a;            /* largest d current */
    float least_speed_rad_s; /* below it the field is weakened no faster */
} cvk_torque_constants;

typedef struct cvk_start_constants {
    float current_a, current_step_a; /* vector, and its slew in one period */
    float pulse_a;                   /* of the search for north */
    float saliency_h;                /* Lq - Ld; 0 for none or the other way round */
    float most_d_a; /* along the magnets: beyond it so little is left of the active flux that the
                       angle does not show */
    float speed_step_rad_s;
    float way_step_rad; /* by which the vector gives way in one period, at most */
    float yield_rad_s;  /* slower than that the vector is imposed again */
    uint32_t align_ticks, patience_ticks, slip_ticks, settle_ticks, lost_ticks, seek_ticks,
        pulse_ticks;
} cvk_start_constants;

/* What holds whatever is asked for. While a change is on trial: the tighter of old and new. */
typedef struct cvk_bounds {
    float trip_current_a, bus_min_v, bus_max_v;
    float current_a, current_square_a2; /* limit.current_a */
} cvk_bounds;

typedef struct cvk_setup {
    cvk_settings settings;
    cvk_bounds bounds;
    float period_s;
    uint32_t rest_ticks;
    cvk_current_constants current, current_imposed;
    cvk_rotor_constants rotor;
    cvk_observer_constants observer;
    cvk_injection_constants injection;
    cvk_torque_constants torque;
    cvk_start_constants start;
    cvk_angle_source at_rest; /* sees a rotor that stands; CVK_ANGLE_IMPOSED: none does */
    float leave_rest_rad_s;   /* above it the observer is used */
    float speed_current_a;
    float current_per_torque; /* A per N m; 0: not known */
    int32_t pole_pairs; /* 1 when they are not known: the shaft is taken to turn as the field */
    float per_pole_pair;
    float most_duty;    /* above it a low-side shunt cannot see its phase */
    float shunt_window; /* of a single shunt, share of the period; 0: none */
} cvk_setup;

/* Some source sees a rotor that stands. */
static inline bool cvk_sees_rest(const cvk_setup *setup)
{
    return setup->at_rest != CVK_ANGLE_IMPOSED;
}

/* The rows of one section of the parameter table. */
typedef struct cvk_parameter_rows {
    const cvk_parameter *row;
    unsigned count;
} cvk_parameter_rows;

/* Each module's own: in its file. */
extern const cvk_parameter_rows cvk_motor_rows, cvk_measure_rows, cvk_protect_rows,
    cvk_current_rows, cvk_reference_rows, cvk_angle_rows, cvk_rotor_rows, cvk_observer_rows,
    cvk_injection_rows, cvk_modulation_rows, cvk_torque_rows, cvk_startup_rows, cvk_motion_rows,
    cvk_program_rows, cvk_inverter_rows;

/* Rows of a table: a number with its range and preset; while_on when it may change at any time. */
#define CVK_AT(section, name) offsetof(cvk_settings, section.name)
#define CVK_ROW(section, name, unit, low, high, preset, while_on, help)                            \
    {                                                                                              \
#section, #name, unit, CVK_AT(section, name), CVK_REAL, while_on, low, high, preset, 0.0f, \
            NULL, CVK_MEANING(help)                                                                \
    }
/* of motor or inverter, as the current loop knows them: changes by half or twice at a time */
#define CVK_ROW_MODEL(section, name, unit, low, high, preset, help)                                \
    {                                                                                              \
#section, #name, unit, CVK_AT(section, name), CVK_REAL, true, low, high, preset, 2.0f,     \
            NULL, CVK_MEANING(help)                                                                \
    }
#define CVK_ROW_WHOLE(section, name, low, high, preset, help)                                      \
    {                                                                                              \
#section, #name, "", CVK_AT(section, name), CVK_WHOLE, false, low, high, preset, 0.0f,     \
            NULL, CVK_MEANING(help)                                                                \
    }
#define CVK_ROW_CHOICE(section, name, names, most, preset, help)                                   \
    {                                                                                              \
#section, #name, "", CVK_AT(section, name), CVK_CHOICE, false, 0, most, preset, 0.0f,      \
            names, CVK_MEANING(help)                                                               \
    }
/* while the bridge is on as well */
#define CVK_ROW_CHOICE_ANY_TIME(section, name, names, most, preset, help)                          \
    {                                                                                              \
#section, #name, "", CVK_AT(section, name), CVK_CHOICE, true, 0, most, preset, 0.0f,       \
            names, CVK_MEANING(help)                                                               \
    }
#define CVK_ROW_YES_NO(section, name, preset, help)                                                \
    {                                                                                              \
#section, #name, "", CVK_AT(section, name), CVK_YES_NO, false, 0, 1, preset, 0.0f, NULL,   \
            CVK_MEANING(help)                                                                      \
    }
#define CVK_ROWS(rows)                                                                             \
    {                                                                                              \
        rows, sizeof rows / sizeof rows[0]                                                         \
    }

#endif
