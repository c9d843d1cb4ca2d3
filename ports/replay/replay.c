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

/* What a call does decides what it costs. */
enum { BY_TORQUE, BY_SPEED, IN_A_START, NEITHER, COSTS };

typedef struct costs {
    uint32_t calls, largest;
    double sum;
} costs;

static int cost_of(const cvk_moment *now)
{
    return now->start_phase > CVK_START_IDLE && now->start_phase < CVK_START_RUN ? IN_A_START
           : now->request.mode == CVK_MODE_TORQUE                                ? BY_TORQUE
           : now->request.mode == CVK_MODE_SPEED                                 ? BY_SPEED
                                                                                 : NEITHER;
}

static void add_cost(costs *cost, uint32_t took)
{
    cost->calls++;
    cost->sum += took;
    cost->largest = took > cost->largest ? took : cost->largest;
}

static void print_costs(const costs *cost)
{
    static const char *const names[] = {"torque asked for", "with speed loop and profile",
                                        "in a start", "else"};
    for (int n = 0; n < COSTS && TIMER_INSTRUCTIONS > 0; n++) {
        printf("  %-28s %5.0f instructions a call, %5lu at most (in steps of %d)\n", names[n],
               TIMER_INSTRUCTIONS * cost[n].sum / (cost[n].calls + 1e-9),
               (unsigned long)(TIMER_INSTRUCTIONS * cost[n].largest), TIMER_INSTRUCTIONS);
    }
}

static int run(FILE *in, FILE *out)
{
    static replay_head head;
    static replay_row row;
    cvk_request asked = {.mode = CVK_MODE_OFF};
    costs cost[COSTS] = {{0}};
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
        /* NOLINTNEXTLINE(bugprone-suspicious-memory-comparison): a new one, byte by byte */
        if (memcmp(&asked, &row.request, sizeof asked) != 0) {
            asked = row.request;
            if (cvk_drive_request(&drive, 1, &asked, NULL) != CVK_OK) {
                return 1;
            }
        }
        const uint32_t before = timer_now();
        const cvk_abc duty = cvk_drive_control(&drive, &row.readings);
        const uint32_t took = timer_since(before);
        add_cost(&cost[cost_of(cvk_drive_now(&drive))], took);
        if (fwrite(&duty, sizeof duty, 1, out) != 1) {
            return 1;
        }
    }
    printf("%lu control calls, fault %ld\n", (unsigned long)head.rows,
           (long)cvk_drive_now(&drive)->fault);
    print_costs(cost);
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
