/* SPDX-License-Identifier: Apache-2.0
 *
 * The controller's end of the link: what it answers, what it refuses, what it does when the line is
 * bad, cut or not read.
 */
#include "corvak/core/parameters.h"
#include "corvak/core/signals.h"
#include "noise.h"
#include "suite.h"
#include "toy_controller.h"

#include <math.h>
#include <stdio.h>

static toy_controller toy;
static cvk_frame_reader host;
static corvak_FromController heard;
static uint32_t id;

static void set_up(void)
{
    ck_assert_int_eq(toy_open(&toy), CVK_OK);
    host = (cvk_frame_reader){.state = 0};
    id = 0;
}

/* The next message of what has come; false when there is none. */
static bool hear(void)
{
    while (toy.out.count > 0) {
        const uint8_t byte = toy.out.bytes[0];
        memmove(toy.out.bytes, toy.out.bytes + 1, --toy.out.count);
        if (cvk_frame_read(&host, byte)) {
            heard = (corvak_FromController)corvak_FromController_init_zero;
            ck_assert(cvk_read_from_controller(host.bytes, host.length, &heard));
            return true;
        }
    }
    return false;
}

static void say(const corvak_ToController *m)
{
    uint8_t wire[CVK_FRAME_BYTES_MAX];
    const size_t count = cvk_write_to_controller(m, wire, sizeof wire);
    ck_assert_uint_gt(count, 0);
    toy_put(&toy, wire, count);
}

static corvak_ToController message(pb_size_t which)
{
    corvak_ToController m = corvak_ToController_init_zero;
    m.id = ++id;
    m.which_what = which;
    return m;
}

/* Says it and hears the answer, which comes within two control calls. */
static void ask(const corvak_ToController *m, pb_size_t expected)
{
    say(m);
    for (int n = 0; n < 3; n++) {
        toy_step(&toy);
        while (hear()) {
            if (heard.id == m->id) {
                ck_assert_int_eq(heard.which_what, expected);
                return;
            }
        }
    }
    ck_abort_msg("no answer to message %u", m->id);
}

static void claim(float lease_s)
{
    corvak_ToController m = message(corvak_ToController_claim_tag);
    m.what.claim.lease_s = lease_s;
    ask(&m, corvak_FromController_done_tag);
}

static corvak_ToController request_message(corvak_Request_Mode mode)
{
    corvak_ToController m = message(corvak_ToController_request_tag);
    m.what.request.mode = mode;
    return m;
}

static unsigned place_of(const char *key)
{
    unsigned n = 0;
    while (cvk_parameter_at(n) != cvk_parameter_named(key)) {
        n++;
    }
    return n;
}

static uint32_t stage(const char *key, float value)
{
    corvak_ToController m = message(corvak_ToController_stage_tag);
    m.what.stage.fresh = true;
    m.what.stage.setting_count = 1;
    m.what.stage.setting[0] = (corvak_Setting){place_of(key), value};
    ask(&m, corvak_FromController_staged_tag);
    return heard.what.staged.check;
}

/* ---- tables and values ----------------------------------------------------------------------- */

START_TEST(the_tables_come_whole_in_pages)
{
    unsigned parameters = 0, signals = 0;
    while (parameters < cvk_parameter_count()) {
        corvak_ToController m = message(corvak_ToController_parameters_tag);
        m.what.parameters.first = parameters;
        ask(&m, corvak_FromController_parameters_tag);
        ck_assert_uint_ge(heard.what.parameters.row_count, 1);
        for (int k = 0; k < heard.what.parameters.row_count; k++, parameters++) {
            const cvk_parameter *row = cvk_parameter_at(parameters);
            const corvak_Parameter *said = &heard.what.parameters.row[k];
            char key[96];
            snprintf(key, sizeof key, "%s.%s", row->section, row->name);
            ck_assert_str_eq(said->key, key);
            ck_assert_str_eq(said->unit, row->unit);
            ck_assert_str_eq(said->help, row->help); /* nothing was cut */
            ck_assert_float_eq(said->high, row->high);
            ck_assert_int_eq(said->while_on, row->while_on);
            for (int n = 0; row->names != NULL && row->names[n] != NULL; n++) {
                ck_assert_str_eq(said->choice[n], row->names[n]);
            }
        }
    }
    while (signals < cvk_signal_count()) {
        corvak_ToController m = message(corvak_ToController_signals_tag);
        m.what.signals.first = signals;
        ask(&m, corvak_FromController_signals_tag);
        ck_assert_uint_ge(heard.what.signals.row_count, 1);
        for (int k = 0; k < heard.what.signals.row_count; k++, signals++) {
            const cvk_signal *row = cvk_signal_at(signals);
            ck_assert_str_eq(heard.what.signals.row[k].name, row->name);
            ck_assert_str_eq(heard.what.signals.row[k].help, row->help);
            ck_assert_int_eq(heard.what.signals.row[k].state_count, row->states);
            for (int n = 0; n < row->states; n++) {
                ck_assert_str_eq(heard.what.signals.row[k].state[n], row->text(n));
            }
        }
    }
}
END_TEST

