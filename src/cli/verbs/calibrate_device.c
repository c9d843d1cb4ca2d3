/* SPDX-License-Identifier: Apache-2.0
 *
 * corvak calibrate DEVICE: what a controller finds of its sensor by itself, told and kept.
 */
#include "base/calibration.h"

#include "corvak/core/units.h"
#include "base/open_device.h"

#include "corvak/files/tune_yaml.h"
#include "corvak/host/self_calibration.h"

#include <math.h>

#define VERB "calibrate"
static void print_found(const cvk_self_calibration *f)
{
    g_print("wiring        the sensor counts %s the phase order: rotor.reversed: %s (was %s)\n",
            f->direction > 0 ? "with" : "against", f->direction > 0 ? "no" : "yes",
            f->reversed_before ? "yes" : "no");
    char half[24] = "";
    if (isfinite(f->half_rad)) {
        g_snprintf(half, sizeof half, " +- %.2f", f->half_rad * CVK_DEG_PER_RAD);
    }
    g_print("offset        rotor.offset_rad: %.4f (%.2f%s deg electrical; was %.4f)\n",
            f->offset_rad, f->offset_rad * CVK_DEG_PER_RAD, half, f->offset_before_rad);
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
            100.0 * f->torque_share);
    g_print("speed test    reached 10 %% of program.speed_rad_s both ways\n");
}

static void print_json(const char *name, const cvk_self_calibration *f, const char *failed)
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
    add_json_number(b, "torque_share", f->torque_share);
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

static int write_tune(const char *path, const char *base, const cvk_self_calibration *f,
                      const char *name)
{
    cvk_complaint complaint;
    cvk_tune tune;
    char from[CVK_TUNE_TEXT];
    cvk_tune_start(&tune);
    if (base != NULL && cvk_tune_file_read(&tune, base, &complaint) != CVK_OK) {
        return complain_file(VERB, &complaint);
    }
    g_snprintf(from, sizeof from, "calibrate on %s: +- %.2g", name, f->half_rad);
    cvk_self_calibration_item set[CVK_SELF_CALIBRATION_ITEMS];
    const unsigned count = cvk_self_calibration_items(f, set);
    for (unsigned n = 0; n < count; n++) {
        const cvk_parameter *row = cvk_parameter_named(set[n].key);
        if (cvk_parameter_set(&tune.settings, row, set[n].value, NULL) == CVK_OK) {
            cvk_tune_give(&tune, row, from);
        }
    }
    return cvk_tune_file_write(&tune, path, &complaint) == CVK_OK ? EXIT_DONE
                                                                  : complain_file(VERB, &complaint);
}

static void tell_phase(void *context, const char *text)
{
    (void)context;
    g_printerr("%s\n", text);
}

static bool is_interrupted(void *context)
{
    (void)context;
    return interrupted != 0;
}

static int run(cvk_device *d, const device_calibration *how)
{
    const cvk_self_calibration_calls calls = {NULL, tell_phase, is_interrupted};
    cvk_session *s = &d->session;
    cvk_self_calibration f;
    int status = check_device(VERB, d, cvk_self_calibrate(s, &calls, &f));
    if (status != EXIT_DONE) {
        return status;
    }
    if (f.end != CVK_SELF_CALIBRATED) {
        if (how->json) {
            print_json(s->name, &f, f.why);
        } else {
            g_printerr("corvak calibrate: %s%s\n",
                       f.end == CVK_SELF_CALIBRATION_FAULT ? "the drive stopped: " : "", f.why);
        }
        return EXIT_ANSWER_NO;
    }
    status = check_device(VERB, d, cvk_self_calibration_adopt(s, &f));
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
    cvk_device d;
    catch_interrupt();
    int status = open_device(VERB, address, FALSE, &d);
    if (status == EXIT_DONE) {
        status = run(&d, how);
    }
    cvk_device_close(&d);
    return status;
}
