/* SPDX-License-Identifier: Apache-2.0
 *
 * compare A B: the duties of two replays; fails when they differ by more than 1e-5.
 */
#include <math.h>
#include <stdio.h>

#define MOST 1e-5

int main(int argc, char **argv)
{
    FILE *a = argc == 3 ? fopen(argv[1], "rb") : NULL, *b = argc == 3 ? fopen(argv[2], "rb") : NULL;
    double worst = 0.0;
    long count = 0;
    float x, y;
    if (a == NULL || b == NULL) {
        fprintf(stderr, "usage: compare DUTIES DUTIES\n");
        return 2;
    }
    while (fread(&x, sizeof x, 1, a) == 1 && fread(&y, sizeof y, 1, b) == 1) {
        worst = fmax(worst, fabs((double)x - (double)y));
        count++;
    }
    const int same_length = fgetc(b) == EOF && feof(a);
    fclose(a);
    fclose(b);
    printf("%ld duties, at most %.2g apart (allowed %.0e)\n", count, worst, MOST);
    return count > 0 && same_length && worst <= MOST ? 0 : 1;
}
