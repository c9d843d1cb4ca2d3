/* SPDX-License-Identifier: Apache-2.0
 *
 * The simulated device: controller, wire and bench behind a cvk_device.
 */
#include "corvak/sim/device.h"

#include "corvak/sim/wire.h"

static bool truth(void *context, uint32_t tick, cvk_bench_truth *out)
{
    return cvk_sim_controller_truth((const cvk_sim_controller *)context, tick, out);
}

static void hold_shaft(void *context, bool held)
{
    cvk_rig_hold_shaft(cvk_sim_controller_inside((cvk_sim_controller *)context)->rig, held);
}

static void close_bench(void *context)
{
    cvk_sim_controller_close((cvk_sim_controller *)context);
}

cvk_status cvk_sim_device_open(cvk_device *device, const cvk_rig_config *config, uint64_t seed,
                               bool paced, cvk_refusal *why)
{
    cvk_sim_controller *controller = NULL;
    cvk_wire wire = {.context = NULL};
    *device = (cvk_device){.rows = NULL};
    cvk_status status = cvk_sim_controller_open(&controller, config, seed, why);
    if (status == CVK_OK) {
        status = cvk_sim_wire_open(&wire, controller, paced);
    }
    if (status == CVK_OK) {
        status = cvk_device_open(device, &wire);
    }
    device->bench = (cvk_bench){
        .context = controller, .truth = truth, .hold_shaft = hold_shaft, .close = close_bench};
    return status;
}

cvk_sim *cvk_sim_device_inside(const cvk_device *device)
{
    return device->bench.truth == truth
               ? cvk_sim_controller_inside((cvk_sim_controller *)device->bench.context)
               : NULL;
}
