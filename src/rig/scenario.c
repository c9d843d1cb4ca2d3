/* SPDX-License-Identifier: Apache-2.0
 *
 * Kinds of events, and which of them act now.
 */
#include "corvak/rig/scenario.h"

#include "parts.h"

#include <math.h>

static const cvk_rig_event_help kinds[CVK_WHAT_COUNT] = {
    [CVK_LOAD_CONSTANT] = {"constant_torque", {{"torque_nm", -1e3, 1e3}}},
    [CVK_LOAD_FAN] = {"fan", {{"torque_nm", 0, 1e3}, {"at_speed_mech_rad_s", 1e-3, 1e5}}},
    [CVK_LOAD_BRAKE] = {"hand_brake", {{"torque_nm", 0, 1e3}}},
    [CVK_LOAD_BLOCKED] = {"blocked_rotor", {{NULL, 0, 0}}},
    [CVK_LOAD_UNBALANCE] = {"unbalance", {{"torque_nm", 0, 1e3}, {"at_angle_mech_rad", -7, 7}}},
    [CVK_LOAD_DRIVEN] = {"driven", {{"speed_mech_rad_s", -1e5, 1e5}}},
    [CVK_SET_POINT] = {"set_point", {{"value", 0, 1}}},
    [CVK_ASK_SPEED] = {"speed", {{"speed_mech_rad_s", -1e5, 1e5}}},
    [CVK_ASK_STOP] = {"stop", {{NULL, 0, 0}}},
    [CVK_ASK_TORQUE] = {"torque", {{"torque_nm", -1e3, 1e3}}},
    [CVK_ASK_POSITION] = {"position", {{"position_mech_rad", -6e6, 6e6}}},
    [CVK_ASK_BRAKE] = {"brake", {{NULL, 0, 0}}},
    [CVK_ASK_COAST] = {"coast", {{NULL, 0, 0}}},
    [CVK_EXPECT_SPEED] = {"expect_speed", {{"speed_mech_rad_s", -1e5, 1e5}, {"within", 0, 10}}},
    [CVK_EXPECT_POSITION] = {"expect_position",
                             {{"position_mech_rad", -6e6, 6e6}, {"within_mech_rad", 0, 10}}},
    [CVK_EXPECT_CURRENT] = {"expect_current", {{"highest_a", 0, 1e4}}},
    [CVK_EXPECT_ANGLE] = {"expect_angle", {{"rms_deg", 0, 180}}},
    [CVK_EXPECT_RIPPLE] = {"expect_ripple", {{"rms_mech_rad_s", 0, 1e5}}},
    [CVK_SET_POINT_LOST] = {"set_point_lost", {{NULL, 0, 0}}},
    [CVK_MISHAP_OPEN_PHASE] = {"open_phase", {{"phase", 0, 2}}},
    [CVK_MISHAP_PHASE_SHORT] = {"phase_short", {{"phase", 0, 2}, {"to_phase", 0, 2}}},
    [CVK_MISHAP_SENSOR_STUCK] = {"sensor_stuck", {{NULL, 0, 0}}},
    [CVK_MISHAP_SENSOR_UNPLUGGED] = {"sensor_unplugged", {{NULL, 0, 0}}},
    [CVK_MISHAP_ADC_STUCK] = {"adc_stuck", {{"phase", 0, 3}}},
    [CVK_MISHAP_BROWN_OUT] = {"brown_out", {{"bus_v", 0, 100}}},
    [CVK_MISHAP_HOT] = {"over_temperature", {{"temp_degc", -40, 300}}},
    [CVK_MISHAP_STORAGE_CUT] = {"storage_cut", {{"at_byte", 0, 65536}}},
};

const cvk_rig_event_help *cvk_rig_event_describe(cvk_rig_event_kind what)
{
    return &kinds[what];
}

cvk_rig_event cvk_rig_event_default(cvk_rig_event_kind what)
{
    return (cvk_rig_event){.what = what,
                           .for_s = INFINITY,
                           .above_speed_mech_rad_s = NAN,
                           .above_current_a = NAN,
                           .value = {NAN, NAN},
                           .began_s = NAN};
}

static double largest_current(const cvk_rig *rig)
{
    double i[3];
    cvk_leg_currents(rig, i);
    return cvk_largest(i);
}

/* An event that is awaited: has it come? */
static bool event_came(const cvk_rig *rig, const cvk_rig_event *h)
{
    bool fast = !(fabs(rig->state.speed_mech_rad_s) <= h->above_speed_mech_rad_s);
    bool strong = !(largest_current(rig) <= h->above_current_a);
    return (isnan(h->above_speed_mech_rad_s) || fast) && (isnan(h->above_current_a) || strong);
}

