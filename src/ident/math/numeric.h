/* SPDX-License-Identifier: Apache-2.0
 *
 * Small numeric helpers over LAPACK. Matrices are row-major and symmetric where it says so.
 */
#ifndef CORVAK_IDENT_MATH_NUMERIC_H
#define CORVAK_IDENT_MATH_NUMERIC_H

#include <stdbool.h>
#include <stddef.h>

#define CVK_NUMERIC_MOST 24 /* rows of a small matrix */

/* Inverse of a symmetric positive definite n x n matrix, in place. False when it is not. */
bool cvk_invert_spd(int n, double *matrix);

/* Lower triangle W with W'W the inverse of a symmetric positive definite n x n matrix (n <=
 * CVK_NUMERIC_MOST): W x has unit covariance when x has `cov`. False when it is not positive
 * definite. */
bool cvk_whitening(int n, const double *cov, double *out);

/* out = a * b * a for symmetric n x n matrices (n <= CVK_NUMERIC_MOST): the sandwich of a
 * covariance. */
void cvk_sandwich(int n, const double *a, const double *b, double *out);

/* The deviation of parameter `k` times `by`, in an n x n covariance: correlations stay. */
void cvk_widen(int n, double *cov, int k, double by);

/* Eigenvalues (ascending) and eigenvectors (columns) of a symmetric 3 x 3 matrix. */
bool cvk_eigen3(double matrix[9], double values[3]);

/* Least squares: min |A x - b|, A m x n row-major; x is left in b[0..n-1]. False when singular. */
bool cvk_least_squares(int m, int n, double *a, double *b);

/* Median of n values; reorders them. NaN for none. */
double cvk_median(double *values, size_t n);

/* Two-sided 95 % point of Student's t with `dof` degrees of freedom (dof >= 1). */
double cvk_student95(double dof);

#endif