START_TEST(a_draft_comes_into_force_whole_with_its_check)
{
    const uint32_t check = stage("current.bandwidth_hz", 33.0f);
    float values[128];
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        values[n] = cvk_parameter_get(&toy.link.draft, cvk_parameter_at(n));
    }
    ck_assert_uint_eq(check, cvk_check_of_values(0, values, cvk_parameter_count()));
    ck_assert_uint_eq(heard.what.staged.differing, 1);
    corvak_ToController m = message(corvak_ToController_adopt_tag);
    m.what.adopt.check = check ^ 1u;
    ask(&m, corvak_FromController_refused_tag);
    ck_assert_int_eq(heard.what.refused.why, corvak_Why_CONTRADICTION);
    m = message(corvak_ToController_adopt_tag);
    m.what.adopt.check = check;
    ask(&m, corvak_FromController_done_tag);
    toy_step(&toy);
    ck_assert_float_eq(cvk_drive_settings(&toy.drive)->current.bandwidth_hz, 33.0f);
    m = message(corvak_ToController_values_tag);
    ask(&m, corvak_FromController_values_tag);
    ck_assert_float_eq(heard.what.values.value[place_of("current.bandwidth_hz")], 33.0f);
}
END_TEST

START_TEST(refusals_name_the_parameter)
{
    corvak_ToController m = message(corvak_ToController_stage_tag);
    m.what.stage.fresh = true;
    m.what.stage.setting_count = 2;
    m.what.stage.setting[0] = (corvak_Setting){place_of("speed.gain_a_s"), 0.5f};
    m.what.stage.setting[1] = (corvak_Setting){place_of("limit.current_a"), -3.0f};
    ask(&m, corvak_FromController_refused_tag);
    ck_assert_int_eq(heard.what.refused.why, corvak_Why_OUT_OF_RANGE);
    ck_assert_str_eq(heard.what.refused.field, "limit.current_a");
    ck_assert_float_eq(heard.what.refused.value, -3.0f);
    ck_assert_float_ne(toy.link.draft.speed.gain_a_s, 0.5f); /* none of the set was taken */
    m = message(corvak_ToController_stage_tag);
    m.what.stage.setting_count = 1;
    m.what.stage.setting[0] = (corvak_Setting){4711, 1.0f};
    ask(&m, corvak_FromController_refused_tag);
    ck_assert_int_eq(heard.what.refused.why, corvak_Why_UNKNOWN_NAME);
    m = request_message(corvak_Request_Mode_SPEED);
    ask(&m, corvak_FromController_refused_tag);
    ck_assert_int_eq(heard.what.refused.why, corvak_Why_NOT_OWNER);
    claim(1.0f);
    m = request_message(corvak_Request_Mode_SPEED);
    m.what.request.speed_rad_s = NAN;
    ask(&m, corvak_FromController_refused_tag);
    ck_assert_str_eq(heard.what.refused.field, "speed_rad_s");
    const uint8_t nonsense[] = {'~', 1, 2, 3, 4, 5, 0xCC, 0x3E, 0x3C, 0x8B, '~'};
    toy_put(&toy, nonsense, sizeof nonsense);
    uint8_t wire[64];
    const uint8_t no_message[] = {0xFF, 0xFF, 0xFF};
    toy_put(&toy, wire, cvk_frame_write(no_message, sizeof no_message, wire, sizeof wire));
    toy_step(&toy);
    bool refused = false;
    while (hear()) {
        refused = refused || (heard.which_what == corvak_FromController_refused_tag &&
                              heard.what.refused.why == corvak_Why_UNREADABLE);
    }
    ck_assert(refused);
}
END_TEST