double cvk_rig_share_of(const cvk_rig *rig, const cvk_rig_event *event)
{
    double elapsed = rig->time_s - event->began_s - event->from_s;
    if (!(elapsed >= 0.0 && elapsed < event->for_s)) {
        return 0.0;
    }
    if (event->ramp_s <= 0.0) {
        return 1.0;
    }
    return cvk_smaller(1.0, cvk_smaller(elapsed, event->for_s - elapsed) / event->ramp_s);
}

void cvk_rig_watch_events(cvk_rig *rig)
{
    for (unsigned n = 0; n < rig->scenario.count; n++) {
        cvk_rig_event *h = &rig->scenario.item[n];
        if (isnan(h->began_s) && event_came(rig, h)) {
            bool by_time = isnan(h->above_speed_mech_rad_s) && isnan(h->above_current_a);
            h->began_s = by_time ? 0.0 : rig->time_s;
        }
    }
}

/* ---- what acts in this control period -------------------------------------------------------- */

static void act_on_shaft(cvk_rig_acting *a, const cvk_rig_event *h, double share)
{
    switch (h->what) {
    case CVK_LOAD_CONSTANT:
        a->constant_nm += share * h->value[0];
        break;
    case CVK_LOAD_FAN:
        a->fan_nm_s2 += share * h->value[0] / (h->value[1] * h->value[1]);
        break;
    case CVK_LOAD_BRAKE:
        a->brake_nm += share * h->value[0];
        break;
    case CVK_LOAD_BLOCKED:
        a->blocked = true;
        break;
    case CVK_LOAD_UNBALANCE:
        a->unbalance_nm = share * h->value[0];
        a->unbalance_angle_mech_rad = h->value[1];
        break;
    case CVK_LOAD_DRIVEN:
        a->driven = true;
        a->driven_mech_rad_s = share * h->value[0];
        break;
    default:
        break;
    }
}

static void act_on_electronics(cvk_rig *rig, const cvk_rig_event *h)
{
    cvk_rig_acting *a = &rig->acting;
    switch (h->what) {
    case CVK_SET_POINT:
        rig->set_point = cvk_rig_share_of(rig, h) * h->value[0];
        break;
    case CVK_SET_POINT_LOST:
        a->set_point_lost = true;
        break;
    case CVK_MISHAP_OPEN_PHASE:
        a->open_phase = (int)h->value[0];
        break;
    case CVK_MISHAP_PHASE_SHORT:
        a->short_from = (int)h->value[0];
        a->short_to = (int)h->value[1];
        break;
    case CVK_MISHAP_SENSOR_STUCK:
        a->sensor_stuck = true;
        break;
    case CVK_MISHAP_SENSOR_UNPLUGGED:
        a->sensor_unplugged = true;
        break;
    case CVK_MISHAP_ADC_STUCK: {
        cvk_rig_channel *c = h->value[0] < 2.5 ? &rig->current[(int)h->value[0]] : &rig->bus;
        c->stuck = c->last; /* a stuck converter's last reading stays the last */
        break;
    }
    case CVK_MISHAP_BROWN_OUT:
        a->source_v = h->value[0];
        break;
    case CVK_MISHAP_HOT:
        rig->state.winding_degc = h->value[0];
        break;
    case CVK_MISHAP_STORAGE_CUT:
        if (rig->storage.bytes_left < 0) {
            rig->storage.bytes_left = (long)h->value[0];
        }
        break;
    default:
        break;
    }
}

void cvk_rig_act(cvk_rig *rig)
{
    cvk_rig_acting *a = &rig->acting;
    *a = (cvk_rig_acting){
        .open_phase = -1, .short_from = -1, .short_to = -1, .source_v = rig->config.supply.bus_v};
    cvk_rig_channel *const channels[] = {&rig->current[0], &rig->current[1], &rig->current[2],
                                         &rig->bus};
    for (int n = 0; n < 4; n++) {
        channels[n]->stuck = NAN;
    }
    for (unsigned n = 0; n < rig->scenario.count; n++) {
        const cvk_rig_event *h = &rig->scenario.item[n];
        double share = cvk_rig_share_of(rig, h);
        if (share > 0.0) {
            act_on_shaft(a, h, share);
            act_on_electronics(rig, h);
        }
    }
    a->any_load = a->constant_nm != 0.0 || a->fan_nm_s2 != 0.0 || a->unbalance_nm != 0.0;
}
