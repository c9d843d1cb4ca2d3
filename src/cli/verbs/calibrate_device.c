/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak calibrate DEVICE: the calibration runs on the controller; here it is started, watched and
 * its result kept.
 */
#include "base/calibration.h"

#include "corvak/core/units.h"
#include "base/open_device.h"

#include "corvak/files/tune_yaml.h"
#include "corvak/host/calibrated.h"

#include <math.h>
#include <string.h>

#define VERB "calibrate"
#define LEASE_S 1.0
#define LOOK_S 0.05
#define LONGEST_S 120.0
#define STOP_S 5.0

typedef struct found {
    int direction;
    double offset_rad, half_rad, lag_rad, alike, share;
    double before_rad;
    gboolean before_reversed, halls;
    double edge_rad[CVK_ROTOR_EDGES];
} found;

enum { MOST_ADOPTED = 2 + CVK_ROTOR_EDGES };
typedef struct adoption {
    char key[32];
    float value;
} adoption;

/* Looks until it has ended. Each new phase is told. */
static int follow(device_session *d, int *phase)
{
    cvk_session *s = &d->session;
    const double until_s = cvk_session_now_s(s) + LONGEST_S;
    int status = EXIT_DONE, last = CVK_CALIBRATE_IDLE;
    *phase = CVK_CALIBRATE_IDLE;
    while (status == EXIT_DONE && *phase < CVK_CALIBRATE_DONE && !interrupted &&
           cvk_session_now_s(s) < until_s) {
        status = check_device(VERB, d, cvk_session_wait(s, LOOK_S));
        if (status != EXIT_DONE) {
            return status;
        }
        const double now = device_signal(d, "calibration");
        if (!isfinite(now)) {
            return complain_usage(VERB, "%s has no signal calibration: its program is older",
                                  s->name);
        }
        *phase = (int)now;
        if (*phase != last && *phase < CVK_CALIBRATE_DONE) {
            const char *text = cvk_session_state_text(s, "calibration", *phase);
            g_printerr("%s\n", text != NULL ? text : "a phase that this corvak does not know");
        }
        last = *phase;
        if (s->state.fault != CVK_FAULT_NONE) {
            const char *text = cvk_session_state_text(s, "fault", s->state.fault);
            g_printerr("corvak calibrate: the drive stopped: %s\n", text != NULL ? text : "fault");
            return EXIT_ANSWER_NO;
        }
    }
    return status;
}

/* The motor stands when this returns. */
static int stop(device_session *d)
{
    cvk_session *s = &d->session;
    const cvk_request off = {.mode = CVK_MODE_OFF};
    int status = check_device(VERB, d, cvk_session_request(s, &off));
    const double until_s = cvk_session_now_s(s) + STOP_S;
    while (status == EXIT_DONE && s->state.bridge_on && cvk_session_now_s(s) < until_s) {
        status = check_device(VERB, d, cvk_session_wait(s, LOOK_S));
    }
    return status;
}

/* What was found, as parameters. */
static unsigned adopted(const found *f, adoption *out)
{
    unsigned count = 0;
    out[count++] = (adoption){"rotor.offset_rad", (float)f->offset_rad};
    out[count++] = (adoption){"rotor.reversed", f->direction < 0 ? 1.0f : 0.0f};
    for (unsigned n = 0; f->halls && n < CVK_ROTOR_EDGES; n++) {
        out[count].value = (float)f->edge_rad[n];
        g_snprintf(out[count++].key, sizeof out->key, "rotor.hall_edge_%u_rad", n + 1u);
    }
    return count;
}

/* What was found becomes the controller's settings, without anything being switched off. */
static int keep(device_session *d, const found *f)
{
    cvk_session *s = &d->session;
    adoption all[MOST_ADOPTED];
    cvk_session_change changes[MOST_ADOPTED];
    const unsigned count = adopted(f, all);
    for (unsigned n = 0; n < count; n++) {
        const int place = cvk_session_parameter_named(s, all[n].key);
        if (place < 0) {
            return complain_usage(VERB, "%s has no %s", s->name, all[n].key);
        }
        changes[n] = (cvk_session_change){(unsigned)place, all[n].value};
    }
    return check_device(VERB, d, cvk_session_adopt(s, changes, count, NULL));
}

static void print_found(const found *f)
{
    g_print("wiring        the sensor counts %s the phase order: rotor.reversed: %s (was %s)\n",
            f->direction > 0 ? "with" : "against", f->direction > 0 ? "no" : "yes",
            f->before_reversed ? "yes" : "no");
    char half[24] = "";
    if (isfinite(f->half_rad)) { /* an older program does not tell */
        g_snprintf(half, sizeof half, " +- %.2f", f->half_rad * CVK_DEG_PER_RAD);
    }
    g_print("offset        rotor.offset_rad: %.4f (%.2f%s deg electrical; was %.4f)\n",
            f->offset_rad, f->offset_rad * CVK_DEG_PER_RAD, half, f->before_rad);
    if (f->halls) {
        g_print("edges         rotor.hall_edge_1_rad to _6_rad:");
        for (int n = 0; n < CVK_ROTOR_EDGES; n++) {
            g_print(" %+.1f", f->edge_rad[n] * CVK_DEG_PER_RAD);
        }
        g_print(" deg late about their mean\n");
    }
    g_print("lag           the rotor trailed the current by %.2f deg, taken off by both ways\n",
            f->lag_rad * CVK_DEG_PER_RAD);
    g_print("likeness      %.3f of sensor and current while it was taken round\n", f->alike);
    g_print("torque test   turned both ways, the right way, with %.0f %% of the current limit\n",
            100.0 * f->share);
    g_print("speed test    reached 10 %% of program.speed_rad_s both ways\n");
}

