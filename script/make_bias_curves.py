#!/usr/bin/env python3
"""Make the shipped table of how bias bends a stock's record curve.

Usage: make_bias_curves.py SIMULATED.npz OUT.npz

SIMULATED holds `remanence[stock, bias, signal]` with its axes `bias_db_re_hc` and
`signal_db_re_hc` (dB over coercivity) and `nominal_bias_db_re_hc[stock]`, from a
Preisach simulation of recording with AC bias (docs/models/tape.md).  OUT holds
`log_ratio[stock, bias, signal]`: the natural logarithm of remanence over the remanence
at the aligned bias, on an even grid of bias (dB about the aligned one) and signal.
"""

import sys

import numpy as np
from scipy.interpolate import CubicSpline

WEAKEST_SIMULATED_BIAS = 1.0


def main() -> None:
    simulated = np.load(sys.argv[1])
    signal, bias = simulated["signal_db_re_hc"], simulated["bias_db_re_hc"]
    usable = bias >= WEAKEST_SIMULATED_BIAS
    offset = np.arange(-6.0, 6.01, 0.5)
    fine = np.arange(-40.0, 18.51, 0.5)
    tables = []
    for remanence, aligned in zip(simulated["remanence"], simulated["nominal_bias_db_re_hc"], strict=True):
        over_bias = CubicSpline(bias[usable], np.log(np.maximum(remanence[usable], 1e-9)), axis=0)
        ratio = over_bias(aligned + offset) - over_bias(aligned)
        tables.append(CubicSpline(signal, ratio, axis=1)(fine))
    np.savez_compressed(sys.argv[2], log_ratio=np.array(tables, dtype=np.float32), bias_db=offset, signal_db=fine)


if __name__ == "__main__":
    main()
