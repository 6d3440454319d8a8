"""How a file of an older version becomes one of the next, by kind of file.

A change of what files hold adds a function here, and a file of the version before to `tests/files/versions`.  Each
changes the JSON object in place, and knows nothing of what came later.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

Object = dict[str, Any]


def _objects(holder: Object, key: str) -> Iterator[Object]:
    """The objects of a list, passing over whatever else a damaged file holds there."""
    entries = holder.get(key)
    yield from (entry for entry in entries if isinstance(entry, dict)) if isinstance(entries, list) else ()


def _rename_near_to_far(holder: Object, chain: str) -> None:
    """The cabinet's `near_far_pct` became `near_far`, in its settings and in macros that move it."""
    for stage in _objects(holder, chain):
        params = stage.get("params")
        if stage.get("kind") == "cabinet" and isinstance(params, dict) and "near_far_pct" in params:
            params["near_far"] = params.pop("near_far_pct")
    for macro in _objects(holder, "macros"):
        for target in _objects(macro, "targets"):
            if target.get("parameter") == "near_far_pct":
                target["parameter"] = "near_far"


def _chain_2(document: Object) -> None:
    _rename_near_to_far(document, "stages")


def _preset_2(document: Object) -> None:
    """2 brought macros."""
    document.setdefault("macros", [])


def _preset_3(document: Object) -> None:
    """3 brought the match."""
    _rename_near_to_far(document, "stages")
    document.setdefault("match_db", 0.0)


def _session_2(document: Object) -> None:
    """2 brought macros."""
    for strip in _objects(document, "strips"):
        strip.setdefault("macros", [])


def _session_3(document: Object) -> None:
    """3 brought sends, bypass, links, and a stage's mix and mono."""
    document.setdefault("links", [])
    for strip in _objects(document, "strips"):
        strip.setdefault("sends", [])
        strip.setdefault("bypass", False)
        _rename_near_to_far(strip, "chain")


def _session_4(document: Object) -> None:
    """4 brought snapshots and loudness targets."""
    document.setdefault("snapshots", [])
    for strip in _objects(document, "strips"):
        strip.setdefault("zone_lufs", None)


def _session_5(document: Object) -> None:
    """5 brought the strip that is shown."""
    document.setdefault("shown", "")


def _session_6(document: Object) -> None:
    """6 brought regions in place of a track's one file, markers, passages and lanes."""
    for strip in _objects(document, "strips"):
        audio = strip.pop("audio", None)
        strip.setdefault("regions", [{"audio": audio}] if audio else [])


def _session_7(document: Object) -> None:
    """7 brought a strip's tint, inputs and ports."""
    for strip in _objects(document, "strips"):
        strip.setdefault("tint", "")
        strip.setdefault("live", None)
        strip.setdefault("own_ports", False)


def _session_8(document: Object) -> None:
    """8 brought what was recorded for a strip, and filters for live sound."""
    quality = document.get("quality")
    if isinstance(quality, dict):
        quality.setdefault("low_delay", True)
    for strip in _objects(document, "strips"):
        strip.setdefault("takes", [])


CHAIN: Mapping[int, Callable[[Object], None]] = {1: _chain_2}
PRESET: Mapping[int, Callable[[Object], None]] = {1: _preset_2, 2: _preset_3}
SESSION: Mapping[int, Callable[[Object], None]] = {
    1: _session_2, 2: _session_3, 3: _session_4, 4: _session_5, 5: _session_6, 6: _session_7, 7: _session_8}