static void print_json(const char *name, const found *f, const char *failed)
{
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    add_json_text(b, "name", name);
    json_builder_set_member_name(b, "device");
    json_builder_begin_object(b);
    add_json_number(b, "direction", f->direction);
    const cvk_measured offset = {f->offset_rad, f->offset_rad - f->half_rad,
                                 f->offset_rad + f->half_rad};
    const cvk_measured none = {NAN, NAN, NAN};
    add_json_measured(b, "electrical_offset_rad", failed == NULL ? &offset : &none);
    add_json_number(b, "lag_rad", f->lag_rad);
    add_json_number(b, "likeness", f->alike);
    add_json_number(b, "torque_share", f->share);
    add_json_text(b, "missing", failed);
    if (f->halls && failed == NULL) {
        json_builder_set_member_name(b, "hall_edge_rad");
        json_builder_begin_array(b);
        for (int n = 0; n < CVK_ROTOR_EDGES; n++) {
            json_builder_add_double_value(b, f->edge_rad[n]);
        }
        json_builder_end_array(b);
    }
    json_builder_end_object(b);
    json_builder_end_object(b);
    print_json_document(b);
}

static int write_tune(const char *path, const char *base, const found *f, const char *name)
{
    cvk_complaint complaint;
    cvk_tune tune;
    char from[CVK_TUNE_TEXT];
    cvk_tune_start(&tune);
    if (base != NULL && cvk_tune_file_read(&tune, base, &complaint) != CVK_OK) {
        return complain_file(VERB, &complaint);
    }
    g_snprintf(from, sizeof from, "calibrate on %s: +- %.2g", name, f->half_rad);
    adoption set[MOST_ADOPTED];
    const unsigned count = adopted(f, set);
    for (unsigned n = 0; n < count; n++) {
        const cvk_parameter *row = cvk_parameter_named(set[n].key);
        if (cvk_parameter_set(&tune.settings, row, set[n].value, NULL) == CVK_OK) {
            cvk_tune_give(&tune, row, from);
        }
    }
    return cvk_tune_file_write(&tune, path, &complaint) == CVK_OK ? EXIT_DONE
                                                                  : complain_file(VERB, &complaint);
}

static found look_at_found(device_session *d)
{
    const double direction = device_signal(d, "found_direction");
    found f = {.direction = direction > 0.5 ? 1 : (direction < -0.5 ? -1 : 0),
               .offset_rad = device_signal(d, "found_offset"),
               .lag_rad = device_signal(d, "found_lag"),
               .alike = device_signal(d, "found_alike"),
               .share = device_signal(d, "found_share"),
               .half_rad = cvk_found_offset_half_rad(device_signal(d, "found_shift"),
                                                     device_signal(d, "found_lag")),
               .before_rad = cvk_session_value(&d->session, "rotor.offset_rad"),
               .before_reversed = cvk_session_value(&d->session, "rotor.reversed") > 0.5};
    f.halls = cvk_session_value(&d->session, "rotor.kind") == (double)CVK_ROTOR_HALLS;
    for (int n = 0; n < CVK_ROTOR_EDGES; n++) {
        char name[16];
        g_snprintf(name, sizeof name, "found_edge_%d", n + 1);
        f.edge_rad[n] = device_signal(d, name);
        f.halls = f.halls && isfinite(f.edge_rad[n]); /* an older program has none */
    }
    return f;
}

static int run(device_session *d, const device_calibration *how)
{
    cvk_session *s = &d->session;
    const cvk_request request = {.mode = CVK_MODE_CALIBRATE};
    int phase = CVK_CALIBRATE_IDLE;
    int status = check_device(VERB, d, cvk_session_claim(s, LEASE_S));
    status = status == EXIT_DONE ? check_device(VERB, d, cvk_session_request(s, &request)) : status;
    status = status == EXIT_DONE ? follow(d, &phase) : status;
    if (status == EXIT_BAD_USAGE) {
        return status;
    }
    const found f = look_at_found(d);
    const double reason = device_signal(d, "calibration_reason");
    const int stopped = stop(d);
    if (status != EXIT_DONE || stopped != EXIT_DONE) {
        return status != EXIT_DONE ? status : stopped;
    }
    if (phase != CVK_CALIBRATE_DONE) {
        const char *text = interrupted ? "stopped by you"
                           : phase != CVK_CALIBRATE_FAILED
                               ? "it did not end"
                               : cvk_session_state_text(s, "calibration_reason", (int)reason);
        text = text != NULL ? text : "a reason that this corvak does not know";
        if (how->json) {
            print_json(s->name, &f, text);
        } else {
            g_printerr("corvak calibrate: %s\n", text);
        }
        return EXIT_ANSWER_NO;
    }
    status = keep(d, &f);
    if (status != EXIT_DONE) {
        return status;
    }
    if (how->json) {
        print_json(s->name, &f, NULL);
    } else {
        print_found(&f);
    }
    return how->output != NULL ? write_tune(how->output, how->tune, &f, s->name) : EXIT_DONE;
}

int calibrate_device(const char *address, const device_calibration *how)
{
    device_session d = {.open = FALSE};
    catch_interrupt();
    int status = open_device(VERB, address, FALSE, &d);
    if (status == EXIT_DONE) {
        status = run(&d, how);
    }
    close_device(&d);
    return status;
}
