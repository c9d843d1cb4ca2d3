/* SPDX-License-Identifier: Apache-2.0
 *
 * The channels that `corvak record` can write: the controller's signals, what the rig's own probes
 * read, and the rig's secrets, which begin with true_: for comparison, never for estimation.
 */
#include "record.h"

#include <math.h>
#include <string.h>

#define OF_BENCH(name, expression)                                                                 \
    static double name(double time_s, const cvk_bench_truth *truth)                                \
    {                                                                                              \
        (void)time_s;                                                                              \
        (void)truth;                                                                               \
        return expression;                                                                         \
    }

OF_BENCH(read_t, time_s)
OF_BENCH(read_pulse, truth->pulse_s)
OF_BENCH(read_pedal, truth->pedal_v)
OF_BENCH(read_digital, truth->digital)
OF_BENCH(read_true_angle, truth->angle_e_rad)
OF_BENCH(read_true_speed, truth->speed_mech_rad_s)
OF_BENCH(read_true_temp, truth->winding_degc)

static const struct {
    cvk_log_writer_column column;
    const char *help;
    double (*read)(double time_s, const cvk_bench_truth *truth);
} of_rig[] = {
    {{"t", "s", 6}, "time of the sample", read_t},
    {{"pulse", "s", 7}, "pedal pulse, when one arrived", read_pulse},
    {{"pedal", "V", 4}, "analogue pedal", read_pedal},
    {{"digital", "", 4}, "digital set-point, when one arrived", read_digital},
    {{"true_theta_e", "rad", 6}, "the rig's own electrical angle", read_true_angle},
    {{"true_speed_m", "rad/s", 5}, "the rig's own speed", read_true_speed},
    {{"true_temp", "degC", 3}, "the rig's own winding temperature", read_true_temp},
};

size_t record_channel_count(void)
{
    return G_N_ELEMENTS(of_rig) + cvk_signal_count();
}

record_channel record_channel_at(size_t index)
{
    if (index < G_N_ELEMENTS(of_rig)) {
        return (record_channel){of_rig[index].column,
                                of_rig[index].help,
                                of_rig[index].read,
                                of_rig[index].read != read_t,
                                NULL,
                                -1};
    }
    const cvk_signal *s = cvk_signal_at((unsigned)(index - G_N_ELEMENTS(of_rig)));
    return (record_channel){{s->name, s->unit, s->digits}, s->help, NULL, false, s, -1};
}

double record_cell(const record_channel *channel, double time_s, const float *row,
                   const cvk_bench_truth *truth)
{
    if (channel->read == NULL) {
        return (double)row[channel->place];
    }
    return channel->of_bench && truth == NULL ? (double)NAN : channel->read(time_s, truth);
}

static gboolean channel_named(const char *name, record_channel *channel)
{
    for (size_t n = 0; n < record_channel_count(); n++) {
        *channel = record_channel_at(n);
        if (strcmp(channel->column.name, name) == 0) {
            return TRUE;
        }
    }
    return FALSE;
}

/* What the rotor sensors that are fitted put into a log. */
static const char *sensor_columns(const cvk_rig_config *rig)
{
    static const char *const of_kind[] = {",theta_m", ",enc,index", ",sin,cos",
                                          ",hall",    ",tach",      ""};
    return rig->rotor_sensor.all_fitted ? ",theta_m,enc,index,hall,sin,cos,tach"
                                        : of_kind[rig->rotor_sensor.kind];
}

/* With the bridge off there are no duties, but terminal voltages. Two shunts measure two currents.
 * A shaft that is held, or coasts, needs no rotor sensor. */
char *usual_channels(const cvk_program *program, const cvk_rig_config *rig)
{
    static const char *const in_use[] = {",theta_m", ",enc", ",sin,cos", ",hall", ",tach", ""};
    const bool two = rig->sensing.current_sensing == CVK_SENSING_TWO_SHUNTS;
    return g_strconcat("t,ia,ib", two ? "" : ",ic",
                       program->bridge_off ? ",va,vb,vc" : ",duty_a,duty_b,duty_c", ",vdc",
                       program->open_loop ? sensor_columns(rig)
                       : program->shaft_held || program->bridge_off
                           ? ""
                           : in_use[rig->rotor_sensor.kind],
                       NULL);
}

gboolean choose_channels(const char *verb, const char *list,
                         record_channel chosen[CVK_LOG_WRITER_MOST], size_t *count)
{
    char **names = g_strsplit(list, ",", -1);
    gboolean good = TRUE;
    *count = 0;
    for (size_t n = 0; names[n] != NULL && good; n++) {
        record_channel channel;
        if (!channel_named(g_strstrip(names[n]), &channel) || *count == CVK_LOG_WRITER_MOST) {
            GString *all = g_string_new(NULL);
            for (size_t k = 0; k < record_channel_count(); k++) {
                g_string_append_printf(all, " %s", record_channel_at(k).column.name);
            }
            complain_usage(verb, "no channel \"%s\"; there are:%s", names[n], all->str);
            g_string_free(all, TRUE);
            good = FALSE;
        } else {
            chosen[(*count)++] = channel;
        }
    }
    g_strfreev(names);
    return good;
}

size_t notes_of_session(const cvk_session *s, cvk_log_writer_note notes[SESSION_NOTES])
{
    const double pwm_hz = 1.0 / ((double)s->period_s * s->updates_per_period);
    const double delay_s = cvk_session_value(s, "sensing.delay_s");
    const double counts = cvk_session_value(s, "rotor.counts");
    const gboolean encoder =
        cvk_session_value(s, "rotor.kind") == (double)CVK_ROTOR_ENCODER && counts > 0.0;
    const struct {
        const char *key;
        double value;
        gboolean known;
    } numbers[] = {{"pwm_hz", pwm_hz, TRUE},
                   {"current_delay_s", delay_s, delay_s > 0.0},
                   {"encoder_counts", counts, encoder}};
    size_t n = 1;
    notes[0].key = "rig";
    g_strlcpy(notes[0].value, s->name, sizeof notes[0].value);
    for (size_t k = 0; k < G_N_ELEMENTS(numbers); k++) {
        if (numbers[k].known) {
            notes[n].key = numbers[k].key;
            g_snprintf(notes[n++].value, sizeof notes[0].value, "%.9g", numbers[k].value);
        }
    }
    return n;
}
