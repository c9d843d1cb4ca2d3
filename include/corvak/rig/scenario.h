/* SPDX-License-Identifier: Apache-2.0
 *
 * What happens to a rig from outside during a run: loads on the shaft, set-points, faults. Each
 * event begins at a time or at an event and lasts as long as it says.
 */
#ifndef CORVAK_RIG_SCENARIO_H
#define CORVAK_RIG_SCENARIO_H

#include "corvak/core/status.h"

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_SCENARIO_MOST 64
#define CVK_SCENARIO_VALUES 2

typedef enum cvk_rig_event_kind {
    CVK_LOAD_CONSTANT,   /* torque_nm in the positive direction, like a hanging weight */
    CVK_LOAD_FAN,        /* torque_nm against the motion at at_speed_mech_rad_s, with its square */
    CVK_LOAD_BRAKE,      /* a hand: torque_nm against the motion, holds a resting shaft */
    CVK_LOAD_BLOCKED,    /* the shaft stands still */
    CVK_LOAD_UNBALANCE,  /* torque_nm times the sine of the angle from at_angle_mech_rad */
    CVK_LOAD_DRIVEN,     /* another machine turns the shaft at speed_mech_rad_s */
    CVK_SET_POINT,       /* the person sets `value`, 0 .. 1 */
    CVK_ASK_SPEED,       /* the controller is asked for speed_mech_rad_s */
    CVK_ASK_STOP,        /* and for a controlled stop, */
    CVK_ASK_TORQUE,      /* torque_nm, */
    CVK_ASK_POSITION,    /* position_mech_rad, any number of turns, */
    CVK_ASK_BRAKE,       /* to stop as fast as the current limit allows, */
    CVK_ASK_COAST,       /* or to let the motor run out */
    CVK_EXPECT_SPEED,    /* meanwhile the speed stays within `within` of speed_mech_rad_s (share) */
    CVK_EXPECT_POSITION, /* the position within within_mech_rad of position_mech_rad */
    CVK_EXPECT_CURRENT,  /* no phase current is beyond highest_a */
    CVK_EXPECT_ANGLE,    /* the angle in use is off by rms_deg at most, electrical */
    CVK_EXPECT_RIPPLE,   /* the speed's spread about its mean is rms_mech_rad_s at most */
    CVK_SET_POINT_LOST,  /* pulse, pedal and digital set-point no longer arrive */
    CVK_MISHAP_OPEN_PHASE,
    CVK_MISHAP_PHASE_SHORT,      /* between motor wires `phase` and `to_phase` */
    CVK_MISHAP_SENSOR_STUCK,     /* the rotor sensor repeats its last reading */
    CVK_MISHAP_SENSOR_UNPLUGGED, /* its inputs float: readings are meaningless */
    CVK_MISHAP_ADC_STUCK,        /* channel `phase` (a, b, c, bus) repeats its last reading */
    CVK_MISHAP_BROWN_OUT,        /* the supply falls to bus_v */
    CVK_MISHAP_HOT,              /* the winding is at temp_degc */
    CVK_MISHAP_STORAGE_CUT,      /* power fails at_byte bytes into the next write to storage */
    CVK_WHAT_COUNT
} cvk_rig_event_kind;

typedef struct cvk_rig_event {
    char name[32];
    cvk_rig_event_kind what;
    double from_s;                 /* begins at this time, or this long after the event */
    double for_s;                  /* lasts; infinite when not given */
    double ramp_s;                 /* grows and fades over this time */
    double above_speed_mech_rad_s; /* event: |speed| beyond this; NaN: no such event */
    double above_current_a;        /* event: a phase current beyond this; NaN: none */
    double value[CVK_SCENARIO_VALUES];
    double began_s; /* kept by the rig: when the event came; NaN before */
} cvk_rig_event;

typedef struct cvk_rig_scenario {
    char name[32];
    unsigned count;
    cvk_rig_event item[CVK_SCENARIO_MOST];
} cvk_rig_scenario;

/* A key that a kind of event has beside the common ones. */
typedef struct cvk_rig_what_key {
    const char *name; /* null: none */
    double low, high;
} cvk_rig_what_key;

typedef struct cvk_rig_event_help {
    const char *name;
    cvk_rig_what_key key[CVK_SCENARIO_VALUES];
} cvk_rig_event_help;

/* Name and keys of a kind. */
const cvk_rig_event_help *cvk_rig_event_describe(cvk_rig_event_kind what);

/* An event of this kind that begins at once and lasts; its own values are NaN. */
cvk_rig_event cvk_rig_event_default(cvk_rig_event_kind what);

#ifdef __cplusplus
}
#endif
#endif
