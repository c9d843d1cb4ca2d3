/* SPDX-License-Identifier: Apache-2.0
 *
 * The frame around a Check suite: one test case, one runner, exit status for CTest.
 */
#ifndef CORVAK_TESTS_SUITE_H
#define CORVAK_TESTS_SUITE_H

#include <check.h>
#include <stdlib.h>

/* Longer than any test takes under sanitizers on a busy machine: it ends what hangs, no more. */
#define TEST_HANGS_S 900.0

/* Runs `add` to fill one test case. Returns the exit status. */
static inline int run_suite(const char *name, void (*add)(TCase *tests))
{
    Suite *suite = suite_create(name);
    TCase *tests = tcase_create(name);
    tcase_set_timeout(tests, TEST_HANGS_S);
    add(tests);
    suite_add_tcase(suite, tests);
    SRunner *runner = srunner_create(suite);
    srunner_run_all(runner, CK_NORMAL);
    int failed = srunner_ntests_failed(runner);
    srunner_free(runner);
    return failed == 0 ? EXIT_SUCCESS : EXIT_FAILURE;
}

#endif
