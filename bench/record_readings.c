/* SPDX-License-Identifier: Apache-2.0
 *
 * record_readings [plain] [FEATURE]: writes a recorded run (recorded_run.h) as readings.bin, to be
 * replayed by another build or another processor (ports/replay).
 */
#include "recorded_run.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_ROWS = 60000 };

static replay_row rows[MOST_ROWS];

int main(int argc, char **argv)
{
    const bool plain = argc > 1 && strcmp(argv[1], "plain") == 0;
    const char *feature = argc > 1 + plain ? argv[1 + plain] : NULL;
    replay_head head;
    if (!record_run(feature, plain, &head, rows, MOST_ROWS)) {
        fprintf(stderr, "record_readings: cannot run the bench with %s; choose from",
                feature != NULL ? feature : "nothing");
        for (int n = 0; recorded_features[n] != NULL; n++) {
            fprintf(stderr, " %s", recorded_features[n]);
        }
        fputc('\n', stderr);
        return EXIT_FAILURE;
    }
    FILE *out = fopen("readings.bin", "wb");
    const bool good = out != NULL && fwrite(&head, sizeof head, 1, out) == 1 &&
                      fwrite(rows, sizeof rows[0], head.rows, out) == head.rows;
    return out != NULL && fclose(out) == 0 && good ? EXIT_SUCCESS : EXIT_FAILURE;
}
