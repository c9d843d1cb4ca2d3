/* SPDX-License-Identifier: Apache-2.0
 *
 * The controller's end of the link: what it answers, what it refuses, what it does when the line is
 * bad, cut or not read.
 */
#include "corvak/core/parameters.h"
#include "corvak/core/signals.h"
#include "corvak/link/hmac.h"
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
    claim(1.0f);
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
    claim(1.0f);
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

/* ---- who may what ---------------------------------------------------------------------------- */

static void refused(corvak_ToController m, corvak_Why why)
{
    ask(&m, corvak_FromController_refused_tag);
    ck_assert_int_eq(heard.what.refused.why, why);
}

/* Whoever owns nothing may look, and stop; nothing else. */
START_TEST(who_does_not_own_only_looks_and_stops)
{
    corvak_ToController m = message(corvak_ToController_stage_tag);
    m.what.stage.fresh = true;
    m.what.stage.setting_count = 1;
    m.what.stage.setting[0] = (corvak_Setting){place_of("protect.trip_current_a"), 2000.0f};
    refused(m, corvak_Why_NOT_OWNER);
    m = message(corvak_ToController_adopt_tag);
    refused(m, corvak_Why_NOT_OWNER);
    refused(request_message(corvak_Request_Mode_SPEED), corvak_Why_NOT_OWNER);
    for (int off = 0; off < 2; off++) {
        ck_assert_int_eq(cvk_drive_claim(&toy.drive, 3, 60.0f), CVK_OK);
        const cvk_request turns = {.mode = CVK_MODE_CURRENT, .current_a = {0.0f, 1.0f}};
        ck_assert_int_eq(cvk_drive_request(&toy.drive, 3, &turns, NULL), CVK_OK);
        toy_step(&toy);
        ck_assert(toy.gates_on);
        m = request_message(off ? corvak_Request_Mode_OFF : corvak_Request_Mode_STOP);
        ask(&m, corvak_FromController_done_tag);
        toy_step(&toy);
        ck_assert_uint_eq(cvk_drive_owner(&toy.drive), CVK_NOBODY);
        ck_assert_int_eq(cvk_drive_now(&toy.drive)->request.mode, CVK_MODE_OFF); /* it stands */
    }
}
END_TEST

START_TEST(a_lease_has_a_ceiling_and_nobody_there_gets_no_motor)
{
    corvak_ToController m = message(corvak_ToController_claim_tag);
    m.what.claim.lease_s = 10.1f;
    refused(m, corvak_Why_OUT_OF_RANGE);
    ck_assert_float_eq(heard.what.refused.high, 10.0f);
    claim(10.0f);
    m = message(corvak_ToController_hand_over_tag);
    m.what.hand_over.to = 8;
    refused(m, corvak_Why_CONTRADICTION);
    ck_assert_uint_eq(cvk_drive_owner(&toy.drive), 7);
    cvk_drive_arrive(&toy.drive, 8);
    m.id = ++id;
    ask(&m, corvak_FromController_done_tag);
    ck_assert_uint_eq(cvk_drive_owner(&toy.drive), 8);
    cvk_drive_leave(&toy.drive, 8);
    ck_assert(!cvk_drive_is_there(&toy.drive, 8));
    ck_assert(cvk_drive_is_there(&toy.drive, 7));
}
END_TEST

/* The same id again with another content is another command; and a stop is always done. */
START_TEST(a_stop_is_never_taken_for_a_repetition)
{
    claim(1.0f);
    corvak_ToController m = request_message(corvak_Request_Mode_CURRENT);
    ask(&m, corvak_FromController_done_tag);
    toy_step(&toy);
    ck_assert(toy.gates_on);
    m.what.request.mode = corvak_Request_Mode_OFF;
    ask(&m, corvak_FromController_done_tag);
    toy_step(&toy);
    ck_assert(!toy.gates_on);
    m = request_message(corvak_Request_Mode_CURRENT);
    ask(&m, corvak_FromController_done_tag);
    m.what.request.mode = corvak_Request_Mode_REST;
    ask(&m, corvak_FromController_done_tag);
    toy_step(&toy);
    ck_assert_int_eq(cvk_drive_now(&toy.drive)->request.mode, CVK_MODE_REST);
}
END_TEST

