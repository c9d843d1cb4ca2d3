/* SPDX-License-Identifier: Apache-2.0
 *
 * Numbers as people write them.
 */
#include "corvak/document/number.h"

#include "corvak/core/units.h"

#include <glib.h>
#include <math.h>
#include <string.h>

const char *digits(double value, int significant)
{
    static char text[16][32];
    static unsigned next;
    char *out = text[next++ % G_N_ELEMENTS(text)];
    const double size = fabs(value);
    if (!isfinite(value)) {
        return "-";
    }
    if (size != 0.0 && (size < 1e-6 || size >= 1e9)) {
        g_snprintf(out, sizeof text[0], "%.*g", significant, value);
        return out;
    }
    const int above = size > 0.0 ? (int)floor(log10(size)) + 1 : 1; /* digits before the point */
    g_snprintf(out, sizeof text[0], "%.*f", MAX(significant - above, 0), value);
    if (strchr(out, '.') != NULL) { /* as %g: no zeros at the end, no bare point */
        char *end = out + strlen(out);
        while (end[-1] == '0') {
            *--end = '\0';
        }
        end[-1] = end[-1] == '.' ? '\0' : end[-1];
    }
    return strspn(out, "-0.") == strlen(out) ? "0" : out;
}

void print_number(char *out, size_t size, double value, double half_width)
{
    const double far = fabs(value);
    const int decimals = half_width > 0.0 ? 1 - (int)floor(log10(half_width))
                         : far > 0.0      ? 3 - (int)floor(log10(far)) /* four digits */
                                          : 0;
    g_snprintf(out, (gulong)size, "%.*f", CLAMP(decimals, 0, 10), value);
}

/* A number from `from` on is told in this unit; the first row that fits, so the larger ones first.
 */
typedef struct unit_row {
    const char *ending;
    double from;
    cvk_display display;
} unit_row;

static const unit_row rows[] = {
    {"_mech_rad_s", 0.0, {"rpm", CVK_RPM_PER_RAD_S}},
    {"_mech_rad", 0.0, {"°", CVK_DEG_PER_RAD}},
    {"_nms_rad", 0.0, {"N m s/rad", 1.0}},
    {"_nm_rad", 0.0, {"N m/rad", 1.0}},
    {"_rad_s", 0.0, {"rad/s", 1.0}},
    {"_rad", 0.0, {"°", CVK_DEG_PER_RAD}},
    {"_v_s", 0.0, {"V per rad/s", 1.0}},
    {"_kg_m2", 1e-3, {"kg m²", 1.0}},
    {"_kg_m2", 0.0, {"kg mm²", 1e6}},
    {"_nm_s", 1e-3, {"N m s", 1.0}},
    {"_nm_s", 0.0, {"µN m s", 1e6}},
    {"_nm_a", 0.0, {"N m/A", 1.0}},
    {"_rpm_v", 0.0, {"rpm/V", 1.0}},
    {"_per_a", 0.0, {"1/A", 1.0}},
    {"_per_a2", 0.0, {"1/A²", 1.0}},
    {"_periods", 0.0, {"periods", 1.0}},
    {"_nms", 1e-3, {"N m s", 1.0}},
    {"_nms", 0.0, {"µN m s", 1e6}},
    {"_nm", 0.1, {"N m", 1.0}},
    {"_nm", 0.0, {"mN m", 1e3}},
    {"_ohm", 1.0, {"Ω", 1.0}},
    {"_ohm", 0.0, {"mΩ", 1e3}},
    {"_h", 1e-3, {"mH", 1e3}},
    {"_h", 0.0, {"µH", 1e6}},
    {"_wb", 0.0, {"mWb", 1e3}},
    {"_hz", 1e3, {"kHz", 1e-3}},
    {"_hz", 0.0, {"Hz", 1.0}},
    {"_s", 0.1, {"s", 1.0}},
    {"_s", 1e-4, {"ms", 1e3}},
    {"_s", 0.0, {"µs", 1e6}},
    {"_a", 0.1, {"A", 1.0}},
    {"_a", 0.0, {"mA", 1e3}},
    {"_v", 0.1, {"V", 1.0}},
    {"_v", 0.0, {"mV", 1e3}},
    {"_degc", 0.0, {"°C", 1.0}},
    {"_share", 0.0, {"%", 100.0}},
};

cvk_display cvk_display_of(const char *key, double value)
{
    const double size = isfinite(value) && value != 0.0 ? fabs(value) : 1.0;
    for (size_t n = 0; key != NULL && n < G_N_ELEMENTS(rows); n++) {
        if (g_str_has_suffix(key, rows[n].ending) && size >= rows[n].from) {
            return rows[n].display;
        }
    }
    return (cvk_display){"", 1.0};
}
