/* SPDX-License-Identifier: Apache-2.0
 *
 * What `corvak measure` measures, each in a file of its own. Each returns an exit status.
 */
#ifndef CORVAK_CLI_VERBS_MEASURE_H
#define CORVAK_CLI_VERBS_MEASURE_H

int measure_ladder(int argc, char **argv);
int measure_steps(int argc, char **argv);

#endif
