"""What every strip has beside its path: volume, pan, mute, solo, bypass, match; and the level of a send.

Control, range, file key, link, snapshot and words all read it from here.
"""

from __future__ import annotations

from yellow_ember.dsp.parameters import Automation, Group, Number, Parameter, Switch

VOLUME = Number(id="volume_db", label="Volume", unit="dB", minimum=-80.0, maximum=12.0, default=0.0,
                group=Group.OUTPUT, automation=Automation.RAMP, floor_word="silent",
                help="The strip's level into what it feeds.")
PAN = Number(id="pan", label="Pan", unit="", minimum=-100.0, maximum=100.0, default=0.0, decimals=0,
             group=Group.OUTPUT, automation=Automation.RAMP, help="Where the strip stands between left and right.")
MUTE = Switch(id="mute", label="Mute", group=Group.OUTPUT, default=False, automation=Automation.RAMP,
              help="The strip is not heard.")
SOLO = Switch(id="solo", label="Solo", group=Group.OUTPUT, default=False, automation=Automation.RAMP,
              help="Only the strips that are soloed, and what they reach, are heard.")
BYPASS = Switch(id="bypass", label="Bypass", group=Group.OUTPUT, default=False, automation=Automation.RAMP,
                help="The whole path is left out.")
MATCH = Number(id="match_db", label="Match", unit="dB", minimum=-60.0, maximum=60.0, default=0.0, decimals=2,
               group=Group.OUTPUT, automation=Automation.RAMP, help="What makes after as loud as before.")
SEND_LEVEL = Number(id="level_db", label="Send", unit="dB", minimum=VOLUME.minimum, maximum=VOLUME.maximum,
                    default=-12.0, group=Group.OUTPUT, automation=Automation.RAMP, floor_word="silent",
                    help="How much of the strip goes to a bus.")

LINKED_VALUES: tuple[Parameter, ...] = (VOLUME, PAN, MUTE, SOLO, BYPASS)
"""What linked strips share beside the settings of their stages."""
STRIP_VALUES: tuple[Parameter, ...] = (*LINKED_VALUES, MATCH)
"""All of it: each is a field of `Strip`."""
SNAPSHOT_VALUES: tuple[Parameter, ...] = (MATCH, BYPASS, VOLUME, PAN)
"""What a snapshot holds: each is a field of `StripState`."""
