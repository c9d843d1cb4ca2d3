/* SPDX-License-Identifier: Apache-2.0
 *
 * Header cells. Names are compared without regard to case; a unit is an SI prefix and a base unit,
 * or one of the customary units of angle and speed.
 */
#include "column_names.h"

#include "corvak/core/units.h"

#include "column_guess.h"

#include <ctype.h>
#include <string.h>
#include <strings.h>

typedef enum quantity { TIME, CURRENT, VOLTAGE, SHARE, ANGLE, SPEED, COUNT, TEMPERATURE } quantity;

static quantity quantity_of(cvk_column column)
{
    switch (column) {
    case CVK_COLUMN_T:
        return TIME;
    case CVK_COLUMN_IA:
    case CVK_COLUMN_IB:
    case CVK_COLUMN_IC:
    case CVK_COLUMN_IDC:
        return CURRENT;
    case CVK_COLUMN_DUTY_A:
    case CVK_COLUMN_DUTY_B:
    case CVK_COLUMN_DUTY_C:
        return SHARE;
    case CVK_COLUMN_THETA_M:
    case CVK_COLUMN_THETA_E:
        return ANGLE;
    case CVK_COLUMN_SPEED_M:
        return SPEED;
    case CVK_COLUMN_ENC:
    case CVK_COLUMN_HALL:
    case CVK_COLUMN_INDEX:
    case CVK_COLUMN_HALL_A:
    case CVK_COLUMN_HALL_B:
    case CVK_COLUMN_HALL_C:
        return COUNT;
    case CVK_COLUMN_TEMP:
        return TEMPERATURE;
    default:
        return VOLTAGE;
    }
}

const char *cvk_column_units(cvk_column column)
{
    static const char *const texts[] = {
        [TIME] = "s ms us ns", [CURRENT] = "A mA uA kA", [VOLTAGE] = "V mV uV kV",
        [SHARE] = "1 or %",    [ANGLE] = "rad deg turn", [SPEED] = "rad/s rpm Hz deg/s",
        [COUNT] = "counts",    [TEMPERATURE] = "degC",
    };
    return texts[quantity_of(column)];
}

static bool same(const char *a, size_t length, const char *b)
{
    return strlen(b) == length && strncasecmp(a, b, length) == 0;
}

/* "m" of mA and so on; 0 when it is no prefix. The micro sign comes in two encodings of UTF-8. */
static double prefix(const char *text, size_t length)
{
    if (length == 0) {
        return 1.0;
    }
    if (length == 1) {
        switch (text[0]) {
        case 'n':
            return 1e-9;
        case 'u':
            return 1e-6;
        case 'm':
            return 1e-3;
        case 'k':
        case 'K':
            return 1e3;
        default:
            return 0.0;
        }
    }
    if (length == 2 && (memcmp(text, "\xc2\xb5", 2) == 0 || memcmp(text, "\xce\xbc", 2) == 0)) {
        return 1e-6;
    }
    return 0.0;
}

typedef struct unit {
    quantity of;
    const char *name;
    double factor;
    bool prefixed; /* takes SI prefixes */
} unit;

static const unit units[] = {
    {TIME, "s", 1.0, true},
    {TIME, "sec", 1.0, true},
    {TIME, "second", 1.0, true},
    {TIME, "seconds", 1.0, true},
    {CURRENT, "A", 1.0, true},
    {CURRENT, "amp", 1.0, true},
    {VOLTAGE, "V", 1.0, true},
    {VOLTAGE, "volt", 1.0, true},
    {SHARE, "1", 1.0, false},
    {SHARE, "-", 1.0, false},
    {SHARE, "%", 0.01, false},
    {SHARE, "percent", 0.01, false},
    {ANGLE, "rad", 1.0, true},
    {ANGLE, "deg", CVK_PI_WIDE / 180.0, false},
    {ANGLE, "\xc2\xb0", CVK_PI_WIDE / 180.0, false},
    {ANGLE, "turn", 2.0 * CVK_PI_WIDE, false},
    {ANGLE, "turns", 2.0 * CVK_PI_WIDE, false},
    {ANGLE, "rev", 2.0 * CVK_PI_WIDE, false},
    {SPEED, "rad/s", 1.0, false},
    {SPEED, "rad_s", 1.0, false},
    {SPEED, "rpm", 2.0 * CVK_PI_WIDE / 60.0, false},
    {SPEED, "1/min", 2.0 * CVK_PI_WIDE / 60.0, false},
    {SPEED, "Hz", 2.0 * CVK_PI_WIDE, false},
    {SPEED, "rps", 2.0 * CVK_PI_WIDE, false},
    {SPEED, "deg/s", CVK_PI_WIDE / 180.0, false},
    {COUNT, "counts", 1.0, false},
    {COUNT, "count", 1.0, false},
    {COUNT, "cnt", 1.0, false},
    {COUNT, "1", 1.0, false},
    {TEMPERATURE, "degC", 1.0, false},
    {TEMPERATURE, "C", 1.0, false},
    {TEMPERATURE,
     "\xc2\xb0"
     "C",
     1.0, false},
};

