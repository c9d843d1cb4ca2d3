/* SPDX-License-Identifier: Apache-2.0
 *
 * A session with a controller over a wire: who it is, its two tables, the values in force, commands
 * with a lease that is kept alive, changes on trial, streams. Nothing is known beforehand of the
 * controller's tables: they come from it. One thread; time passes in cvk_session_pump() and in
 * every call that asks something.
 */
#ifndef CORVAK_HOST_SESSION_H
#define CORVAK_HOST_SESSION_H

#include "corvak/core/drive.h"
#include "corvak/core/parameters.h"
#include "corvak/core/signals.h"
#include "corvak/host/wire.h"

#ifdef __cplusplus
extern "C" {
#endif

#define CVK_SESSION_CHOICES 16
#define CVK_SESSION_TEXT 512u

/* A row as the controller described it; texts of `row` point into the same struct. */
typedef struct cvk_session_parameter {
    cvk_parameter row; /* its `offset` means nothing here */
    char key[48], section[48], unit[12], help[112];
    char choice[CVK_SESSION_CHOICES][20];
    const char *names[CVK_SESSION_CHOICES + 1];
} cvk_session_parameter;

typedef struct cvk_session_signal {
    char name[24], unit[12], help[80];
    bool whole;
    unsigned states;
    char state[CVK_SESSION_CHOICES][48];
} cvk_session_signal;

/* What the controller last said of itself. */
typedef struct cvk_session_state {
    uint32_t tick;
    int32_t mode, start_phase, fault, angle_source, trial, trial_reason;
    bool bridge_on;
    cvk_owner owner;
    uint32_t settings_number, damaged;
} cvk_session_state;

/* Rows of a stream as they come: `rows` times `columns` values, the first at `tick`, each further
 * one `decimation` later. `lost` counts rows since the stream began that did not come. */
typedef struct cvk_session_samples {
    uint32_t tick, decimation, lost;
    unsigned rows, columns;
    const float *value;
} cvk_session_samples;

typedef struct cvk_session_calls {
    void *context;
    void (*samples)(void *context, const cvk_session_samples *samples); /* or null */
    void (*state)(void *context, const cvk_session_state *before,
                  const cvk_session_state *now); /* when it differs; or null */
} cvk_session_calls;

typedef struct cvk_session {
    /* to be read */
    char name[32], version[16];
    cvk_owner number; /* of this link */
    float period_s;
    unsigned updates_per_period; /* control calls in one PWM period */
    unsigned parameters, signals;
    cvk_session_parameter *parameter;
    cvk_session_signal *signal;
    float *value; /* of the parameters, in force when cvk_session_read_values() was last called */
    cvk_session_state state;
    bool owner;                  /* this link commands */
    char text[CVK_SESSION_TEXT]; /* of the last call that failed: what, and the cure */
    cvk_session_calls calls;
    /* private */
    struct cvk_session_inside *inside;
} cvk_session;

/* Takes over an open wire, identifies the controller and reads its tables and values. The wire is
 * closed with the session, also when this fails. CVK_NO_ANSWER; CVK_LOCKED without the right
 * secret; CVK_BAD_FORMAT when what answers is no controller or speaks another protocol;
 * CVK_NO_MEMORY. */
cvk_status cvk_session_open(cvk_session *session, const cvk_wire *wire) CVK_MUST_CHECK;

/* A session of zeros may be closed too. The drive is released first, when this session owns it. */
void cvk_session_close(cvk_session *session);

/* Takes up what has come and keeps the lease alive; waits for bytes, `wait_s` at most.
 * CVK_NO_ANSWER when the controller is gone or silent for three seconds: then only close is
 * allowed. */
cvk_status cvk_session_pump(cvk_session *session, double wait_s) CVK_MUST_CHECK;

/* The same for a length of time. */
cvk_status cvk_session_wait(cvk_session *session, double length_s) CVK_MUST_CHECK;

/* To wait for together with other input: see cvk_wire; and the clock. */
int cvk_session_descriptor(const cvk_session *session);
double cvk_session_now_s(const cvk_session *session);

/* Every so many control periods a row of `signals` can come over this wire, when it is to be every
 * `spacing_s` at best. */
unsigned cvk_session_decimation(const cvk_session *session, unsigned signals, double spacing_s);

/* What is asked below returns CVK_NO_ANSWER as above, or what the controller refused, with a
 * sentence in `text`. */

cvk_status cvk_session_read_values(cvk_session *session) CVK_MUST_CHECK;

/* Becomes the owner for `lease_s` at a time; the session keeps it alive from then on. */
cvk_status cvk_session_claim(cvk_session *session, double lease_s) CVK_MUST_CHECK;
cvk_status cvk_session_release(cvk_session *session) CVK_MUST_CHECK;
cvk_status cvk_session_hand_over(cvk_session *session, cvk_owner to) CVK_MUST_CHECK;
cvk_status cvk_session_request(cvk_session *session, const cvk_request *request) CVK_MUST_CHECK;
/* Runs an excitation of the controller's, by its name; any request ends it. CVK_UNKNOWN_NAME. */
cvk_status cvk_session_excite(cvk_session *session, const char *name) CVK_MUST_CHECK;
cvk_status cvk_session_clear_fault(cvk_session *session) CVK_MUST_CHECK;

/* Changes parameters, by their place in the table, as one set. With `terms` on trial; without them
 * at once, for a bridge that is off. CVK_BUSY also when somebody else has changed the settings
 * since they were read: read them again. */
typedef struct cvk_session_change {
    unsigned parameter;
    float value;
} cvk_session_change;
cvk_status cvk_session_adopt(cvk_session *session, const cvk_session_change *changes,
                             unsigned count, const cvk_trial_terms *terms) CVK_MUST_CHECK;
cvk_status cvk_session_keep(cvk_session *session) CVK_MUST_CHECK;
cvk_status cvk_session_take_back(cvk_session *session) CVK_MUST_CHECK;
/* What runs now is good: the controller's guards are measured from here as well. */
cvk_status cvk_session_call_good(cvk_session *session) CVK_MUST_CHECK;

/* Signals of one moment, by their place in the table; 16 at most. */
cvk_status cvk_session_look(cvk_session *session, const unsigned *signal, unsigned count,
                            float *values) CVK_MUST_CHECK;

/* One signal now, by its name; NaN when there is none, or it cannot be had. */
double cvk_session_signal_now(cvk_session *session, const char *name);

/* Each `decimation`-th control period of these signals, to `calls.samples`; none ends it. */
cvk_status cvk_session_stream(cvk_session *session, const unsigned *signal, unsigned count,
                              unsigned decimation) CVK_MUST_CHECK;

/* Place in the table, or -1. */
int cvk_session_parameter_named(const cvk_session *session, const char *key);
int cvk_session_signal_named(const cvk_session *session, const char *name);

/* Of a parameter, in force when the values were last read; NaN when there is none of that key. */
double cvk_session_value(const cvk_session *session, const char *key);

/* Text of a state that a whole signal stands for; null when it stands for none. */
const char *cvk_session_state_text(const cvk_session *session, const char *signal, int value);

#ifdef __cplusplus
}
#endif
#endif
