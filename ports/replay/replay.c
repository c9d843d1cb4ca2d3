/* SPDX-License-Identifier: Apache-2.0
 *
 * replay: gives a drive the readings and requests of readings.bin, writes its duties to the file
 * named below, and prints how long a control call took where a timer tells. The same source runs on
 * the host and, through semihosting, on a Cortex-M4F.
 */
#include "replay.h"
#include "timer.h"

#include <stdio.h>
#include <string.h>

static cvk_drive drive;

static void gate_enable(void *context, bool enable)
{
    (void)context;
    (void)enable;
}

static const cvk_port port = {.gate_enable = gate_enable};

static int run(FILE *in, FILE *out)
{
    static replay_head head;
    static replay_row row;
    cvk_request asked = {.mode = CVK_MODE_OFF};
    uint32_t largest = 0;
    double sum = 0.0;
    if (fread(&head, sizeof head, 1, in) != 1 || head.magic != REPLAY_MAGIC ||
        cvk_drive_init(&drive, &port, &head.hardware, &head.settings, NULL) != CVK_OK ||
        cvk_drive_claim(&drive, 1, 3600.0f) != CVK_OK) {
        printf("readings.bin is no recorded run of this version\n");
        return 1;
    }
    for (uint32_t n = 0; n < head.rows; n++) {
        if (fread(&row, sizeof row, 1, in) != 1) {
            printf("readings.bin is cut short\n");
            return 1;
        }
        if (memcmp(&asked, &row.request, sizeof asked) != 0) {
            asked = row.request;
            if (cvk_drive_request(&drive, 1, &asked, NULL) != CVK_OK) {
                return 1;
            }
        }
        const uint32_t before = timer_now();
        const cvk_abc duty = cvk_drive_control(&drive, &row.readings);
        const uint32_t took = timer_since(before);
        largest = took > largest ? took : largest;
        sum += took;
        if (fwrite(&duty, sizeof duty, 1, out) != 1) {
            return 1;
        }
    }
    printf("%lu control calls, fault %ld", (unsigned long)head.rows,
           (long)cvk_drive_now(&drive)->fault);
    if (TIMER_INSTRUCTIONS > 0) {
        printf(", %.0f instructions a call in the mean, %lu at most (in steps of %d)",
               TIMER_INSTRUCTIONS * sum / head.rows, (unsigned long)(largest * TIMER_INSTRUCTIONS),
               TIMER_INSTRUCTIONS);
    }
    printf("\n");
    return 0;
}

int main(void)
{
    FILE *in = fopen("readings.bin", "rb"), *out = fopen(DUTIES_FILE, "wb");
    const int status = in != NULL && out != NULL ? run(in, out) : 1;
    if (in != NULL) {
        fclose(in);
    }
    if (out != NULL && fclose(out) != 0) {
        return 1;
    }
    return status;
}