/* Factor to SI, or 0 when the unit is not one of this column. */
double cvk_unit_factor(cvk_column column, const char *text, size_t length)
{
    quantity of = quantity_of(column);
    for (size_t n = 0; n < sizeof units / sizeof units[0]; n++) {
        size_t name = strlen(units[n].name);
        if (units[n].of != of || length < name ||
            strncasecmp(text + length - name, units[n].name, name) != 0) {
            continue;
        }
        if (length == name) {
            return units[n].factor;
        }
        if (units[n].prefixed && prefix(text, length - name) > 0.0) {
            return units[n].factor * prefix(text, length - name);
        }
    }
    return 0.0;
}

static void trim(const char **text, size_t *length)
{
    while (*length > 0 && (isspace((unsigned char)**text) || **text == '"' || **text == '\'')) {
        (*text)++;
        (*length)--;
    }
    while (*length > 0 && (isspace((unsigned char)(*text)[*length - 1]) ||
                           (*text)[*length - 1] == '"' || (*text)[*length - 1] == '\'')) {
        (*length)--;
    }
}

/* Other names that people write for the same thing. */
static const struct {
    const char *name;
    cvk_column column;
} also[] = {
    {"time", CVK_COLUMN_T},
    {"i_a", CVK_COLUMN_IA},
    {"i_b", CVK_COLUMN_IB},
    {"i_c", CVK_COLUMN_IC},
    {"v_a", CVK_COLUMN_VA},
    {"v_b", CVK_COLUMN_VB},
    {"v_c", CVK_COLUMN_VC},
    {"v_ab", CVK_COLUMN_VAB},
    {"v_bc", CVK_COLUMN_VBC},
    {"v_ca", CVK_COLUMN_VCA},
    {"v_dc", CVK_COLUMN_VDC},
    {"vbus", CVK_COLUMN_VDC},
    {"v_bus", CVK_COLUMN_VDC},
    {"i_dc", CVK_COLUMN_IDC},
    {"da", CVK_COLUMN_DUTY_A},
    {"db", CVK_COLUMN_DUTY_B},
    {"dc", CVK_COLUMN_DUTY_C},
    {"theta_mech", CVK_COLUMN_THETA_M},
    {"theta_elec", CVK_COLUMN_THETA_E},
    {"speed", CVK_COLUMN_SPEED_M},
    {"temperature", CVK_COLUMN_TEMP},
    {"iu", CVK_COLUMN_IA},
    {"iv", CVK_COLUMN_IB},
    {"iw", CVK_COLUMN_IC},
    {"vu", CVK_COLUMN_VA},
    {"vv", CVK_COLUMN_VB},
    {"vw", CVK_COLUMN_VC},
    {"hall_code", CVK_COLUMN_HALL},
    {"halls", CVK_COLUMN_HALL},
    {"hall_state", CVK_COLUMN_HALL},
    {"hall_1", CVK_COLUMN_HALL_A},
    {"hall_2", CVK_COLUMN_HALL_B},
    {"hall_3", CVK_COLUMN_HALL_C},
    {"hall1", CVK_COLUMN_HALL_A},
    {"hall2", CVK_COLUMN_HALL_B},
    {"hall3", CVK_COLUMN_HALL_C},
    {"hall_u", CVK_COLUMN_HALL_A},
    {"hall_v", CVK_COLUMN_HALL_B},
    {"hall_w", CVK_COLUMN_HALL_C},
    {"ha", CVK_COLUMN_HALL_A},
    {"hb", CVK_COLUMN_HALL_B},
    {"hc", CVK_COLUMN_HALL_C},
    {"encoder", CVK_COLUMN_ENC},
    {"enc_counts", CVK_COLUMN_ENC},
    {"encoder_counts", CVK_COLUMN_ENC},
    {"sine", CVK_COLUMN_SIN},
    {"cosine", CVK_COLUMN_COS},
    {"tacho", CVK_COLUMN_TACH},
    {"tachometer", CVK_COLUMN_TACH},
};

static bool find_name(const char *text, size_t length, cvk_column *column)
{
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        if (same(text, length, cvk_column_name((cvk_column)c))) {
            *column = (cvk_column)c;
            return true;
        }
    }
    for (size_t n = 0; n < sizeof also / sizeof also[0]; n++) {
        if (same(text, length, also[n].name)) {
            *column = also[n].column;
            return true;
        }
    }
    return false;
}

/* Index of the map that names this cell; -1 for none. */
static int find_mapped(const char *text, size_t length, const cvk_column_map *maps, size_t count)
{
    for (size_t n = 0; n < count; n++) {
        if (same(text, length, maps[n].name)) {
            return (int)n;
        }
    }
    return -1;
}

/* A map names the column by its own name for something else: then that name is not it. */
static bool taken_by_map(cvk_column column, const cvk_column_map *maps, size_t count)
{
    for (size_t n = 0; n < count; n++) {
        if (maps[n].column == column) {
            return true;
        }
    }
    return false;
}

