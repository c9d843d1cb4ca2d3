/* SPDX-License-Identifier: Apache-2.0
 *
 * A recorded run as a file: what a drive was given in every control period, so that another build
 * or another processor can be given the same. Little-endian, 32-bit words, as in memory.
 */
#ifndef CORVAK_PORTS_REPLAY_H
#define CORVAK_PORTS_REPLAY_H

#include "corvak/core/drive.h"

#define REPLAY_MAGIC 0x5645524eu

typedef struct replay_head {
    uint32_t magic, rows;
    cvk_hardware hardware;
    cvk_settings settings;
} replay_head;

typedef struct replay_row {
    cvk_request request;
    cvk_readings readings;
} replay_row;

#endif
