/* SPDX-License-Identifier: Apache-2.0
 *
 * The drive: one call from a sample to three duties. Call cvk_drive_control() from the
 * current-sample interrupt of the port, once per control period; the duties that it returns must
 * act for exactly one period, beginning one period after the sample.
 *
 * Invariants, asserted by tests/core/drive/test_invariants.c as they stand here:
 *   1. Every duty is a number in 0 .. 1.
 *   2. With a fault the bridge is off, from the call that sees the fault on.
 *   3. A fault stays, and stays the first one, until cvk_drive_clear_fault(); then the bridge stays
 *      off until something new is asked for.
 *   4. No number that is not finite gets into a request or a setting.
 *   5. Settings are adopted whole, between two control calls, or not at all; while the bridge is
 *      on only as a change on trial.
 *   6. The gates are enabled only while the mode is another than CVK_MODE_OFF.
 *   7. There is one owner at most; another one comes only by claiming what nobody owns, or by the
 *      owner's hand-over.
 *   8. What is asked for counts only while its owner's lease runs. After that, and after a release,
 *      the drive stops in a controlled way (CVK_MODE_STOP) and stays off: never the last request.
 *   9. A change on trial ends: kept by its owner's word after the watch, or gone back within
 *      watch_s + confirm_s, to exactly the settings before it. Until then neither the old nor the
 *      new limits and protections are exceeded knowingly.
 *
 * Context: "interrupt" below is the one that calls cvk_drive_control(); "task" is anything that it
 * can interrupt. One task at a time may call the setters; they need no lock against the interrupt.
 */
#ifndef CORVAK_CORE_DRIVE_H
#define CORVAK_CORE_DRIVE_H

#include "corvak/core/excitation.h"
#include "corvak/core/moment.h"
#include "corvak/core/port.h"
#include "corvak/core/settings.h"
#include "corvak/core/trial.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Where the currents are measured. */
typedef enum cvk_current_sensing {
    CVK_CURRENTS_ALWAYS = 0,  /* in the motor wires: valid at any instant */
    CVK_CURRENTS_LOW_SIDE,    /* below the low switches: valid while these conduct long enough */
    CVK_CURRENTS_SINGLE_SHUNT /* one in the bus, read twice in the first half of a period: just
                                 before the second leg rises, and the third; each pulse moved by
                                 cvk_moment.shift. One update a period. */
} cvk_current_sensing;

/* What is soldered: fixed at init. */
typedef struct cvk_hardware {
    float period_s;             /* control period: 5e-6 .. 1e-3 */
    int32_t updates_per_period; /* control periods in one PWM period: 1 or 2 */
    int32_t current_sensing;    /* cvk_current_sensing */
    float window_s; /* low side: this long before and after the sample its switch must be on, dead
                       time included; single shunt: this long between two edges, above 0. Up to a
                       quarter of the PWM period */
    /* ceilings that no setting can lift; 0: not known */
    float current_range_a; /* largest phase current that the channels can measure, */
    float bus_range_v;     /* and highest bus voltage: a protection must lie 3 % below these */
    float nominal_bus_v;   /* what excitations reckon with; 0: the bus as it is */
    float stage_current_a; /* largest phase current that the power stage bears, peak, */
    float stage_bus_v;     /* and highest bus voltage */
} cvk_hardware;

/* 20 kHz, one update, currents always valid. */
cvk_hardware cvk_hardware_default(void);

/* The largest duty with which low-side shunts still see their phase, and the largest difference of
 * two duties with a single shunt; 1 with other sensing. */
float cvk_hardware_most_duty(const cvk_hardware *hardware);

/* A drive's memory, owned by the caller. Its inside is private: what may be known of it is in the
 * moment. */
#define CVK_DRIVE_BYTES 3584u

typedef struct cvk_drive {
    union {
        unsigned char byte[CVK_DRIVE_BYTES];
        void *pointer; /* these two align it */
        uint32_t word;
    } inside;
} cvk_drive;

/* A drive with its bridge off. CVK_OUT_OF_RANGE or CVK_CONTRADICTION, with the first refusal in
 * `why` (may be null), when hardware or settings are refused; the drive is then not usable. `port`
 * and the drive must outlive their use. Task, before the interrupt is enabled. */
cvk_status cvk_drive_init(cvk_drive *drive, const cvk_port *port, const cvk_hardware *hardware,
                          const cvk_settings *settings, cvk_refusal *why) CVK_MUST_CHECK;

/* The hot path. Interrupt. Bounded time; no allocation; touches nothing but `drive` and its port.
 */
cvk_abc cvk_drive_control(cvk_drive *drive, const cvk_readings *readings);

/* The moment of the last call. In the interrupt's context it is whole; from a task copy it with the
 * interrupt held off. */
const cvk_moment *cvk_drive_now(const cvk_drive *drive);

/* Checks a whole set of settings, prepares what follows from it, and leaves it for the next control
 * call to adopt. For a bridge that is off; one that is on takes a change on trial only:
 * CVK_BRIDGE_IS_ON with the first key that differs in `why`. Other refusals as for
 * cvk_drive_init(), and CVK_BUSY when the set before has not been adopted yet or a change is on
 * trial. Nothing changes on a refusal. Task. */
cvk_status cvk_drive_stage(cvk_drive *drive, const cvk_settings *settings,
                           cvk_refusal *why) CVK_MUST_CHECK;

