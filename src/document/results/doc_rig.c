/* SPDX-License-Identifier: Apache-2.0
 *
 * What a rig can do.
 */
#include "common.h"

#include "corvak/core/units.h"
#include "corvak/document/number.h"

#include <string.h>

static void put_motor(cvk_doc *doc, const cvk_rig_config *config, const cvk_rig_outlook *o)
{
    cvk_doc_number(doc, "time_constant_d_s", "electrical time constant, d", o->time_constant_d_s);
    cvk_doc_digits(doc, 3);
    cvk_doc_number(doc, "time_constant_q_s", "electrical time constant, q", o->time_constant_q_s);
    cvk_doc_digits(doc, 3);
    cvk_doc_number(doc, "mechanical_time_constant_s", "mechanical time constant",
                   o->mechanical_time_constant_s);
    cvk_doc_digits(doc, 3);
    cvk_doc_number(doc, "torque_limit_nm", "torque", o->torque_limit_nm);
    cvk_doc_digits(doc, 3);
    cvk_doc_remark(doc, "at the allowed %s A", digits((double)config->tune.limit.current_a, 3));
    cvk_doc_number(doc, "loaded_inductance_d_h", "inductance d, loaded", o->loaded_inductance_d_h);
    cvk_doc_digits(doc, 3);
    cvk_doc_remark(doc, "at the allowed current");
    cvk_doc_number(doc, "loaded_inductance_q_h", "inductance q, loaded", o->loaded_inductance_q_h);
    cvk_doc_digits(doc, 3);
    cvk_doc_remark(doc, "at the allowed current");
    cvk_doc_number(doc, "thermal_time_constant_s", NULL, o->thermal_time_constant_s);
}

static void put_speeds(cvk_doc *doc, const cvk_rig_config *config, const cvk_rig_outlook *o)
{
    cvk_doc_table(doc, "speed", "speed");
    for (int n = 0; n < CVK_OUTLOOK_DEPTHS; n++) {
        cvk_doc_row(doc, NULL, o->depth[n].name);
        cvk_doc_text(doc, "depth", NULL, o->depth[n].name);
        cvk_doc_number(doc, "phase_voltage_v", "phase voltage", o->depth[n].phase_voltage_v);
        cvk_doc_number(doc, "no_load_mech_rad_s", "no load", o->depth[n].no_load_mech_rad_s);
        cvk_doc_digits(doc, 3);
        cvk_doc_number(doc, "loaded_mech_rad_s", "at the allowed current",
                       o->depth[n].loaded_mech_rad_s);
        cvk_doc_digits(doc, 3);
        cvk_doc_end(doc);
    }
    cvk_doc_end(doc);
    cvk_doc_note(
        doc, "faster than %.0f rpm a bridge that is switched off lifts the bus beyond %s V",
        CVK_RPM_PER_RAD_S * o->off_mech_rad_s, digits((double)config->tune.protect.bus_max_v, 4));
    cvk_doc_number(doc, "switch_off_mech_rad_s", NULL, o->off_mech_rad_s);
}

static void put_switching(cvk_doc *doc, const cvk_rig_config *config, const cvk_rig_outlook *o)
{
    char headline[48];
    g_snprintf(headline, sizeof headline, "at %s kHz PWM",
               digits(1e-3 * config->inverter.pwm_hz, 3));
    cvk_doc_begin(doc, NULL, headline);
    cvk_doc_number(doc, "ripple_a", "current ripple", o->ripple_a);
    cvk_doc_digits(doc, 3);
    cvk_doc_remark(doc, "peak to peak at most (at %.0f %% of the linear range)",
                   100.0 * o->ripple_depth);
    cvk_doc_number(doc, "capacitor_ripple_a", "capacitor ripple", o->capacitor_ripple_a);
    cvk_doc_digits(doc, 3);
    cvk_doc_remark(doc, "rms at most, at the allowed current");
    cvk_doc_number(doc, "radians_per_sample", "angle per sample", o->radians_per_sample);
    cvk_doc_unit(doc, "rad", 1.0);
    cvk_doc_digits(doc, 3);
    cvk_doc_remark(doc, "at the highest speed of a spin");
    cvk_doc_number(doc, "dead_time_v", "dead time takes", o->dead_time_v);
    cvk_doc_digits(doc, 3);
    cvk_doc_remark(doc, "of each phase");
    cvk_doc_number(doc, "current_step_a", "one converter count", o->current_step_a);
    cvk_doc_digits(doc, 3);
    cvk_doc_number(doc, "lag_error_a", o->lag_error_a > 0.0 ? "late readings cost" : NULL,
                   o->lag_error_a);
    cvk_doc_digits(doc, 3);
    cvk_doc_remark(doc, "of q current at the highest speed of a spin, unless sensing.delay_s "
                        "corrects them");
    cvk_doc_number(doc, "shunt_duty_limit",
                   o->shunt_duty_limit < 1.0 ? "shunts see up to a duty of" : NULL,
                   o->shunt_duty_limit);
    cvk_doc_digits(doc, 3);
    cvk_doc_end(doc);
}

/* Imperfections that this rig file has switched off. */
static void put_switched_off(cvk_doc *doc, const cvk_rig_config *config)
{
    unsigned count;
    const cvk_rig_field *fields = cvk_rig_fields(&count);
    GString *names = g_string_new(NULL);
    for (unsigned n = 0; n < count; n++) {
        if (strcmp(fields[n].section, "imperfections") == 0 &&
            cvk_rig_field_value(config, &fields[n]) == 0.0) {
            g_string_append_printf(names, " %s", fields[n].name);
        }
    }
    if (names->len > 0) {
        cvk_doc_title(doc, "Switched off:%s", names->str);
    }
    g_string_free(names, TRUE);
}

cvk_doc *cvk_outlook_document(const cvk_rig_config *config, const cvk_rig_outlook *o)
{
    const char *doubt[CVK_OUTLOOK_DOUBTS];
    cvk_doc *doc = cvk_doc_new();
    cvk_doc_title(doc, "Rig: %s", config->name);
    put_motor(doc, config, o);
    cvk_doc_text(doc, "name", NULL, config->name);
    put_speeds(doc, config, o);
    put_switching(doc, config, o);
    put_switched_off(doc, config);
    for (size_t n = 0; n < o->doubts; n++) {
        doubt[n] = o->doubt[n];
    }
    cvk_doc_texts(doc, "implausible", NULL, doubt, o->doubts);
    cvk_doc_title(doc, "%s", o->doubts == 0 ? "Nothing implausible." : "Implausible:");
    for (size_t n = 0; n < o->doubts; n++) {
        cvk_doc_note(doc, "- %s", o->doubt[n]);
    }
    return doc;
}
