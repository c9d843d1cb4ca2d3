/* SPDX-License-Identifier: Apache-2.0
 *
 * Three halls. What they tell is the moment at which the rotor passes an edge; in between, the
 * angle goes on at the speed between the last two edges, up to the next one. Edges lie where the
 * calibration found them, and later going up than going down.
 *
 * A code that comes back at once is bounce. One that is not due is believed when it stays; two
 * sectors off, the rotor is then in the middle of that sector.
 */
#include "decoders.h"

#include "corvak/core/halls.h"

#define BOUNCE_SHARE 0.25f /* of the time a sector takes: going back sooner is no turning back */
#define DUE_SHARE 0.5f     /* of that time, from which on the next edge is due */
#define FAST_RAD 0.25f /* electrical, from reading to reading: a sector is a few readings long */
#define PATIENCE 4     /* readings of a code that is not due, until it is believed */
#define ROUGH_QUALITY 0.6f /* somewhere in a sector */
#define SLOWEST_S 1.0f     /* a sector that takes longer: standing */

static int32_t sector_of(int32_t word)
{
    return cvk_hall_sector(word & 7);
}

/* Own angle of the edge that is passed from `sector` going this way. */
static float edge_from(const cvk_setup *setup, int32_t sector, int32_t way)
{
    const int32_t edge = way > 0 ? sector : (sector + 5) % 6;
    return setup->rotor.hall_edge_rad[edge] + (float)way * setup->rotor.half_hysteresis_rad;
}

static void stand_in(cvk_halls *h, int32_t sector)
{
    *h = (cvk_halls){.begun = true, .sector = sector, .edge_rad = CVK_PI / 3.0f * (float)sector};
}

/* Passing an edge: the speed is that from the edge before, when that was passed the same way. */
static void pass(cvk_halls *h, const cvk_setup *setup, int32_t sector, int32_t way)
{
    const float edge_rad = edge_from(setup, h->sector, way);
    const float turned_rad = cvk_wrap_angle(edge_rad - h->edge_rad);
    const bool on = h->way == way && h->since_s < SLOWEST_S;
    const float took_s = h->since_s - ((float)h->odd - 1.0f) * setup->period_s;
    h->speed_rad_s = on ? turned_rad / took_s : 0.0f;
    h->edge_rad = edge_rad;
    /* it was passed between two readings, before those that were waited for */
    h->since_s = ((float)h->odd - 0.5f) * setup->period_s;
    h->sector = sector;
    h->way = way;
    h->odd = 0;
}

/* Angle since the edge: at the last speed, but not beyond the next edge; slower when that is
 * overdue. */
static float gone_since(cvk_halls *h, const cvk_setup *setup)
{
    const float room_rad = fabsf(cvk_wrap_angle(edge_from(setup, h->sector, h->way) - h->edge_rad));
    const float gone_rad = fabsf(h->speed_rad_s) * h->since_s;
    if (gone_rad > room_rad) {
        h->speed_rad_s = copysignf(room_rad / h->since_s, h->speed_rad_s);
        return copysignf(room_rad, h->speed_rad_s);
    }
    return h->speed_rad_s * h->since_s;
}

static cvk_rotor_reading reading_of(cvk_halls *h, const cvk_setup *setup)
{
    const bool turns = h->speed_rad_s != 0.0f;
    return (cvk_rotor_reading){h->edge_rad + (turns ? gone_since(h, setup) : 0.0f),
                               turns ? 1.0f : ROUGH_QUALITY, CVK_ANGLE_FINE};
}

/* How far into the sector the rotor should be: 0 .. 1; 1 also when nobody knows. */
static float share_of_sector(const cvk_halls *h, const cvk_setup *setup)
{
    const float room_rad = fabsf(cvk_wrap_angle(edge_from(setup, h->sector, h->way) - h->edge_rad));
    const float gone_rad = fabsf(h->speed_rad_s) * h->since_s;
    return h->speed_rad_s == 0.0f || gone_rad > room_rad ? 1.0f : gone_rad / room_rad;
}

/* An edge that is due must be seen twice, unless the rotor is too fast for that; another one must
 * stay for some readings, and going back to the sector just left is bounce at first. */
static bool is_believed(cvk_halls *h, const cvk_setup *setup, int32_t way)
{
    const float share = share_of_sector(h, setup);
    if (way == -h->way && h->speed_rad_s != 0.0f && share < BOUNCE_SHARE) {
        return false;
    }
    const bool due = h->speed_rad_s == 0.0f || (way == h->way && share > DUE_SHARE);
    const bool fast = fabsf(h->speed_rad_s) * setup->period_s > FAST_RAD;
    h->odd++;
    return h->odd >= (!due ? PATIENCE : fast ? 1 : 2);
}

cvk_rotor_reading cvk_halls_read(cvk_halls *h, const cvk_setup *setup,
                                 const cvk_rotor_readings *read)
{
    const int32_t sector = sector_of(read->hall);
    h->since_s += h->since_s < SLOWEST_S ? setup->period_s : 0.0f;
    if (sector < 0) {
        return cvk_rotor_refused(CVK_ANGLE_BAD_READING);
    }
    if (!h->begun) {
        stand_in(h, sector);
    }
    const int32_t ahead = (sector - h->sector + 6) % 6;
    const int32_t way = ahead == 1 ? 1 : (ahead == 5 ? -1 : 0);
    h->odd = sector == h->odd_sector ? h->odd : 0; /* of one and the same code */
    h->odd_sector = sector;
    if (ahead == 0) {
        h->odd = 0;
    } else if (way == 0) {
        if (++h->odd < PATIENCE) {
            return cvk_rotor_refused(CVK_ANGLE_JUMPED);
        }
        stand_in(h, sector);
    } else if (is_believed(h, setup, way)) {
        pass(h, setup, sector, way);
    }
    return reading_of(h, setup);
}
