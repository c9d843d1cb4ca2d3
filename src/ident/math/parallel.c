/* SPDX-License-Identifier: Apache-2.0
 *
 * Threads of C11. They are started for each loop: that takes tens of microseconds, a loop some
 * milliseconds.
 */
#include "parallel.h"

#include <stdatomic.h>
#ifndef __STDC_NO_THREADS__
#include <threads.h>
#endif

#define MOST_HELPERS 16

typedef struct loop {
    size_t count;
    atomic_size_t next;
    atomic_bool failed;
    bool (*work)(void *context, size_t n);
    void *context;
} loop;

/* Takes turns until there are none left. */
static int take_turns(void *argument)
{
    loop *l = argument;
    for (size_t n = atomic_fetch_add(&l->next, 1); n < l->count && !atomic_load(&l->failed);
         n = atomic_fetch_add(&l->next, 1)) {
        if (!l->work(l->context, n)) {
            atomic_store(&l->failed, true);
        }
    }
    return 0;
}

#ifdef __STDC_NO_THREADS__
static void share_turns(loop *l, int threads)
{
    (void)threads;
    (void)take_turns(l);
}
#else
static void share_turns(loop *l, int threads)
{
    thrd_t helper[MOST_HELPERS];
    int started = 0;
    while (started + 1 < threads && started < MOST_HELPERS &&
           thrd_create(&helper[started], take_turns, l) == thrd_success) {
        started++;
    }
    (void)take_turns(l);
    for (int n = 0; n < started; n++) {
        (void)thrd_join(helper[n], NULL);
    }
}
#endif

bool cvk_for_each(size_t count, int threads, bool (*work)(void *context, size_t n), void *context)
{
    loop l = {.count = count, .work = work, .context = context};
    share_turns(&l, threads < (int)count ? threads : (int)count);
    return !atomic_load(&l.failed);
}
