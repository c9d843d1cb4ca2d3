/* SPDX-License-Identifier: Apache-2.0
 *
 * The potter's wheel on an emulated board (qemu-system-arm -M mps2-an386): the controller in the
 * SysTick interrupt at 5 kHz, a compact motor model in place of power stage and motor, the link on
 * the first serial port. A host talks to it as to any controller: scripts/board.sh starts it and
 * says how.
 *
 * The settings are those of `corvak gains` for the wheel's card at 5 kHz; the link changes them.
 */
#include "corvak/core/drive.h"
#include "corvak/core/parameters.h"
#include "corvak/link/controller.h"

#include <math.h>

int main(void);
void sys_tick(void);

#define RATE_HZ 5000u
#define CLOCK_HZ 25000000u
#define SYST_CSR (*(volatile uint32_t *)0xE000E010u)
#define SYST_RVR (*(volatile uint32_t *)0xE000E014u)
#define SYST_CVR (*(volatile uint32_t *)0xE000E018u)
/* The first serial port (a CMSDK UART). */
#define UART_DATA (*(volatile uint32_t *)0x40004000u)
#define UART_STATE (*(volatile uint32_t *)0x40004004u)
#define UART_CTRL (*(volatile uint32_t *)0x40004008u)
#define UART_BAUD (*(volatile uint32_t *)0x40004010u)
#define UART_FULL_OUT 1u
#define UART_FULL_IN 2u

/* ---- the motor --------------------------------------------------------------------------------
 */

#define PIECES 4 /* of a control period */

/* Currents in the rotor's frame; what the bench has of it, in round numbers. */
static struct {
    float d_a, q_a, angle_rad, speed_mech_rad_s;
} motor;

static const float resistance_ohm = 0.169f, l_d_h = 320e-6f, l_q_h = 470e-6f, flux_wb = 0.0215f,
                   pole_pairs = 12.0f, inertia_kg_m2 = 0.085f, coulomb_nm = 0.12f,
                   viscous_nm_s = 0.004f, bus_v = 25.6f;

static void move_shaft(float torque_nm, float dt_s)
{
    const float w = motor.speed_mech_rad_s, least = coulomb_nm * dt_s / inertia_kg_m2;
    const float pushed = w + dt_s / inertia_kg_m2 * (torque_nm - viscous_nm_s * w);
    /* Coulomb friction takes speed away, and no more than there is */
    motor.speed_mech_rad_s = fabsf(pushed) <= least ? 0.0f : pushed - copysignf(least, pushed);
    motor.angle_rad = cvk_wrap_angle(motor.angle_rad + dt_s * pole_pairs * motor.speed_mech_rad_s);
}

static void move_motor(cvk_abc duty, bool on)
{
    const float dt_s = 1.0f / (float)(RATE_HZ * PIECES);
    const cvk_ab v = cvk_clarke((cvk_abc){bus_v * duty.a, bus_v * duty.b, bus_v * duty.c});
    for (int n = 0; n < PIECES; n++) {
        const cvk_dq u = cvk_park(v, cvk_rotation_of(motor.angle_rad));
        const float w = pole_pairs * motor.speed_mech_rad_s;
        const float d_a = motor.d_a, q_a = motor.q_a;
        if (on) {
            motor.d_a += dt_s / l_d_h * (u.d - resistance_ohm * d_a + w * l_q_h * q_a);
            motor.q_a += dt_s / l_q_h * (u.q - resistance_ohm * q_a - w * (l_d_h * d_a + flux_wb));
        } else { /* the diodes: gone at once */
            motor.d_a = motor.q_a = 0.0f;
        }
        move_shaft(1.5f * pole_pairs * (flux_wb + (l_d_h - l_q_h) * d_a) * q_a, dt_s);
    }
}

/* ---- the port ---------------------------------------------------------------------------------
 */

static cvk_drive drive;
static cvk_link end;
static cvk_excitation excitation; /* that a host runs */
static uint32_t store[16384];     /* rows that wait: this board has memory */
static volatile bool gates_on;
static volatile uint32_t ticks;

static void gate_enable(void *context, bool enable)
{
    (void)context;
    gates_on = enable;
}

static uint32_t stream_read(void *context, uint8_t stream, uint8_t *bytes, uint32_t room)
{
    uint32_t count = 0;
    (void)context;
    (void)stream;
    while (count < room && (UART_STATE & UART_FULL_IN) != 0u) {
        bytes[count++] = (uint8_t)UART_DATA;
    }
    return count;
}