START_TEST(a_command_that_comes_twice_is_done_once)
{
    claim(1.0f);
    corvak_ToController m = request_message(corvak_Request_Mode_CURRENT);
    ask(&m, corvak_FromController_done_tag);
    const uint32_t check = stage("current.bandwidth_hz", 33.0f);
    m = message(corvak_ToController_adopt_tag);
    m.what.adopt =
        (corvak_Adopt){.check = check, .has_terms = true, .terms = {1.0f, 1.0f, 0, 0, 0}};
    ask(&m, corvak_FromController_done_tag);
    const corvak_ToController adoption = m;
    m = message(corvak_ToController_word_tag); /* the lease is kept alive meanwhile */
    ask(&m, corvak_FromController_done_tag);
    m = adoption;
    ask(&m, corvak_FromController_done_tag); /* its answer was lost: not "busy" */
    m.id = ++id;
    ask(&m, corvak_FromController_refused_tag);
    ck_assert_int_eq(heard.what.refused.why, corvak_Why_BUSY);
}
END_TEST

/* ---- streams --------------------------------------------------------------------------------- */

START_TEST(a_stream_comes_without_gaps_and_counts_what_is_lost)
{
    corvak_ToController m = message(corvak_ToController_stream_tag);
    m.what.stream = (corvak_Stream){.signal_count = 3, .signal = {0, 1, 2}, .decimation = 2};
    ask(&m, corvak_FromController_done_tag);
    uint32_t next = 0, rows = 0, lost = 0, gaps = 0;
    for (int n = 0; n < 20000; n++) {
        const uint32_t coming = cvk_drive_now(&toy.drive)->tick + 1u;
        toy.readings.rotor.absolute_mech_rad = (float)(coming % 1000u); /* tells the row's tick */
        toy.out.blocked = n >= 6000 && n < 9000; /* nobody reads for three seconds */
        toy_step(&toy);
        while (!toy.out.blocked && hear()) {
            if (heard.which_what != corvak_FromController_samples_tag) {
                continue;
            }
            const corvak_Samples *s = &heard.what.samples;
            ck_assert_uint_eq(s->value_count % 3, 0);
            for (uint32_t r = 0; r < s->value_count / 3u; r++) {
                ck_assert_float_eq(s->value[3u * r], (float)((s->tick + 2u * r) % 1000u));
            }
            gaps += next != 0 && s->tick != next ? 1u : 0u;
            rows += s->value_count / 3u;
            next = s->tick + 2u * (s->value_count / 3u);
            lost = s->lost;
        }
    }
    ck_assert_uint_eq(gaps, 1);
    ck_assert_uint_gt(lost, 500);
    ck_assert_uint_ge(rows + lost + 150u, 10000);
    ck_assert_uint_le(rows + lost, 10001);
    m = message(corvak_ToController_stream_tag);
    m.what.stream = (corvak_Stream){.signal_count = 1, .signal = {999}, .decimation = 2};
    ask(&m, corvak_FromController_refused_tag);
}
END_TEST

/* ---- the lease ------------------------------------------------------------------------------- */

static void run_until_stop(double longest_s)
{
    double passed_s = 0.0;
    while (cvk_drive_now(&toy.drive)->request.mode != CVK_MODE_STOP && toy.gates_on) {
        toy_step(&toy);
        passed_s += 1e-3;
        ck_assert_double_lt(passed_s, longest_s);
    }
}

static void start_current(float lease_s)
{
    claim(lease_s);
    const corvak_ToController m = request_message(corvak_Request_Mode_CURRENT);
    ask(&m, corvak_FromController_done_tag);
    toy_step(&toy);
    ck_assert(toy.gates_on);
}

/* The host dies in the middle of a frame, at each byte of it. */
START_TEST(a_cut_at_any_byte_ends_in_a_stop)
{
    uint8_t wire[CVK_FRAME_BYTES_MAX];
    corvak_ToController m = request_message(corvak_Request_Mode_SPEED);
    m.what.request.speed_rad_s = 500.0f;
    const size_t count = cvk_write_to_controller(&m, wire, sizeof wire);
    for (size_t cut = 0; cut < count; cut++) {
        set_up();
        start_current(0.2f);
        toy_put(&toy, wire, cut);
        run_until_stop(0.2 + 0.05);
        ck_assert_float_eq(cvk_drive_now(&toy.drive)->request.speed_rad_s, 0.0f);
    }
}
END_TEST

/* It goes on asking, but does not take the answers. */
START_TEST(a_host_that_does_not_read_loses_its_lease)
{
    start_current(0.2f);
    corvak_ToController m = message(corvak_ToController_stream_tag);
    m.what.stream = (corvak_Stream){.signal_count = 2, .signal = {0, 1}, .decimation = 1};
    ask(&m, corvak_FromController_done_tag);
    toy.out.blocked = true;
    double passed_s = 0.0;
    for (int n = 0; cvk_drive_owner(&toy.drive) != CVK_NOBODY; n++) {
        if (n % 20 == 0) {
            m = message(corvak_ToController_word_tag);
            m.what.word.kind = corvak_Word_Kind_REFRESH;
            say(&m);
        }
        toy_step(&toy);
        passed_s += 1e-3;
        ck_assert_double_lt(passed_s, 0.2 + 0.05);
    }
    run_until_stop(0.05);
}
END_TEST

