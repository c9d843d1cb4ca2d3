/* SPDX-License-Identifier: Apache-2.0
 *
 * Which rows of a turning motor are fitted.
 */
#ifndef CORVAK_IDENT_TURNING_TURNING_BLOCKS_H
#define CORVAK_IDENT_TURNING_TURNING_BLOCKS_H

#include "turns.h"
#include "turning_model.h"

#define CVK_TURNING_MOST_BLOCKS 64u
#define CVK_TURNING_SMALLEST_BLOCK_ROWS 128u

typedef struct cvk_turning_blocks {
    cvk_tm_block block[CVK_TURNING_MOST_BLOCKS];
    /* of each, in the arrays of gains and residuals of all of them */
    size_t first_row[CVK_TURNING_MOST_BLOCKS], first_residual[CVK_TURNING_MOST_BLOCKS];
    size_t count, rows, residual_rows; /* rows after the warm-ups have two residuals each */
} cvk_turning_blocks;

/* About `most` rows in blocks of at least `block_rows` rows and two turns; all that turns with
 * current when that is less. */
void cvk_choose_blocks(cvk_turning_blocks *b, const cvk_waveforms *s, const cvk_turns *turns,
                       size_t most, size_t block_rows);

/* Appends one. */
void cvk_add_block(cvk_turning_blocks *b, const cvk_tm_block *block);

/* Rows of all turns. */
size_t cvk_turning_rows(const cvk_turns *turns);

#endif
