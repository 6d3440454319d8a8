"""What every stage has beside its own parameters: on, mix, wet and dry level, mono.

Control, range, file key, link and words all read it from here.
"""

from __future__ import annotations

from yellow_ember.dsp.parameters import Automation, Group, Number, Parameter, Switch, Taper

ON = Switch(id="on", label="On", group=Group.OUTPUT, default=True, automation=Automation.RAMP,
            help="Bypassed, the stage lets what enters it through, as late as when it works.")
MIX = Number(id="mix_pct", label="Mix", unit="%", minimum=0.0, maximum=100.0, default=100.0, decimals=0,
             group=Group.OUTPUT, automation=Automation.RAMP,
             help="How much of what goes on is the stage, the rest is what came in, both in step.")
WET = Number(id="wet_db", label="Wet level", unit="dB", minimum=-120.0, maximum=24.0, default=0.0, taper=Taper.FADER,
             group=Group.OUTPUT, automation=Automation.RAMP, floor_word="silent",
             help="The level of what the stage makes.")
DRY = Number(id="dry_db", label="Dry level", unit="dB", minimum=-120.0, maximum=24.0, default=None, taper=Taper.FADER,
             group=Group.OUTPUT, automation=Automation.RAMP, floor_word="silent", unset_word="none",
             help="Lets the untouched sound through beside what the stage makes, in step with it.")
MONO = Switch(id="mono", label="Mono", group=Group.OUTPUT, default=False,
              help="Works on the sum of left and right, at half the cost; what comes out is in the middle.")

STAGE_CONTROLS: tuple[Parameter, ...] = (MIX, WET, DRY, MONO)
"""What the bench shows of it, in that order."""
STAGE_VALUES: tuple[Parameter, ...] = (ON, *STAGE_CONTROLS)
"""All of it: each is a field of `StageSettings`."""
