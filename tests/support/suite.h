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

/* Under sanitizers a slow suite runs one test in eight, or only the one of this name; of a loop the
 * first turn. */
#ifdef SUITE_IN_SHORT
#include <string.h>
static inline int suite_takes(const char *name)
{
    static int tests;
    return SUITE_IN_SHORT[0] != '\0' ? strcmp(name, SUITE_IN_SHORT) == 0 : tests++ % 8 == 0;
}
static inline void suite_add(TCase *tests, const TTest *test, int from, int to)
{
    if (suite_takes(test->name)) {
        _tcase_add_test(tests, test, 0, 0, from, from < to ? from + 1 : to);
    }
}
#undef tcase_add_test
#undef tcase_add_loop_test
#define tcase_add_test(tests, test) suite_add(tests, test, 0, 1)
#define tcase_add_loop_test(tests, test, from, to) suite_add(tests, test, from, to)
#endif

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