/* Slow work, at about 1 kHz: kicks the watchdog when control calls have come since the last time.
 * Task. */
void cvk_drive_supervise(cvk_drive *drive);

/* The settings in force, or those staged last; of a change on trial, those tried. Task. */
const cvk_settings *cvk_drive_settings(const cvk_drive *drive);

/* Who commands: a number of the caller's choice, such as 1 for a pedal and 2 for a link. */
typedef uint8_t cvk_owner;
#define CVK_NOBODY 0u

/* Anybody, also who owns nothing: whoever commands does so no longer, and the motor stops in a
 * controlled way, or with `at_once` by switching the bridge off. Task. */
void cvk_drive_stop(cvk_drive *drive, bool at_once);

/* Somebody is there, or is gone: a link hands a drive over only to who is there. Task. */
void cvk_drive_arrive(cvk_drive *drive, cvk_owner who);
void cvk_drive_leave(cvk_drive *drive, cvk_owner who);
bool cvk_drive_is_there(const cvk_drive *drive, cvk_owner who);

/* Becomes the owner, for `lease_s` (0.01 .. 3600) from the last claim, request or refresh on.
 * CVK_BUSY when somebody else owns the drive; CVK_OUT_OF_RANGE for nobody or another lease. Task.
 */
cvk_status cvk_drive_claim(cvk_drive *drive, cvk_owner owner, float lease_s) CVK_MUST_CHECK;

/* The lease runs anew. CVK_NOT_OWNER, also after it has run out: then claim again. Task. */
cvk_status cvk_drive_refresh(cvk_drive *drive, cvk_owner owner) CVK_MUST_CHECK;

/* Another one becomes the owner, with the same lease, and what was asked for goes on. Task. */
cvk_status cvk_drive_hand_over(cvk_drive *drive, cvk_owner from, cvk_owner to) CVK_MUST_CHECK;

/* Nobody owns the drive any more: it stops in a controlled way. Task. */
cvk_status cvk_drive_release(cvk_drive *drive, cvk_owner owner) CVK_MUST_CHECK;

/* CVK_NOBODY when nobody does. Any context. */
cvk_owner cvk_drive_owner(const cvk_drive *drive);

/* A change on trial (trial.h): the only way to change a drive whose bridge is on. The owner's
 * alone; loops and angle sources keep their state. CVK_NOT_OWNER; CVK_OUT_OF_RANGE and
 * CVK_CONTRADICTION as for cvk_drive_init() and for the terms; CVK_CONTRADICTION also for a window
 * that the bus is outside of now; CVK_BRIDGE_IS_ON for a parameter that may change only while it is
 * off; CVK_BUSY while another change is on trial. Nothing changes on a refusal. Task. */
cvk_status cvk_drive_try(cvk_drive *drive, cvk_owner owner, const cvk_settings *settings,
                         const cvk_trial_terms *terms, cvk_refusal *why) CVK_MUST_CHECK;

/* The change on trial stays, from the next control call on, unless a guard trips in it: see
 * `trial` in the moment. CVK_BUSY while it is still watched; CVK_NO_TRIAL, CVK_NOT_OWNER. Task. */
cvk_status cvk_drive_keep(cvk_drive *drive, cvk_owner owner) CVK_MUST_CHECK;

/* The settings in force, and how the motor runs with them, are good: guards of later changes are
 * measured from here as well, so that many small steps do not lead where one would be refused. So
 * are settings that came into force with the bridge off. CVK_NOT_OWNER; CVK_BUSY while a change is
 * on trial. Task. */
cvk_status cvk_drive_call_good(cvk_drive *drive, cvk_owner owner) CVK_MUST_CHECK;

/* It goes back with the next control call. CVK_NO_TRIAL, CVK_NOT_OWNER. Task. */
cvk_status cvk_drive_take_back(cvk_drive *drive, cvk_owner owner) CVK_MUST_CHECK;

/* Sets what to do while no program runs; counts from the next control call on, as a whole, and
 * refreshes the lease. CVK_NOT_OWNER; CVK_OUT_OF_RANGE when the mode is none of the list or a
 * number is outside its range, which ends where bus and motor end; CVK_CONTRADICTION when
 * the mode needs a parameter that is not known (`why` names it), or while there is a fault. Nothing
 * changes then. Task.
 */
cvk_status cvk_drive_request(cvk_drive *drive, cvk_owner owner, const cvk_request *request,
                             cvk_refusal *why) CVK_MUST_CHECK;

/* Runs an excitation from its first step; null ends one. The caller keeps it alive until then.
 * CVK_NOT_OWNER and CVK_CONTRADICTION as for a request. It ends when the lease does. Task. */
cvk_status cvk_drive_run(cvk_drive *drive, cvk_owner owner, cvk_excitation *excitation,
                         cvk_refusal *why) CVK_MUST_CHECK;

/* The rotor sensor's offset in the settings holds, until power-off: a calibration has found it, or
 * the owner vouches for it. CVK_NOT_OWNER for anybody else. Task, before a request that needs it.
 */
cvk_status cvk_drive_rotor_aligned(cvk_drive *drive, cvk_owner owner) CVK_MUST_CHECK;

/* Ends a fault, from the next control call on. What was asked for before it is over: a new request
 * is needed. CVK_NOT_OWNER for anybody but the owner. Task. */
cvk_status cvk_drive_clear_fault(cvk_drive *drive, cvk_owner owner) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
