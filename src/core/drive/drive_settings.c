/* SPDX-License-Identifier: Apache-2.0
 *
 * Other settings: staged while the motor rests, on trial while it runs; what may not change then.
 */
#include "corvak/core/drive.h"

#include "drive_state.h"
#include "control/protect.h"
#include "prepare.h"

#include <stdatomic.h>
#include <stddef.h>

#define DEPTH_HEADROOM 0.15f /* of the voltage, that a change of the depth needs */
#define MOST_STRAY 1.25f     /* observers follow a fifth: beyond, the next start would fail */

/* The first parameter that differs; with `forbidden`, that may not while the bridge is on. */
static const cvk_parameter *difference(const cvk_settings *from, const cvk_settings *to,
                                       bool forbidden)
{
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        if (cvk_parameter_get(from, row) != cvk_parameter_get(to, row) &&
            !(forbidden && row->while_on)) {
            return row;
        }
    }
    return NULL;
}

static bool is_within(float factor, float a, float b)
{
    return a <= factor * b && b <= factor * a;
}

/* One change may lead as far as the row says; several may not lead far from what was called good.
 */
static bool strays(const cvk_parameter *row, float good, float before, float after)
{
    const bool on_its_way = before != good && (before < good) == (after < before);
    return row->factor > 0.0f && on_its_way && !is_within(MOST_STRAY, good, after);
}

/* The first parameter of motor or inverter that would change too much at once, or since the
 * settings were called good. */
static const cvk_parameter *leap(const cvk_drive_state *d, const cvk_settings *to, bool *since_good)
{
    const cvk_settings *from = &d->setup[d->setup_live].settings;
    unsigned model = 0;
    for (unsigned n = 0; n < cvk_parameter_count(); n++) {
        const cvk_parameter *row = cvk_parameter_at(n);
        const float before = cvk_parameter_get(from, row), after = cvk_parameter_get(to, row);
        if (!(row->factor > 0.0f)) {
            continue;
        }
        const float good = d->trial.good_model[model++];
        *since_good = before != after && strays(row, good, before, after);
        if (*since_good || (before != after && !is_within(row->factor, before, after))) {
            return row;
        }
    }
    return NULL;
}

static cvk_status refuse_leap(const cvk_parameter *row, const cvk_settings *settings,
                              bool since_good, cvk_refusal *why)
{
    if (why != NULL) {
        *why = (cvk_refusal){.field = row->name,
                             .value = cvk_parameter_get(settings, row),
                             .parameter = row,
                             .against = since_good ? "its value when last called good"
                                                   : "its value in force",
                             .reason = since_good ? "several changes led it away from that: call "
                                                    "what runs good, or stop first"
                                                  : "while the bridge is on one change makes it "
                                                    "half to twice of that: go there in steps, or "
                                                    "stop first"};
    }
    return CVK_CONTRADICTION;
}

static cvk_status refuse_while_on(const cvk_parameter *row, const cvk_settings *settings,
                                  cvk_refusal *why)
{
    if (why != NULL) {
        *why = (cvk_refusal){
            .field = row->name, .value = cvk_parameter_get(settings, row), .parameter = row};
    }
    return CVK_BRIDGE_IS_ON;
}

/* Another depth near the end of the voltage would take voltage away, or give it, at once. */
static bool changes_depth_at_the_end(const cvk_drive_state *d, const cvk_settings *settings)
{
    return d->gates_on && d->now.headroom < DEPTH_HEADROOM &&
           settings->modulation.depth != d->setup[d->setup_live].settings.modulation.depth;
}

static cvk_status refuse_depth(const cvk_settings *settings, cvk_refusal *why)
{
    if (why != NULL) {
        *why = (cvk_refusal){.field = "modulation.depth",
                             .value = (float)settings->modulation.depth,
                             .parameter = cvk_parameter_named("modulation.depth"),
                             .against = "the voltage that is in use",
                             .reason = "the motor runs near the end of the voltage: slow down "
                                       "first, until headroom is above 0.15"};
    }
    return CVK_CONTRADICTION;
}

