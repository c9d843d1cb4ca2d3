/* SPDX-License-Identifier: Apache-2.0
 *
 * Every state has its words, and what the tables hold fits into what the wire can carry.
 */
#include "corvak/core/parameters.h"
#include "corvak/core/signals.h"
#include "corvak/core/trial.h"
#include "corvak/link/corvak.pb.h"
#include "corvak/link/messages.h"
#include "suite.h"

#include <stdio.h>
#include <string.h>

#define ROOM(message, field) (sizeof(((message *)0)->field))
#define PLACES(message, field) (ROOM(message, field) / ROOM(message, field[0]))

/* Words of its own for each of `count` values; something else, but something, beyond. */
static void walk(const char *what, const char *(*text)(int), int count)
{
    for (int n = 0; n < count; n++) {
        ck_assert_msg(text(n) != NULL && text(n)[0] != '\0', "%s %d has no words", what, n);
        ck_assert_msg(strncmp(text(n), "unknown", 7) != 0, "%s %d is unknown", what, n);
        for (int k = 0; k < n; k++) {
            ck_assert_msg(strcmp(text(n), text(k)) != 0, "%s %d and %d read alike", what, n, k);
        }
    }
    ck_assert_ptr_nonnull(text(count));
    ck_assert_ptr_nonnull(text(-1));
}

static const char *status_text(int n)
{
    return cvk_status_text((cvk_status)n);
}

static const char *fault_text(int n)
{
    return cvk_fault_text((cvk_fault)n);
}

START_TEST(every_state_has_its_words)
{
    walk("status", status_text, CVK_STATUS_COUNT);
    walk("fault", fault_text, CVK_FAULT_COUNT);
    walk("rotor sensor", cvk_rotor_kind_name, CVK_ROTOR_NONE);
    int walked = 0;
    for (unsigned n = 0; n < cvk_signal_count(); n++) {
        const cvk_signal *s = cvk_signal_at(n);
        if (s->text != NULL) {
            walk(s->name, s->text, s->states);
            walked++;
        }
    }
    ck_assert_int_gt(walked, 8);
}
END_TEST

static void fits(const char *text, size_t room, const char *whose)
{
    ck_assert_ptr_nonnull(text);
    ck_assert_msg(strlen(text) < room, "%s: \"%s\" is longer than %zu", whose, text, room - 1);
}

START_TEST(signals_fit_the_wire)
{
    for (unsigned n = 0; n < cvk_signal_count(); n++) {
        const cvk_signal *s = cvk_signal_at(n);
        fits(s->name, ROOM(corvak_Signal, name), s->name);
        fits(s->unit, ROOM(corvak_Signal, unit), s->name);
        fits(s->help, ROOM(corvak_Signal, help), s->name);
        ck_assert_uint_le(s->states, PLACES(corvak_Signal, state));
        for (int k = 0; k < s->states; k++) {
            fits(s->text(k), ROOM(corvak_Signal, state[0]), s->name);
        }
        ck_assert_ptr_eq(cvk_signal_named(s->name), s); /* no other one of that name */
        ck_assert_uint_lt(s->offset, sizeof(cvk_moment));
    }
    ck_assert_ptr_null(cvk_signal_at(cvk_signal_count()));
}
END_TEST

START_TEST(parameters_fit_the_wire)
{
    ck_assert_uint_le(cvk_parameter_count(), PLACES(corvak_Values, value));
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        char key[ROOM(corvak_Parameter, key) + 32];
        snprintf(key, sizeof key, "%s.%s", row->section, row->name);
        fits(key, ROOM(corvak_Parameter, key), key);
        fits(row->unit, ROOM(corvak_Parameter, unit), key);
        fits(row->help, ROOM(corvak_Parameter, help), key);
        ck_assert_msg(row->preset >= row->low && row->preset <= row->high, "%s", key);
        ck_assert_ptr_eq(cvk_parameter_named(key), row);
        unsigned names = 0;
        for (; row->kind == CVK_CHOICE && row->names[names] != NULL; names++) {
            fits(row->names[names], ROOM(corvak_Parameter, choice[0]), key);
        }
        ck_assert_msg(row->kind != CVK_CHOICE || (float)names == row->high + 1.0f, "%s", key);
        ck_assert_uint_le(names, PLACES(corvak_Parameter, choice));
    }
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_test(tests, every_state_has_its_words);
    tcase_add_test(tests, signals_fit_the_wire);
    tcase_add_test(tests, parameters_fit_the_wire);
}

int main(void)
{
    return run_suite("tables", add);
}
