/* SPDX-License-Identifier: Apache-2.0
 *
 * The channels that `corvak record` can write. Those that begin with true_ are the rig's own
 * secrets: for comparison, never for estimation.
 */
#include "record.h"

#include <math.h>
#include <string.h>

#define TWO_PI 6.28318530717958647693
#define UNUSED(x) ((void)(x))

#define FROM_ROW(name, expression)                                                                 \
    static double name(const cvk_sim *sim, const cvk_sim_row *row)                                 \
    {                                                                                              \
        UNUSED(sim);                                                                               \
        UNUSED(row);                                                                               \
        return expression;                                                                         \
    }

FROM_ROW(read_t, row->time_s)
FROM_ROW(read_ia, row->current_a[0])
FROM_ROW(read_ib, row->current_a[1])
FROM_ROW(read_ic, row->current_a[2])
FROM_ROW(read_va, row->sample.terminal_v[0])
FROM_ROW(read_vb, row->sample.terminal_v[1])
FROM_ROW(read_vc, row->sample.terminal_v[2])
FROM_ROW(read_duty_a, row->duty[0])
FROM_ROW(read_duty_b, row->duty[1])
FROM_ROW(read_duty_c, row->duty[2])
FROM_ROW(read_vdc, row->sample.bus_v)
FROM_ROW(read_theta_m, row->sample.absolute_mech_rad)
FROM_ROW(read_enc, row->sample.encoder_counts)
FROM_ROW(read_index, row->sample.index_passed ? 1.0 : 0.0)
FROM_ROW(read_hall, row->sample.hall)
FROM_ROW(read_sin, row->sample.sin_v)
FROM_ROW(read_cos, row->sample.cos_v)
FROM_ROW(read_tach, row->sample.tachometer_v)
FROM_ROW(read_temp, row->sample.winding_degc)
FROM_ROW(read_pulse, row->sample.pulse_s)
FROM_ROW(read_pedal, row->sample.pedal_v)
FROM_ROW(read_digital, row->sample.digital)
FROM_ROW(read_true_angle, cvk_rig_electrical_angle(&sim->rig))
FROM_ROW(read_true_speed, sim->rig.state.speed_mech_rad_s)
FROM_ROW(read_true_temp, sim->rig.state.winding_degc)

static const record_channel channels[] = {
    {{"t", "s", 6}, "time of the sample", read_t},
    {{"ia", "A", 4}, "phase current, as the controller gets it", read_ia},
    {{"ib", "A", 4}, "phase current", read_ib},
    {{"ic", "A", 4}, "phase current", read_ic},
    {{"duty_a", "", 6}, "duty computed from this sample", read_duty_a},
    {{"duty_b", "", 6}, "duty", read_duty_b},
    {{"duty_c", "", 6}, "duty", read_duty_c},
    {{"va", "V", 4}, "terminal voltage, bridge off only", read_va},
    {{"vb", "V", 4}, "terminal voltage", read_vb},
    {{"vc", "V", 4}, "terminal voltage", read_vc},
    {{"vdc", "V", 4}, "bus voltage", read_vdc},
    {{"theta_m", "rad", 6}, "absolute sensor", read_theta_m},
    {{"enc", "", 0}, "encoder counts", read_enc},
    {{"index", "", 0}, "encoder: 1 when the index mark went by", read_index},
    {{"hall", "", 0}, "halls: 0..7, a is bit 0", read_hall},
    {{"sin", "V", 5}, "sin/cos sensor", read_sin},
    {{"cos", "V", 5}, "sin/cos sensor", read_cos},
    {{"tach", "V", 5}, "tachometer", read_tach},
    {{"temp", "degC", 2}, "winding temperature", read_temp},
    {{"pulse", "s", 7}, "pedal pulse, when one arrived", read_pulse},
    {{"pedal", "V", 4}, "analogue pedal", read_pedal},
    {{"digital", "", 4}, "digital set-point, when one arrived", read_digital},
    {{"true_theta_e", "rad", 6}, "the rig's own electrical angle, one period on", read_true_angle},
    {{"true_speed_m", "rad/s", 5}, "the rig's own speed, one period on", read_true_speed},
    {{"true_temp", "degC", 3}, "the rig's own winding temperature", read_true_temp},
};

const record_channel *record_channels(size_t *count)
{
    *count = G_N_ELEMENTS(channels);
    return channels;
}

static const record_channel *channel_named(const char *name)
{
    for (size_t n = 0; n < G_N_ELEMENTS(channels); n++) {
        if (strcmp(channels[n].column.name, name) == 0) {
            return &channels[n];
        }
    }
    return NULL;
}

/* What the rotor sensors that are fitted put into a log. */
static const char *sensor_columns(const cvk_rig_config *rig)
{
    static const char *const of_kind[] = {",theta_m", ",enc,index", ",sin,cos",
                                          ",hall",    ",tach",      ""};
    return rig->rotor_sensor.all_fitted ? ",theta_m,enc,index,hall,sin,cos,tach"
                                        : of_kind[rig->rotor_sensor.kind];
}

/* Coast logs have terminal voltages: with the bridge off there are no duties. Two shunts measure
 * two currents. A standstill needs no rotor sensor. */
static char *usual_channels(const char *excitation, const cvk_rig_config *rig)
{
    bool off = strcmp(excitation, "coast") == 0;
    bool still = strcmp(excitation, "standstill") == 0;
    bool two = rig->sensing.current_sensing == CVK_SENSING_TWO_SHUNTS;
    bool sweep = strcmp(excitation, "sweep") == 0;
    static const char *const in_use[] = {",theta_m", ",enc", ",sin,cos", ",hall", ",tach", ""};
    return g_strconcat("t,ia,ib", two ? "" : ",ic", off ? ",va,vb,vc" : ",duty_a,duty_b,duty_c",
                       ",vdc",
                       sweep          ? sensor_columns(rig)
                       : still || off ? ""
                                      : in_use[rig->rotor_sensor.kind],
                       NULL);
}

gboolean choose_channels(const char *list, const char *excitation, const cvk_rig_config *rig,
                         const record_channel *chosen[CVK_LOG_WRITER_MOST], size_t *count)
{
    char *wanted = list != NULL ? g_strdup(list) : usual_channels(excitation, rig);
    char **names = g_strsplit(wanted, ",", -1);
    gboolean good = TRUE;
    *count = 0;
    for (size_t n = 0; names[n] != NULL && good; n++) {
        const record_channel *channel = channel_named(g_strstrip(names[n]));
        if (channel == NULL || *count == CVK_LOG_WRITER_MOST) {
            GString *all = g_string_new(NULL);
            for (size_t k = 0; k < G_N_ELEMENTS(channels); k++) {
                g_string_append_printf(all, " %s", channels[k].column.name);
            }
            complain_usage("record", "no channel \"%s\"; there are:%s", names[n], all->str);
            g_string_free(all, TRUE);
            good = FALSE;
        } else {
            chosen[(*count)++] = channel;
        }
    }
    g_strfreev(names);
    g_free(wanted);
    return good;
}