static void set_unit(cvk_column_head *head, const char *text, size_t length)
{
    size_t kept = length < sizeof head->unit - 1 ? length : sizeof head->unit - 1;
    memcpy(head->unit, text, kept);
    head->unit[kept] = '\0';
    head->factor = length > 0 ? cvk_unit_factor(head->column, text, length) : 1.0;
    head->bad_unit = head->factor == 0.0;
}

/* What a map says of unit, scale and offset, on top of the unit in the header. */
static void apply_map(cvk_column_head *head, const cvk_column_map *map, int index)
{
    head->known = true;
    head->map = index;
    head->column = map->column;
    if (map->unit[0] != '\0') {
        set_unit(head, map->unit, strlen(map->unit));
    }
    head->offset = head->factor * map->offset;
    head->factor *= map->scale;
}

/* The parts of `name [unit]` or `name (unit)`; false when there is no bracket. */
static bool split_unit(const char *cell, size_t length, size_t *name_length, const char **unit_text,
                       size_t *unit_length)
{
    size_t n = 0;
    while (n < length && cell[n] != '[' && cell[n] != '(') {
        n++;
    }
    if (n == length) {
        return false;
    }
    const char *name = cell;
    *name_length = n;
    *unit_text = cell + n + 1;
    *unit_length = length - n - 1;
    trim(&name, name_length);
    if (*unit_length > 0 &&
        ((*unit_text)[*unit_length - 1] == ']' || (*unit_text)[*unit_length - 1] == ')')) {
        (*unit_length)--;
    }
    trim(unit_text, unit_length);
    return true;
}

/* Named by a map, with or without the unit that follows in the header. A unit that nobody knows is
 * not passed over, unless the map says what the cells are. */
static bool mapped_head(const char *cell, size_t length, const cvk_column_map *maps,
                        size_t map_count, cvk_column_head *head)
{
    size_t name_length = length, unit_length = 0;
    const char *unit_text = "";
    const bool bracket = split_unit(cell, length, &name_length, &unit_text, &unit_length);
    int map = find_mapped(cell, length, maps, map_count);
    map = map < 0 && bracket ? find_mapped(cell, name_length, maps, map_count) : map;
    if (map < 0) {
        return false;
    }
    head->column = maps[map].column;
    const bool said = maps[map].unit[0] != '\0' || maps[map].scale != 1.0;
    if (bracket && (!said || cvk_unit_factor(head->column, unit_text, unit_length) != 0.0)) {
        set_unit(head, unit_text, unit_length);
    }
    apply_map(head, &maps[map], map);
    return true;
}

cvk_column_head cvk_column_of_head(const char *cell, size_t length, const cvk_column_map *maps,
                                   size_t map_count)
{
    cvk_column_head head = {.factor = 1.0, .map = -1};
    size_t name_length = 0, unit_length = 0;
    const char *unit_text = NULL;
    bool sure = false;
    trim(&cell, &length);
    if (mapped_head(cell, length, maps, map_count, &head)) {
        return head;
    }
    if (split_unit(cell, length, &name_length, &unit_text, &unit_length)) {
        head.known = find_name(cell, name_length, &head.column);
        if (!head.known) {
            head.column = cvk_guess_column(cell, name_length, &sure);
            head.known = sure;
        }
        if (head.known) {
            set_unit(&head, unit_text, unit_length);
        }
    } else if (find_name(cell, length, &head.column)) {
        head.known = true;
    } else {
        /* name_unit: the unit is what follows an underscore, if it is a unit of that column */
        for (size_t n = length; n > 1 && !head.known; n--) {
            if (cell[n - 1] == '_' && find_name(cell, n - 1, &head.column) &&
                cvk_unit_factor(head.column, cell + n, length - n) != 0.0) {
                head.known = true;
                set_unit(&head, cell + n, length - n);
            }
        }
        if (!head.known) {
            head.column = cvk_guess_column(cell, length, &sure);
            head.known = sure;
        }
    }
    head.known = head.known && !taken_by_map(head.column, maps, map_count);
    return head;
}

cvk_status cvk_column_map_parse(cvk_column_map *map, const char *text)
{
    const char *equals = strchr(text, '=');
    if (equals == NULL || equals[1] == '\0' || strlen(equals + 1) >= sizeof map->name) {
        return CVK_BAD_FORMAT;
    }
    *map = (cvk_column_map){.scale = 1.0};
    cvk_column column = CVK_COLUMN_COUNT;
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        column = same(text, (size_t)(equals - text), cvk_column_name((cvk_column)c)) ? (cvk_column)c
                                                                                     : column;
    }
    if (column == CVK_COLUMN_COUNT) {
        return CVK_BAD_FORMAT;
    }
    const char *name = equals + 1, *unit_text = NULL;
    size_t length = strlen(name), name_length = 0, unit_length = 0;
    map->column = column;
    trim(&name, &length);
    if (split_unit(name, length, &name_length, &unit_text, &unit_length) && name_length > 0 &&
        unit_length < sizeof map->unit && cvk_unit_factor(column, unit_text, unit_length) != 0.0) {
        memcpy(map->unit, unit_text, unit_length);
        length = name_length;
    }
    memcpy(map->name, name, length);
    return length > 0 ? CVK_OK : CVK_BAD_FORMAT;
}
