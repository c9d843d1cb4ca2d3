/* SPDX-License-Identifier: Apache-2.0
 *
 * The gate driver's register file, and the storage behind the port.
 */
#include "parts.h"

#include <string.h>

#define UNDERVOLTAGE_SHARE 0.3 /* of the nominal bus */

void cvk_gate_reset(cvk_rig *rig)
{
    bool latch = rig->config.gate_driver.overcurrent_mode == CVK_OVERCURRENT_LATCH;
    rig->gate_register[CVK_GATE_IDENTITY] = CVK_GATE_IDENTITY_VALUE;
    rig->gate_register[CVK_GATE_EVENTS] = 0;
    rig->gate_register[CVK_GATE_OVERCURRENT] =
        (uint16_t)(CVK_GATE_LIMIT_MASK | (latch ? CVK_GATE_LATCH : 0u));
    memset(rig->storage.byte, 0xff, sizeof rig->storage.byte);
    rig->storage.bytes_left = -1;
}

double cvk_gate_limit_a(const cvk_rig *rig)
{
    return rig->config.gate_driver.overcurrent_a *
           (rig->gate_register[CVK_GATE_OVERCURRENT] & CVK_GATE_LIMIT_MASK) / CVK_GATE_LIMIT_MASK;
}

bool cvk_gate_blocks(cvk_rig *rig)
{
    const cvk_rig_gate_driver *gate = &rig->config.gate_driver;
    uint16_t *events = &rig->gate_register[CVK_GATE_EVENTS];
    uint16_t setting = rig->gate_register[CVK_GATE_OVERCURRENT];
    bool too_much = false;
    if (rig->state.winding_degc > gate->hot_degc) {
        *events |= CVK_GATE_EVENT_HOT;
    }
    if (rig->state.bus_v < UNDERVOLTAGE_SHARE * rig->config.supply.bus_v) {
        *events |= CVK_GATE_EVENT_UNDERVOLTAGE;
    }
    if (gate->overcurrent_a > 0.0) {
        double i[3];
        cvk_leg_currents(rig, i);
        too_much = cvk_largest(i) > cvk_gate_limit_a(rig);
        if (too_much) {
            *events |= CVK_GATE_EVENT_OVERCURRENT;
        }
        if ((setting & CVK_GATE_LATCH) != 0 && (*events & CVK_GATE_EVENT_OVERCURRENT) != 0) {
            *events |= CVK_GATE_EVENT_LATCHED;
        }
    }
    return too_much || (*events & (CVK_GATE_EVENT_LATCHED | CVK_GATE_EVENT_UNDERVOLTAGE)) != 0;
}

bool cvk_rig_gate_read(cvk_rig *rig, unsigned address, uint16_t *value)
{
    if (address >= CVK_GATE_REGISTERS) {
        return false;
    }
    *value = address == CVK_GATE_TEMPERATURE
                 ? (uint16_t)cvk_clamp(rig->state.winding_degc, 0.0, 65535.0)
                 : rig->gate_register[address];
    return true;
}

bool cvk_rig_gate_write(cvk_rig *rig, unsigned address, uint16_t value)
{
    if (address == CVK_GATE_EVENTS) {
        rig->gate_register[address] &= (uint16_t)~value;
    } else if (address == CVK_GATE_OVERCURRENT) {
        rig->gate_register[address] = value & (CVK_GATE_LIMIT_MASK | CVK_GATE_LATCH);
    } else {
        return false;
    }
    return true;
}

bool cvk_rig_storage_read(const cvk_rig *rig, size_t at, void *bytes, size_t count)
{
    const size_t size = sizeof rig->storage.byte;
    if (count > size || at > size - count) {
        return false;
    }
    memcpy(bytes, rig->storage.byte + at, count);
    return true;
}

/* Power fails once the bytes left are used up: what was done until then stays. */
static bool powered(cvk_rig_storage *storage)
{
    if (storage->bytes_left == 0) {
        storage->dead = true;
    }
    if (storage->bytes_left > 0) {
        storage->bytes_left--;
    }
    return !storage->dead;
}

bool cvk_rig_storage_program(cvk_rig *rig, size_t at, const void *bytes, size_t count)
{
    cvk_rig_storage *storage = &rig->storage;
    const uint8_t *from = bytes;
    if (count > sizeof storage->byte || at > sizeof storage->byte - count) {
        return false;
    }
    for (size_t n = 0; n < count; n++) {
        if (!powered(storage)) {
            return false;
        }
        storage->byte[at + n] &= from[n];
    }
    return true;
}

bool cvk_rig_storage_erase(cvk_rig *rig, unsigned page)
{
    cvk_rig_storage *storage = &rig->storage;
    for (size_t n = 0; page < CVK_RIG_PAGES && n < CVK_RIG_PAGE_BYTES; n++) {
        if (!powered(storage)) {
            return false;
        }
        storage->byte[page * CVK_RIG_PAGE_BYTES + n] = 0xff;
    }
    return page < CVK_RIG_PAGES;
}
