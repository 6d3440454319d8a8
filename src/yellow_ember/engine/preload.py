"""Imported once by the process that all engines and workers are forked from.

Kernels are loaded here, so that a new engine plays at once and all of them share the memory.
"""

from yellow_ember.dsp.warm_up import warm_up
from yellow_ember.engine import measuring, printing, process, strip_prints

__all__ = ["measuring", "printing", "process", "strip_prints"]

for _label, _done in warm_up():
    pass
