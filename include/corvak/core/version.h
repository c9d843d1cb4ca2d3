/* SPDX-License-Identifier: Apache-2.0
 *
 * The version of the library, for programs that are built with several. CMakeLists.txt reads it
 * here.
 */
#ifndef CORVAK_CORE_VERSION_H
#define CORVAK_CORE_VERSION_H

#define CVK_VERSION "0.1.0"
#define CVK_VERSION_NUMBER 100 /* 10000 major + 100 minor + patch */

#endif
