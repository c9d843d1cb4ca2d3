/* SPDX-License-Identifier: Apache-2.0
 *
 * What every call that can fail returns, and how it says which number it refused.
 */
#ifndef CORVAK_CORE_STATUS_H
#define CORVAK_CORE_STATUS_H

#include <stdbool.h>

#ifdef __cplusplus
extern "C" {
#endif

#if defined(__GNUC__)
#define CVK_MUST_CHECK __attribute__((warn_unused_result))
#else
#define CVK_MUST_CHECK
#endif

typedef enum cvk_status {
    CVK_OK = 0,
    CVK_OUT_OF_RANGE,  /* a number is outside its allowed range, or not a number */
    CVK_NULL_ARGUMENT, /* a pointer that must point to something is null */
    CVK_NO_MEMORY,     /* host layers only: the core allocates nothing */
    CVK_FILE_ERROR,    /* a file cannot be opened, read or written */
    CVK_BAD_FORMAT,    /* a file's contents cannot be understood */
    CVK_STOPPED,       /* the drive stopped with a fault */
    CVK_NOT_IN_LOG,    /* the log does not show what was asked for */
    CVK_CONTRADICTION, /* two parameters contradict each other */
    CVK_BRIDGE_IS_ON,  /* may change only while the bridge is off */
    CVK_BUSY,          /* what was asked for before has not been taken up yet: ask again */
    CVK_UNKNOWN_NAME,  /* there is nothing of that name */
    CVK_NOT_OWNER,     /* the drive belongs to somebody else, or to nobody */
    CVK_NO_TRIAL,      /* no change is on trial */
    CVK_NO_ANSWER,     /* the other end of a link does not answer, or is gone */
    CVK_LOCKED,        /* a secret has to be proved first */
    CVK_STATUS_COUNT
} cvk_status;

/* A short English name of a status, never null. */
const char *cvk_status_text(cvk_status status);

/* The number that a check refused. */
typedef struct cvk_refusal {
    const char *field;   /* the field's name with its unit, as in the header or table */
    float value;         /* what was given */
    float low, high;     /* the allowed range, both ends included */
    const char *against; /* CVK_CONTRADICTION: the other parameter; else null */
    const char *reason;  /* CVK_CONTRADICTION: what is wrong and what to do; else null */
    const struct cvk_parameter *parameter; /* whose row `field` is; null when of none */
} cvk_refusal;

/* CVK_OK when low <= value <= high. Otherwise (also for NaN) CVK_OUT_OF_RANGE, and `why`,
 * which may be null, is filled in. */
cvk_status cvk_check_range(const char *field, float value, float low, float high,
                           cvk_refusal *why) CVK_MUST_CHECK;

/* One row of a table of ranges: where a field lies in a struct of floats, and what it may be. */
typedef struct cvk_range {
    const char *field;
    unsigned offset; /* offsetof() of a float in the checked struct */
    float low, high;
} cvk_range;

/* Checks `count` fields of the struct at `object`; stops at the first refusal. */
cvk_status cvk_check_ranges(const void *object, const cvk_range *ranges, unsigned count,
                            cvk_refusal *why) CVK_MUST_CHECK;

#ifdef __cplusplus
}
#endif
#endif
