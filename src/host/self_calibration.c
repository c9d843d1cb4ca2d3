/* SPDX-License-Identifier: Apache-2.0
 *
 * A controller calibrates its rotor sensor: asked for, followed phase by phase, stopped, adopted.
 */
#include "corvak/host/self_calibration.h"

#include "corvak/host/calibrated.h"

#include <math.h>
#include <stdio.h>

#define LEASE_S 1.0
#define LOOK_S 0.05
#define LONGEST_S 120.0
#define STOP_S 5.0

static const char *text_of(const cvk_session *s, const char *signal, int value, const char *other)
{
    const char *text = cvk_session_state_text(s, signal, value);
    return text != NULL ? text : other;
}

static void end(cvk_self_calibration *out, cvk_self_calibration_end how, const char *why)
{
    out->end = how;
    snprintf(out->why, sizeof out->why, "%s", why);
}

/* Looks until it has ended. Each new phase is told. */
static cvk_status follow(cvk_session *s, const cvk_self_calibration_calls *calls,
                         cvk_self_calibration *out)
{
    const double until_s = cvk_session_now_s(s) + LONGEST_S;
    int last = CVK_CALIBRATE_IDLE;
    while (cvk_session_now_s(s) < until_s) {
        const cvk_status status = cvk_session_wait(s, LOOK_S);
        if (status != CVK_OK) {
            return status;
        }
        const double phase = cvk_session_signal_now(s, "calibration");
        if (s->state.fault != CVK_FAULT_NONE) {
            end(out, CVK_SELF_CALIBRATION_FAULT, text_of(s, "fault", s->state.fault, "a fault"));
            return CVK_OK;
        }
        if (phase == (double)CVK_CALIBRATE_DONE) {
            end(out, CVK_SELF_CALIBRATED, "");
            return CVK_OK;
        }
        if (phase == (double)CVK_CALIBRATE_FAILED) {
            end(out, CVK_SELF_CALIBRATION_FAILED,
                text_of(s, "calibration_reason",
                        (int)cvk_session_signal_now(s, "calibration_reason"),
                        "a reason that this corvak does not know"));
            return CVK_OK;
        }
        if (calls->stops != NULL && calls->stops(calls->context)) {
            end(out, CVK_SELF_CALIBRATION_STOPPED, "stopped by you");
            return CVK_OK;
        }
        if ((int)phase != last && calls->phase != NULL) {
            calls->phase(calls->context, text_of(s, "calibration", (int)phase,
                                                 "a phase that this corvak does not know"));
        }
        last = (int)phase;
    }
    end(out, CVK_SELF_CALIBRATION_TOO_LONG, "it did not end");
    return CVK_OK;
}

/* The motor stands when this returns. */
static cvk_status stop(cvk_session *s)
{
    const cvk_request off = {.mode = CVK_MODE_OFF};
    cvk_status status = cvk_session_request(s, &off);
    const double until_s = cvk_session_now_s(s) + STOP_S;
    while (status == CVK_OK && s->state.bridge_on && cvk_session_now_s(s) < until_s) {
        status = cvk_session_wait(s, LOOK_S);
    }
    return status;
}

static void look(cvk_session *s, cvk_self_calibration *out)
{
    const double direction = cvk_session_signal_now(s, "found_direction");
    out->direction = direction > 0.5 ? 1 : (direction < -0.5 ? -1 : 0);
    out->offset_rad = cvk_session_signal_now(s, "found_offset");
    out->lag_rad = cvk_session_signal_now(s, "found_lag");
    out->half_rad =
        cvk_found_offset_half_rad(cvk_session_signal_now(s, "found_shift"), out->lag_rad);
    out->alike = cvk_session_signal_now(s, "found_alike");
    out->torque_share = cvk_session_signal_now(s, "found_share");
    out->offset_before_rad = cvk_session_value(s, "rotor.offset_rad");
    out->reversed_before = cvk_session_value(s, "rotor.reversed") > 0.5;
    out->halls = cvk_session_value(s, "rotor.kind") == (double)CVK_ROTOR_HALLS;
    for (int n = 0; n < CVK_ROTOR_EDGES; n++) {
        char name[16];
        snprintf(name, sizeof name, "found_edge_%d", n + 1);
        out->edge_rad[n] = cvk_session_signal_now(s, name);
    }
}

cvk_status cvk_self_calibrate(cvk_session *session, const cvk_self_calibration_calls *calls,
                              cvk_self_calibration *out)
{
    const cvk_request request = {.mode = CVK_MODE_CALIBRATE};
    *out = (cvk_self_calibration){.end = CVK_SELF_CALIBRATION_FAILED};
    if (cvk_session_signal_named(session, "calibration") < 0) {
        snprintf(session->text, sizeof session->text,
                 "%s has no signal calibration: it cannot calibrate by itself", session->name);
        return CVK_UNKNOWN_NAME;
    }
    cvk_status status = cvk_session_claim(session, LEASE_S);
    if (status == CVK_OK) {
        status = cvk_session_request(session, &request);
    }
    if (status == CVK_OK) {
        status = follow(session, calls, out);
    }
    if (status != CVK_OK) {
        return status;
    }
    look(session, out);
    return stop(session);
}

unsigned cvk_self_calibration_items(const cvk_self_calibration *found,
                                    cvk_self_calibration_item out[CVK_SELF_CALIBRATION_ITEMS])
{
    unsigned count = 0;
    out[count++] = (cvk_self_calibration_item){"rotor.offset_rad", (float)found->offset_rad};
    out[count++] =
        (cvk_self_calibration_item){"rotor.reversed", found->direction < 0 ? 1.0f : 0.0f};
    for (int n = 0; found->halls && n < CVK_ROTOR_EDGES; n++) {
        out[count].value = (float)found->edge_rad[n];
        snprintf(out[count].key, sizeof out[count].key, "rotor.hall_edge_%d_rad", n + 1);
        count++;
    }
    return count;
}

cvk_status cvk_self_calibration_adopt(cvk_session *session, const cvk_self_calibration *found)
{
    cvk_self_calibration_item item[CVK_SELF_CALIBRATION_ITEMS];
    cvk_session_change changes[CVK_SELF_CALIBRATION_ITEMS];
    const unsigned count = cvk_self_calibration_items(found, item);
    for (unsigned n = 0; n < count; n++) {
        const int place = cvk_session_parameter_named(session, item[n].key);
        if (place < 0) {
            snprintf(session->text, sizeof session->text, "%s has no %s", session->name,
                     item[n].key);
            return CVK_UNKNOWN_NAME;
        }
        changes[n] = (cvk_session_change){(unsigned)place, item[n].value};
    }
    return cvk_session_adopt(session, changes, count, NULL);
}
