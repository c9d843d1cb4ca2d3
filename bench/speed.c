/* SPDX-License-Identifier: Apache-2.0
 *
 * Reading and estimating a log of a million rows, beside the machine's own plain read of the same
 * file, and the simulated rig's speed as a multiple of real time.
 *
 *   bench_speed [ROWS]      (1000000)
 */
#include "corvak/files/log_file.h"
#include "corvak/files/log_writer.h"
#include "corvak/ident/estimate.h"
#include "corvak/sim/sim.h"
#include "recording.h"

#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>
#include <unistd.h>

static double now_s(void)
{
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (double)t.tv_sec + 1e-9 * (double)t.tv_nsec;
}

/* One excitation's rows over and over, times running on. */
static void write_log(const char *path, const char *excitation, size_t rows)
{
    static const cvk_column columns[] = {CVK_COLUMN_IA,     CVK_COLUMN_IB,     CVK_COLUMN_IC,
                                         CVK_COLUMN_DUTY_A, CVK_COLUMN_DUTY_B, CVK_COLUMN_DUTY_C,
                                         CVK_COLUMN_VDC,    CVK_COLUMN_THETA_M};
    const cvk_rig_config wheel = studio_rig("wheel");
    recording run;
    record(&run, &wheel, excitation, 1, true);
    FILE *out = fopen(path, "w");
    if (out == NULL) {
        perror(path);
        exit(2);
    }
    fprintf(out, "t [s],ia [A],ib [A],ic [A],duty_a,duty_b,duty_c,vdc [V],theta_m [rad]\n");
    for (size_t n = 0; n < rows; n++) {
        fprintf(out, "%.6f", (double)n * 50e-6);
        for (size_t c = 0; c < sizeof columns / sizeof columns[0]; c++) {
            fprintf(out, ",%.6g", run.log.column[columns[c]][n % run.log.rows]);
        }
        fputc('\n', out);
    }
    fclose(out);
    recording_free(&run);
}

/* Reads the file as bytes, counting newlines: what the machine needs at least. */
static double plain_read_s(const char *path, double *bytes)
{
    static char block[1 << 20];
    double start = now_s();
    size_t got, lines = 0;
    FILE *in = fopen(path, "rb");
    *bytes = 0.0;
    while (in != NULL && (got = fread(block, 1, sizeof block, in)) > 0) {
        for (size_t n = 0; n < got; n++) {
            lines += block[n] == '\n';
        }
        *bytes += (double)got;
    }
    if (in != NULL) {
        fclose(in);
    }
    return lines > 0 ? now_s() - start : 0.0;
}

/* The same log as HDF5. */
static void bench_hdf5(const cvk_log *log, double csv_s)
{
    const char *path = "bench-log.h5";
    cvk_log_writer_column columns[CVK_COLUMN_COUNT];
    cvk_complaint complaint;
    int of[CVK_COLUMN_COUNT];
    size_t count = 0;
    for (int c = 0; c < CVK_COLUMN_COUNT; c++) {
        if (log->column[c] != NULL) {
            of[count] = c;
            columns[count++] = (cvk_log_writer_column){cvk_column_name((cvk_column)c), "", 6};
        }
    }
    cvk_log_writer *writer = cvk_log_writer_open(path, columns, count, NULL, 0, &complaint);
    for (size_t row = 0; writer != NULL && row < log->rows; row++) {
        double cells[CVK_COLUMN_COUNT];
        for (size_t c = 0; c < count; c++) {
            cells[c] = log->column[of[c]][row];
        }
        cvk_log_writer_row(writer, cells);
    }
    static cvk_log_file file;
    if (writer == NULL || cvk_log_writer_close(writer, true, &complaint) != CVK_OK) {
        fprintf(stderr, "%s\n", complaint.text);
        return;
    }
    double start = now_s();
    cvk_status status = cvk_log_file_read(&file, path, NULL, 0, &complaint);
    double read = now_s() - start;
    printf("  as HDF5       %6.3f s  (%.1f times as fast as CSV; %s)\n", read, csv_s / read,
           cvk_status_text(status));
    cvk_log_file_free(&file);
    remove(path);
}