/* A second host on the same line does not inherit what the first commands. */
START_TEST(who_begins_anew_owns_nothing)
{
    claim(5.0f);
    const corvak_ToController m = message(corvak_ToController_identify_tag);
    ask(&m, corvak_FromController_identity_tag);
    ck_assert_uint_eq(cvk_drive_owner(&toy.drive), CVK_NOBODY);
}
END_TEST

START_TEST(a_host_that_says_nothing_is_gone)
{
    claim(5.0f);
    bool dismissed = false;
    for (int ms = 0; ms < 31000; ms++) {
        toy_step(&toy);
        while (hear()) {
            dismissed = dismissed ||
                        (heard.id == 0 && heard.which_what == corvak_FromController_refused_tag);
        }
    }
    ck_assert(dismissed);
    ck_assert(cvk_link_has_ended(&toy.link));
    ck_assert(!cvk_drive_is_there(&toy.drive, 7));
    corvak_ToController m = message(corvak_ToController_claim_tag);
    say(&m); /* not before it has said anew who it is */
    toy_step(&toy);
    ck_assert_uint_eq(cvk_drive_owner(&toy.drive), CVK_NOBODY);
    m = message(corvak_ToController_identify_tag);
    ask(&m, corvak_FromController_identity_tag);
    claim(1.0f);
}
END_TEST

/* ---- the secret ------------------------------------------------------------------------------ */

static const uint8_t key[] = "the potter's secret";

static void challenge(void *context, uint8_t bytes[CVK_LINK_CHALLENGE_BYTES])
{
    uint8_t *count = context;
    memset(bytes, ++*count, CVK_LINK_CHALLENGE_BYTES);
}

static bool opens(void *context, const uint8_t said[CVK_LINK_CHALLENGE_BYTES],
                  const uint8_t proof[CVK_LINK_PROOF_BYTES])
{
    uint8_t wanted[CVK_HMAC_BYTES];
    (void)context;
    cvk_hmac(key, sizeof key - 1, said, CVK_LINK_CHALLENGE_BYTES, wanted);
    return cvk_hmac_is(wanted, proof);
}

static corvak_ToController proof_of(const uint8_t *secret, size_t bytes)
{
    corvak_ToController m = message(corvak_ToController_identify_tag);
    ask(&m, corvak_FromController_identity_tag);
    ck_assert_uint_eq(heard.what.identity.challenge.size, CVK_LINK_CHALLENGE_BYTES);
    m = message(corvak_ToController_unlock_tag);
    m.what.unlock.proof.size = CVK_LINK_PROOF_BYTES;
    cvk_hmac(secret, bytes, heard.what.identity.challenge.bytes, CVK_LINK_CHALLENGE_BYTES,
             m.what.unlock.proof.bytes);
    return m;
}

START_TEST(a_locked_link_lets_in_who_proves_the_secret)
{
    uint8_t count = 0;
    const cvk_link_lock lock = {&count, challenge, opens};
    toy.link.config.lock = &lock;
    corvak_ToController m = message(corvak_ToController_claim_tag);
    m.what.claim.lease_s = 1.0f;
    refused(m, corvak_Why_LOCKED);
    refused(message(corvak_ToController_values_tag), corvak_Why_LOCKED);
    refused(proof_of(key, 3), corvak_Why_LOCKED);
    ck_assert(!cvk_drive_is_there(&toy.drive, 7));
    m = proof_of(key, sizeof key - 1);
    ask(&m, corvak_FromController_done_tag);
    ck_assert(cvk_drive_is_there(&toy.drive, 7));
    const corvak_ToController heard_by_others = m;
    claim(1.0f);
    cvk_link_close(&toy.link);
    m = heard_by_others; /* the next one has another challenge */
    m.id = ++id;
    refused(m, corvak_Why_LOCKED);
    for (int wrong = 0; wrong < 2; wrong++) {
        m = proof_of(key, 2);
        say(&m);
        toy_step(&toy);
    }
    ck_assert(cvk_link_has_ended(&toy.link)); /* three wrong ones */
}
END_TEST