static uint32_t stream_write(void *context, uint8_t stream, const uint8_t *bytes, uint32_t count)
{
    uint32_t sent = 0;
    (void)context;
    (void)stream;
    while (sent < count && (UART_STATE & UART_FULL_OUT) == 0u) {
        UART_DATA = bytes[sent++];
    }
    return sent;
}

static uint32_t clock_us(void *context)
{
    (void)context;
    return ticks * (1000000u / RATE_HZ);
}

static const cvk_port port = {.gate_enable = gate_enable,
                              .stream_read = stream_read,
                              .stream_write = stream_write,
                              .clock_us = clock_us};

/* ---- the controller ---------------------------------------------------------------------------
 */

static cvk_settings wheel_settings(void)
{
    cvk_settings s = cvk_settings_default();
    s.angle.source = CVK_BY_OBSERVER;
    s.motor = (cvk_motor_settings){.pole_pairs = 12,
                                   .resistance_ohm = 0.169f,
                                   .inductance_d_h = 321e-6f,
                                   .inductance_q_h = 471e-6f,
                                   .flux_linkage_wb = 0.0215f};
    s.protect.trip_current_a = 25.0f;
    s.protect.bus_min_v = 12.8f;
    s.protect.bus_max_v = 38.4f;
    s.limit.current_a = 14.0f;
    s.current.bandwidth_hz = 227.0f;
    s.speed.gain_a_s = 0.227f;
    s.speed.integral_gain_a = 0.572f;
    s.speed.current_a = 9.8f;
    s.speed.acceleration_rad_s2 = 312.0f;
    s.speed.jerk_rad_s3 = 3860.0f;
    s.speed.feedforward_a_s2 = 0.0183f;
    s.position.gain_per_s = 3.72f;
    s.position.speed_rad_s = 366.0f;
    s.observer.bandwidth_rad_s = 5.28f;
    s.observer.tracking_bandwidth_rad_s = 103.0f;
    s.observer.least_speed_rad_s = 16.0f;
    s.start.current_a = 9.8f;
    s.start.align_s = 1.09f;
    s.start.acceleration_rad_s2 = 86.3f;
    s.start.damping_s = 0.0432f;
    s.start.speed_rad_s = 35.2f;
    s.injection.leave_rad_s = 70.0f;
    return s;
}

/* The current-sample interrupt: what was computed a period ago has acted meanwhile. */
void sys_tick(void)
{
    static cvk_abc acting = {0.5f, 0.5f, 0.5f}, next = {0.5f, 0.5f, 0.5f};
    move_motor(acting, gates_on);
    acting = next;
    const cvk_abc i = cvk_clarke_inverse(
        cvk_park_inverse((cvk_dq){motor.d_a, motor.q_a}, cvk_rotation_of(motor.angle_rad)));
    const cvk_readings readings = {.current_a = i,
                                   .current_valid = CVK_ALL_CURRENTS_VALID,
                                   .bus_v = bus_v,
                                   .terminal_v = {NAN, NAN, NAN},
                                   .winding_degc = NAN};
    next = cvk_drive_control(&drive, &readings);
    cvk_link_sample(&end);
    ticks++;
}

int main(void)
{
    const cvk_hardware hardware = {.period_s = 1.0f / (float)RATE_HZ,
                                   .updates_per_period = 1,
                                   .current_sensing = CVK_CURRENTS_ALWAYS};
    const cvk_settings settings = wheel_settings();
    const cvk_link_config link_config = {.owner = 2,
                                         .name = "wheel on a board",
                                         .version = "0.1.0",
                                         .store = store,
                                         .store_words = sizeof store / sizeof store[0],
                                         .excitation = &excitation};
    UART_BAUD = 16u;
    UART_CTRL = 3u; /* both ways */
    motor.angle_rad = 1.0f;
    if (cvk_drive_init(&drive, &port, &hardware, &settings, 0) != CVK_OK ||
        cvk_link_init(&end, &drive, &port, &hardware, &link_config, 0) != CVK_OK) {
        return 1;
    }
    SYST_RVR = CLOCK_HZ / RATE_HZ - 1u;
    SYST_CVR = 0u;
    SYST_CSR = 7u; /* on, with its interrupt, by the processor's clock */
    for (uint32_t supervised = 0;;) {
        cvk_link_poll(&end);
        if (ticks - supervised >= RATE_HZ / 1000u) {
            supervised = ticks;
            cvk_drive_supervise(&drive);
        }
    }
}
