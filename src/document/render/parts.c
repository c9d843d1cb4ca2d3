/* SPDX-License-Identifier: Apache-2.0
 *
 * Numbers and lines of a text.
 */
#include "parts.h"

#include <math.h>
#include <string.h>

/* ---- numbers -------------------------------------------------------------------------------- */

cvk_display display_of(const node *n, double size)
{
    return n->unit != NULL ? (cvk_display){n->unit, n->factor} : cvk_display_of(n->key, size);
}

double half_of(const node *n)
{
    return n->kind == NODE_INTERVAL ? 0.5 * (n->high - n->low) : (double)NAN;
}

/* Without its unit; of an interval with "+- half". */
void append_number(GString *out, const node *n, double factor)
{
    const double half = factor * half_of(n);
    if (!isfinite(n->value)) {
        g_string_append(out, "-");
    } else if (isfinite(half) && half > 0.0) {
        char value[40], around[40];
        print_number(value, sizeof value, factor * n->value, half);
        print_number(around, sizeof around, half, half);
        g_string_append_printf(out, "%s +- %s", value, around);
    } else {
        g_string_append(out, digits(factor * n->value, n->digits));
    }
}

void append_numbers(GString *out, const node *n)
{
    double largest = 0.0;
    for (size_t k = 0; k < n->count; k++) {
        largest = isfinite(n->numbers[k]) ? fmax(largest, fabs(n->numbers[k])) : largest;
    }
    const cvk_display how = display_of(n, largest);
    for (size_t k = 0; k < n->count; k++) {
        g_string_append_printf(out, "%s%s", k > 0 ? ", " : "",
                               digits(how.factor * n->numbers[k], n->digits));
    }
    g_string_append_printf(out, "%s%s", how.unit[0] != '\0' ? " " : "", how.unit);
}

/* ---- lines ---------------------------------------------------------------------------------- */

void pad(GString *out, const char *text, glong width, gboolean right)
{
    const glong missing = width - g_utf8_strlen(text, -1);
    for (glong n = 0; right && n < missing; n++) {
        g_string_append_c(out, ' ');
    }
    g_string_append(out, text);
    for (glong n = 0; !right && n < missing; n++) {
        g_string_append_c(out, ' ');
    }
}

/* A text that begins at column `from`; lines that would be longer than `width` go on at column
 * `at`.
 */
void append_within(GString *out, const char *text, glong from, glong at, glong width)
{
    char **words = g_strsplit(text, " ", -1);
    glong column = from;
    for (int n = 0; words[n] != NULL; n++) {
        const glong length = g_utf8_strlen(words[n], -1);
        if (n > 0 && column + 1 + length > width) {
            g_string_append_c(out, '\n');
            pad(out, "", at, FALSE);
            column = at;
        } else if (n > 0) {
            g_string_append_c(out, ' ');
            column++;
        }
        g_string_append(out, words[n]);
        const char *broken = strrchr(words[n], '\n');
        column = broken != NULL ? at + g_utf8_strlen(broken + 1, -1) : column + length;
    }
    g_strfreev(words);
    g_string_append_c(out, '\n');
}
