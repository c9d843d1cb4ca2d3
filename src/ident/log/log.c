/* SPDX-License-Identifier: Apache-2.0
 *
 * Column names and the empty log.
 */
#include "corvak/ident/log.h"

const char *cvk_column_name(cvk_column column)
{
    static const char *const names[CVK_COLUMN_COUNT] = {
        [CVK_COLUMN_T] = "t",
        [CVK_COLUMN_IA] = "ia",
        [CVK_COLUMN_IB] = "ib",
        [CVK_COLUMN_IC] = "ic",
        [CVK_COLUMN_VA] = "va",
        [CVK_COLUMN_VB] = "vb",
        [CVK_COLUMN_VC] = "vc",
        [CVK_COLUMN_VAB] = "vab",
        [CVK_COLUMN_VBC] = "vbc",
        [CVK_COLUMN_VCA] = "vca",
        [CVK_COLUMN_VDC] = "vdc",
        [CVK_COLUMN_IDC] = "idc",
        [CVK_COLUMN_DUTY_A] = "duty_a",
        [CVK_COLUMN_DUTY_B] = "duty_b",
        [CVK_COLUMN_DUTY_C] = "duty_c",
        [CVK_COLUMN_THETA_M] = "theta_m",
        [CVK_COLUMN_THETA_E] = "theta_e",
        [CVK_COLUMN_ENC] = "enc",
        [CVK_COLUMN_HALL] = "hall",
        [CVK_COLUMN_SPEED_M] = "speed_m",
        [CVK_COLUMN_TEMP] = "temp",
        [CVK_COLUMN_INDEX] = "index",
        [CVK_COLUMN_SIN] = "sin",
        [CVK_COLUMN_COS] = "cos",
        [CVK_COLUMN_TACH] = "tach",
        [CVK_COLUMN_HALL_A] = "hall_a",
        [CVK_COLUMN_HALL_B] = "hall_b",
        [CVK_COLUMN_HALL_C] = "hall_c",
    };
    return (unsigned)column < CVK_COLUMN_COUNT ? names[column] : NULL;
}

cvk_log cvk_log_empty(const char *name)
{
    cvk_log log = {.name = name,
                   .current_gain_tolerance = -1.0,
                   .voltage_gain_tolerance = -1.0,
                   .current_delay_s = -1.0};
    return log;
}

bool cvk_log_has(const cvk_log *log, cvk_column column)
{
    return log->column[column] != NULL;
}
