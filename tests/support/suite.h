/* SPDX-License-Identifier: Apache-2.0
 *
 * The frame around a Check suite: one test case, one runner, exit status for CTest.
 */
#ifndef CORVAK_TESTS_SUITE_H
#define CORVAK_TESTS_SUITE_H

#include <check.h>
#include <stdlib.h>

/* Runs `add` to fill one test case; `timeout_s` per test. Returns the exit status. */
static inline int run_suite(const char *name, void (*add)(TCase *tests), double timeout_s)
{
    Suite *suite = suite_create(name);
    TCase *tests = tcase_create(name);
    tcase_set_timeout(tests, timeout_s);
    add(tests);
    suite_add_tcase(suite, tests);
    SRunner *runner = srunner_create(suite);
    srunner_run_all(runner, CK_NORMAL);
    int failed = srunner_ntests_failed(runner);
    srunner_free(runner);
    return failed == 0 ? EXIT_SUCCESS : EXIT_FAILURE;
}

#endif
