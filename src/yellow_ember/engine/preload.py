"""Imported once by the process that all engines and workers are forked from.

Kernels are loaded here, so that a new engine plays at once and all of them share the memory.
"""

import signal

from yellow_ember.engine.forking import end_with_parent, forget_progress, write_progress

# While it loads, or compiles, it does not look at the pipe by which it learns that the program is gone.
end_with_parent(signal.SIGKILL)

from yellow_ember.engine.jobs import measuring, printing, strip_prints
from yellow_ember.engine.live import process
from yellow_ember.engine.warm_up import load_for_playing

__all__ = ["measuring", "printing", "process", "strip_prints"]

for _label, _done in load_for_playing():
    write_progress(_done)
forget_progress()
# From here on the pipe tells; the signal would come when the thread ends that had the server started.
end_with_parent(None)