START_TEST(closing_a_link_releases_the_drive)
{
    start_current(5.0f);
    cvk_link_close(&toy.link);
    ck_assert_uint_eq(cvk_drive_owner(&toy.drive), CVK_NOBODY);
    run_until_stop(0.05);
}
END_TEST

/* ---- a bad line ------------------------------------------------------------------------------ */

static void flip_some(uint8_t *bytes, size_t count)
{
    for (size_t n = 0; n < count; n++) {
        if (uniform() + 0.5 < 0.01) {
            bytes[n] ^= (uint8_t)(1u << (unsigned)((uniform() + 0.5) * 7.99));
        }
    }
}

#ifdef __SANITIZE_ADDRESS__
enum { HOUR_MS = 360000 }; /* ten times slower then */
#else
enum { HOUR_MS = 3600000 };
#endif

/* An hour of stage and adopt, with one byte in a hundred flipped both ways. Two parameters always
 * go together, so that half a set would be seen; what is in force is always what was asked for last
 * or before. */
START_TEST(no_wrong_parameter_on_a_line_that_flips_bytes)
{
    const unsigned a = place_of("speed.gain_a_s"), b = place_of("speed.integral_gain_a");
    uint32_t check = 0, asked = 0, adopted = 0;
    float last = 0.0f, in_force = 0.0f;
    bool staged = false;
    lcg = 5;
    for (uint32_t ms = 0; ms < (uint32_t)HOUR_MS; ms++) {
        if (ms % 40 == 0) {
            corvak_ToController m =
                message(staged ? corvak_ToController_adopt_tag : corvak_ToController_stage_tag);
            if (staged) {
                m.what.adopt.check = check;
            } else {
                last = 0.001f * (float)(1u + ++asked % 900000u);
                m.what.stage.fresh = true;
                m.what.stage.setting_count = 2;
                m.what.stage.setting[0] = (corvak_Setting){a, last};
                m.what.stage.setting[1] = (corvak_Setting){b, 7.0f * last};
            }
            uint8_t wire[CVK_FRAME_BYTES_MAX];
            const size_t count = cvk_write_to_controller(&m, wire, sizeof wire);
            flip_some(wire, count);
            toy_put(&toy, wire, count);
        }
        toy_step(&toy);
        flip_some(toy.out.bytes, toy.out.count);
        while (hear()) {
            if (heard.id == id && heard.which_what == corvak_FromController_staged_tag) {
                check = heard.what.staged.check;
                staged = true;
            } else if (heard.id == id && heard.which_what != corvak_FromController_state_tag) {
                staged = false; /* done or refused */
            }
        }
        const cvk_settings *s = cvk_drive_settings(&toy.drive);
        if (s->speed.gain_a_s != in_force) {
            in_force = s->speed.gain_a_s;
            adopted++;
            ck_assert_float_eq(in_force, last);
            ck_assert_float_eq(s->speed.integral_gain_a, 7.0f * in_force);
        }
        cvk_settings others = *s;
        others.speed.gain_a_s = others.speed.integral_gain_a = 0.0f;
        if (ms % 1000 == 0) {
            cvk_settings before = toy_settings();
            before.speed.gain_a_s = before.speed.integral_gain_a = 0.0f;
            ck_assert_mem_eq(&others, &before, sizeof others);
        }
    }
    ck_assert_uint_gt(adopted, HOUR_MS / 720);
    ck_assert_uint_gt(toy.link.reader.counts.damaged, HOUR_MS / 720);
}
END_TEST

static void add(TCase *tests)
{
    tcase_add_checked_fixture(tests, set_up, NULL);
    tcase_add_test(tests, the_tables_come_whole_in_pages);
    tcase_add_test(tests, a_draft_comes_into_force_whole_with_its_check);
    tcase_add_test(tests, refusals_name_the_parameter);
    tcase_add_test(tests, a_command_that_comes_twice_is_done_once);
    tcase_add_test(tests, a_stream_comes_without_gaps_and_counts_what_is_lost);
    tcase_add_test(tests, a_cut_at_any_byte_ends_in_a_stop);
    tcase_add_test(tests, a_host_that_does_not_read_loses_its_lease);
    tcase_add_test(tests, closing_a_link_releases_the_drive);
    tcase_add_test(tests, no_wrong_parameter_on_a_line_that_flips_bytes);
}

int main(void)
{
    return run_suite("link", add, 120.0);
}
