/* SPDX-License-Identifier: Apache-2.0
 *
 * What a log's columns are converted by, each kind in a file of its own: signals_currents.c,
 * signals_voltages.c, signals_rotor.c. `rows` are the rows of the log that are used, as many as the
 * signals have.
 */
#ifndef CORVAK_IDENT_LOG_WAVEFORMS_PARTS_H
#define CORVAK_IDENT_LOG_WAVEFORMS_PARTS_H

#include "waveforms.h"

typedef enum cvk_voltage_kind {
    CVK_VOLTAGE_NONE,
    CVK_VOLTAGE_TERMINALS,
    CVK_VOLTAGE_LINES,
    CVK_VOLTAGE_DUTIES,
    CVK_VOLTAGE_PAIR /* two terminals of a motor without current */
} cvk_voltage_kind;

/* How many columns of three, such as ia, ib, ic, a log has. */
static inline int cvk_count_columns(const cvk_log *log, cvk_column first)
{
    int count = 0;
    for (int c = 0; c < 3; c++) {
        count += cvk_log_has(log, (cvk_column)((int)first + c));
    }
    return count;
}

/* Gains that the channels' sum shows are taken up; channels beyond belief become errors. */
void cvk_convert_currents(cvk_waveforms *waveforms, const cvk_log *log, const size_t *rows,
                          cvk_estimate *out);

/* The first of a kind's columns; and the kind that a log has. */
cvk_column cvk_first_voltage(cvk_voltage_kind kind);
cvk_voltage_kind cvk_voltage_kind_of(const cvk_log *log);

void cvk_convert_bus(cvk_waveforms *waveforms, const cvk_log *log, const size_t *rows,
                     cvk_voltage_kind kind);
bool cvk_convert_voltages(cvk_waveforms *waveforms, const cvk_log *log, const size_t *rows,
                          cvk_voltage_kind kind, cvk_estimate *out);

/* Has the log a column, or marks, that say where the shaft is? */
bool cvk_has_rotor_angle(const cvk_log *log);
void cvk_convert_rotor(cvk_waveforms *waveforms, const cvk_log *log, const size_t *rows);

#endif