/* Prepares settings in the free place; nothing is staged yet. `on_trial`: the bridge may be on. */
static cvk_status prepare_next(cvk_drive_state *d, const cvk_settings *settings, bool on_trial,
                               cvk_refusal *why)
{
    const uint8_t live = d->setup_live;
    if (d->setup_staged != live || d->trial.runs) {
        return CVK_BUSY;
    }
    const cvk_parameter *row = difference(&d->setup[live].settings, settings, on_trial);
    if (d->gates_on && row != NULL) {
        return refuse_while_on(row, settings, why);
    }
    bool since_good = false;
    row = leap(d, settings, &since_good);
    if (d->gates_on && row != NULL) {
        return refuse_leap(row, settings, since_good, why);
    }
    if (changes_depth_at_the_end(d, settings)) {
        return refuse_depth(settings, why);
    }
    return cvk_setup_prepare(&d->setup[1u - live], &d->hardware, settings, why);
}

static void stage_next(cvk_drive_state *d)
{
    atomic_signal_fence(memory_order_release);
    d->setup_staged = (uint8_t)(1u - d->setup_live);
}

cvk_status cvk_drive_stage(cvk_drive *drive, const cvk_settings *settings, cvk_refusal *why)
{
    cvk_drive_state *d = state_of(drive);
    const cvk_status status = prepare_next(d, settings, false, why);
    if (status == CVK_OK) {
        cvk_trial_call_good(&d->trial, settings);
        stage_next(d);
    }
    return status;
}

/* ---- a change on trial ---------------------------------------------------------------------- */

/* A window that would stop the motor at once. */
static cvk_status check_bus(const cvk_drive_state *d, const cvk_settings *settings,
                            cvk_refusal *why)
{
    const cvk_protect_settings *s = &settings->protect;
    const float bus_v = d->now.bus_v;
    if (!d->gates_on || (bus_v >= s->bus_min_v && bus_v <= s->bus_max_v)) {
        return CVK_OK;
    }
    if (why != NULL) {
        *why =
            (cvk_refusal){.field = bus_v < s->bus_min_v ? "protect.bus_min_v" : "protect.bus_max_v",
                          .value = bus_v < s->bus_min_v ? s->bus_min_v : s->bus_max_v,
                          .against = "the bus as it is now",
                          .reason = "the running motor would stop at once: choose a window "
                                    "with the present bus voltage in it"};
    }
    return CVK_CONTRADICTION;
}

cvk_status cvk_drive_try(cvk_drive *drive, cvk_owner owner, const cvk_settings *settings,
                         const cvk_trial_terms *terms, cvk_refusal *why)
{
    cvk_drive_state *d = state_of(drive);
    const cvk_setup *in_force = &d->setup[d->setup_live];
    cvk_status status = cvk_drive_refresh(drive, owner);
    if (status == CVK_OK) {
        status = prepare_next(d, settings, true, why);
    }
    if (status == CVK_OK) {
        status = check_bus(d, settings, why);
    }
    if (status == CVK_OK) {
        status = cvk_trial_prepare(&d->trial, terms, in_force, &d->now, why);
    }
    if (status == CVK_OK) {
        cvk_setup *next = &d->setup[1u - d->setup_live];
        next->bounds = cvk_bounds_tighter(next->bounds, in_force->bounds);
        d->trial.wish = CVK_WISH_BEGIN;
        stage_next(d);
    }
    return status;
}

static cvk_status wish(cvk_drive *drive, cvk_owner owner, cvk_trial_wish what)
{
    cvk_drive_state *d = state_of(drive);
    const cvk_status status = cvk_drive_refresh(drive, owner);
    if (status != CVK_OK) {
        return status;
    }
    if (d->setup_staged != d->setup_live ||
        (what == CVK_WISH_KEEP && d->now.trial == CVK_TRIAL_WATCHED)) {
        return CVK_BUSY;
    }
    if (!d->trial.runs) {
        return CVK_NO_TRIAL;
    }
    d->trial.wish = (uint8_t)what;
    return CVK_OK;
}

cvk_status cvk_drive_keep(cvk_drive *drive, cvk_owner owner)
{
    return wish(drive, owner, CVK_WISH_KEEP);
}

cvk_status cvk_drive_take_back(cvk_drive *drive, cvk_owner owner)
{
    return wish(drive, owner, CVK_WISH_TAKE_BACK);
}

cvk_status cvk_drive_call_good(cvk_drive *drive, cvk_owner owner)
{
    cvk_drive_state *d = state_of(drive);
    const cvk_status status = cvk_drive_refresh(drive, owner);
    if (status != CVK_OK) {
        return status;
    }
    if (d->setup_staged != d->setup_live || d->trial.runs) {
        return CVK_BUSY;
    }
    cvk_trial_call_good(&d->trial, &d->setup[d->setup_live].settings);
    return CVK_OK;
}
