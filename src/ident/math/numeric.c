/* SPDX-License-Identifier: Apache-2.0
 *
 * Small numeric helpers over LAPACK.
 */
#include "numeric.h"

#include <lapacke.h>
#include <math.h>
#include <stdlib.h>

bool cvk_invert_spd(int n, double *matrix)
{
    if (LAPACKE_dpotrf(LAPACK_ROW_MAJOR, 'L', n, matrix, n) != 0 ||
        LAPACKE_dpotri(LAPACK_ROW_MAJOR, 'L', n, matrix, n) != 0) {
        return false;
    }
    for (int r = 0; r < n; r++) {
        for (int c = r + 1; c < n; c++) {
            matrix[r * n + c] = matrix[c * n + r];
        }
    }
    return true;
}

bool cvk_whitening(int n, const double *cov, double *out)
{
    /* cov = C C' gives W = C^-1; scaled to correlations first, since units differ widely */
    double unit[CVK_NUMERIC_MOST];
    for (int r = 0; r < n; r++) {
        unit[r] = sqrt(cov[r * n + r]);
        for (int c = 0; c <= r; c++) {
            out[r * n + c] = cov[r * n + c] / (unit[r] * unit[c]);
        }
    }
    if (LAPACKE_dpotrf(LAPACK_ROW_MAJOR, 'L', n, out, n) != 0 ||
        LAPACKE_dtrtri(LAPACK_ROW_MAJOR, 'L', 'N', n, out, n) != 0) {
        return false;
    }
    for (int r = 0; r < n; r++) {
        for (int c = 0; c < n; c++) {
            out[r * n + c] = c <= r ? out[r * n + c] / unit[c] : 0.0;
        }
    }
    return true;
}

void cvk_sandwich(int n, const double *a, const double *b, double *out)
{
    double half[CVK_NUMERIC_MOST * CVK_NUMERIC_MOST] = {0};
    for (int r = 0; r < n; r++) {
        for (int c = 0; c < n; c++) {
            double sum = 0.0;
            for (int k = 0; k < n; k++) {
                sum += a[r * n + k] * b[k * n + c];
            }
            half[r * n + c] = sum;
        }
    }
    for (int r = 0; r < n; r++) {
        for (int c = 0; c < n; c++) {
            double sum = 0.0;
            for (int k = 0; k < n; k++) {
                sum += half[r * n + k] * a[k * n + c];
            }
            out[r * n + c] = sum;
        }
    }
}

bool cvk_eigen3(double matrix[9], double values[3])
{
    return LAPACKE_dsyev(LAPACK_ROW_MAJOR, 'V', 'U', 3, matrix, 3, values) == 0;
}

bool cvk_least_squares(int m, int n, double *a, double *b)
{
    if (LAPACKE_dgels(LAPACK_ROW_MAJOR, 'N', m, n, 1, a, n, b, 1) != 0) {
        return false;
    }
    for (int k = 0; k < n; k++) {
        if (!isfinite(b[k])) {
            return false;
        }
    }
    return true;
}

static int compare(const void *a, const void *b)
{
    double x = *(const double *)a, y = *(const double *)b;
    return (x > y) - (x < y);
}

double cvk_median(double *values, size_t n)
{
    if (n == 0) {
        return NAN;
    }
    qsort(values, n, sizeof *values, compare);
    return n % 2 == 1 ? values[n / 2] : 0.5 * (values[n / 2 - 1] + values[n / 2]);
}

void cvk_widen(int n, double *cov, int k, double by)
{
    for (int c = 0; c < n; c++) {
        cov[k * n + c] *= by;
        cov[c * n + k] *= by;
    }
}

double cvk_student95(double dof)
{
    static const double exact[] = {12.706, 4.303, 3.182, 2.776, 2.571, 2.447, 2.365, 2.306};
    if (dof < 8.5) {
        int k = (int)(dof + 0.5);
        return exact[k < 1 ? 0 : k - 1];
    }
    /* Cornish-Fisher expansion about the normal quantile (Abramowitz, Stegun, 26.7.5) */
    double z = 1.959964, z3 = z * z * z;
    return z + (z3 + z) / (4.0 * dof) +
           (5.0 * z3 * z * z + 16.0 * z3 + 3.0 * z) / (96.0 * dof * dof);
}
