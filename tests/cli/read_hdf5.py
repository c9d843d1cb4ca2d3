# SPDX-License-Identifier: Apache-2.0
# Prints what h5py finds in a log: attributes, then each data set with its unit, length and mean.
import sys

import h5py

with h5py.File(sys.argv[1], "r") as log:
    for key, value in log.attrs.items():
        print("#", key, value)
    for name, column in log.items():
        print(name, repr(column.attrs["unit"]), len(column), column.dtype, column[()].mean())