/* RFC 4231, cases 1, 2, 4, 6 and 7 (keys and data of several lengths), and each length around a
 * block against another implementation's: their hash of hashes. */
START_TEST(the_proof_is_hmac_sha_256)
{
    static const uint8_t zero_b[20] = {0x0b, 0x0b, 0x0b, 0x0b, 0x0b, 0x0b, 0x0b, 0x0b, 0x0b, 0x0b,
                                       0x0b, 0x0b, 0x0b, 0x0b, 0x0b, 0x0b, 0x0b, 0x0b, 0x0b, 0x0b};
    uint8_t count[25], long_aa[131], cd[50], out[CVK_HMAC_BYTES];
    char text[2 * CVK_HMAC_BYTES + 1];
    memset(long_aa, 0xaa, sizeof long_aa);
    memset(cd, 0xcd, sizeof cd);
    for (unsigned n = 0; n < sizeof count; n++) {
        count[n] = (uint8_t)(n + 1u);
    }
    static const char long_text[] =
        "This is a test using a larger than block-size key and a larger than block-size data. "
        "The key needs to be hashed before being used by the HMAC algorithm.";
    const struct {
        const void *key;
        size_t key_bytes;
        const void *data;
        size_t bytes;
        const char *wanted;
    } cases[] = {
        {zero_b, 20, "Hi There", 8,
         "b0344c61d8db38535ca8afceaf0bf12b881dc200c9833da726e9376c2e32cff7"},
        {"Jefe", 4, "what do ya want for nothing?", 28,
         "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843"},
        {count, 25, cd, 50, "82558a389a443c0ea4cc819899f2083a85f0faa3e578f8077a2e3ff46729665b"},
        {long_aa, 131, "Test Using Larger Than Block-Size Key - Hash Key First", 54,
         "60e431591ee0b67f0d8a26aacbf5b77f8e0bc6213728c5140546040f0ee37f54"},
        {long_aa, 131, long_text, sizeof long_text - 1,
         "9b09ffa71b942fcb27635fbcd5b0e944bfdc63644f0713938a7f51535c3a35e2"},
    };
    for (size_t n = 0; n < sizeof cases / sizeof cases[0]; n++) {
        cvk_hmac(cases[n].key, cases[n].key_bytes, cases[n].data, cases[n].bytes, out);
        for (unsigned k = 0; k < CVK_HMAC_BYTES; k++) {
            snprintf(&text[2 * k], 3, "%02x", out[k]);
        }
        ck_assert_str_eq(text, cases[n].wanted);
    }
    uint8_t other[CVK_HMAC_BYTES];
    memcpy(other, out, sizeof out);
    ck_assert(cvk_hmac_is(out, other));
    other[31] ^= 1u;
    ck_assert(!cvk_hmac_is(out, other));
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
    toy.link.config.most_lease_s = 3600.0f;
    claim(3600.0f);
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
    tcase_add_test(tests, who_does_not_own_only_looks_and_stops);
    tcase_add_test(tests, a_lease_has_a_ceiling_and_nobody_there_gets_no_motor);
    tcase_add_test(tests, a_stop_is_never_taken_for_a_repetition);
    tcase_add_test(tests, who_begins_anew_owns_nothing);
    tcase_add_test(tests, a_host_that_says_nothing_is_gone);
    tcase_add_test(tests, a_locked_link_lets_in_who_proves_the_secret);
    tcase_add_test(tests, the_proof_is_hmac_sha_256);
    tcase_add_test(tests, a_stream_comes_without_gaps_and_counts_what_is_lost);
    tcase_add_test(tests, a_cut_at_any_byte_ends_in_a_stop);
    tcase_add_test(tests, a_host_that_does_not_read_loses_its_lease);
    tcase_add_test(tests, closing_a_link_releases_the_drive);
    tcase_add_test(tests, no_wrong_parameter_on_a_line_that_flips_bytes);
}

int main(void)
{
    return run_suite("link", add);
}