static void bench_log(const char *excitation, size_t rows)
{
    const char *path = "bench-log.csv";
    write_log(path, excitation, rows);
    double bytes;
    (void)plain_read_s(path, &bytes); /* into the cache, where the reader finds it too */
    double plain = plain_read_s(path, &bytes);
    static cvk_log_file file;
    static cvk_estimate estimate;
    cvk_complaint complaint;
    double start = now_s();
    if (cvk_log_file_read(&file, path, NULL, 0, &complaint) != CVK_OK) {
        fprintf(stderr, "%s\n", complaint.text);
        exit(2);
    }
    double read = now_s() - start;
    const cvk_log *logs[] = {&file.log};
    cvk_estimate_options options = cvk_estimate_options_default();
    options.threads = (int)sysconf(_SC_NPROCESSORS_ONLN); /* as the command does */
    start = now_s();
    cvk_status status = cvk_estimate_logs(logs, 1, &options, &estimate);
    double estimated = now_s() - start;
    printf("%s, %zu rows, %.0f MB\n", excitation, rows, 1e-6 * bytes);
    printf("  plain read    %6.3f s  %7.0f MB/s\n", plain, 1e-6 * bytes / plain);
    printf("  corvak reads  %6.3f s  %7.0f MB/s  %9.0f rows/s  (%.1f times the plain read)\n", read,
           1e-6 * bytes / read, (double)rows / read, read / plain);
    printf("  estimates     %6.3f s  (%s)\n", estimated, cvk_status_text(status));
    printf("  together      %6.3f s\n", read + estimated);
    bench_hdf5(&file.log, read);
    cvk_log_file_free(&file);
    remove(path);
}

static cvk_sim sim;
static cvk_excitation program;

/* Runs the spin for some simulated seconds; the time that took. */
static double run_rig_s(const cvk_rig_config *config, double simulated_s)
{
    cvk_sim_close(&sim);
    if (cvk_sim_init(&sim, config, 1, NULL) != CVK_OK ||
        cvk_sim_start(&sim, cvk_program_named("spin"), &program, NULL) != CVK_OK) {
        fprintf(stderr, "the rig cannot be started\n");
        exit(2);
    }
    double start = now_s();
    while (cvk_rig_time_s(sim.rig) < simulated_s) {
        cvk_sim_step(&sim);
    }
    return now_s() - start;
}

/* The best of five runs: what the machine can do when nobody else uses it. */
static double best_s(const cvk_rig_config *config, double simulated_s)
{
    double best = INFINITY;
    for (int n = 0; n < 5; n++) {
        best = fmin(best, run_rig_s(config, simulated_s));
    }
    return best;
}

/* The control core alone, on samples that do not change: no rig can be faster than this. */
static double control_s(const cvk_rig_config *config, int calls)
{
    (void)run_rig_s(config, 0.5);
    const cvk_readings sample = {.current_valid = CVK_ALL_CURRENTS_VALID,
                                 .bus_v = 25.0f,
                                 .rotor = {.absolute_mech_rad = 1.0f},
                                 .winding_degc = 25.0f};
    double best = INFINITY;
    for (int n = 0; n < 5; n++) {
        double start = now_s();
        for (int k = 0; k < calls; k++) {
            (void)cvk_drive_control(&sim.drive, &sample);
        }
        best = fmin(best, now_s() - start);
    }
    return best / calls;
}

static void bench_rig(void)
{
    static const char *const names[] = {"averaged", "switched"};
    cvk_rig_config wheel = studio_rig("wheel");
    const double rate_hz = wheel.inverter.pwm_hz, period_s = 1.0 / rate_hz;
    double alone_s = control_s(&wheel, 100000);
    printf("simulated wheel at %.0f kHz, all imperfections on, best of five runs\n",
           1e-3 * rate_hz);
    printf("  control core alone        %6.0f ns a period  %5.0f times real time (the limit)\n",
           1e9 * alone_s, period_s / alone_s);
    for (int fidelity = 0; fidelity < 2; fidelity++) {
        wheel.inverter.fidelity = fidelity;
        for (int doubled = 0; doubled < 3; doubled++) { /* twice as long takes twice as long */
            double simulated_s = 0.5 * (1 << doubled);
            double took = best_s(&wheel, simulated_s);
            printf("  %s, %.1f s simulated  %6.0f ns a period  %5.1f times real time\n",
                   names[fidelity], simulated_s, 1e9 * took / (simulated_s * rate_hz),
                   simulated_s / took);
        }
    }
    printf("  state of rig and controller: %zu bytes, whatever is simulated\n", sizeof sim);
}

int main(int argc, char **argv)
{
    long rows = argc > 1 ? atol(argv[1]) : 1000000;
    if (rows < 100000 || rows > 100000000) {
        fprintf(stderr, "bench_speed: 100000 to 100000000 rows\n");
        return 2;
    }
    bench_log("standstill", (size_t)rows);
    bench_log("duty", (size_t)rows);
    bench_rig();
    return 0;
}
