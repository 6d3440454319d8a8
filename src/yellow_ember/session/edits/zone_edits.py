"""Put the level into stages where they feel at home, and take it back behind them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from yellow_ember.dsp.parameters import as_number
from yellow_ember.dsp.stage_settings import StageSettings
from yellow_ember.dsp.stages import STAGES
from yellow_ember.session.edits.edits import edit_strip
from yellow_ember.session.values.model import Session, new_stage

_TRIM, _GAIN = next((kind.kind, kind.clean_gain) for kind in STAGES if kind.clean_gain is not None)


def levels_into(session: Session, strip_id: str, moves: Mapping[str, float]) -> Session:
    """Move the level into stages of a strip, by trims before and behind them.

    A trim that stands there already is moved; else one is put in.  Where a trim's range ends, both stop there.

    Parameters
    ----------
    moves : Mapping[str, float]
        dB by the stages' ids.
    """
    chain = list(session.strip(strip_id).chain)
    for stage_id, by in moves.items():
        at = next((index for index, stage in enumerate(chain) if stage.id == stage_id), None)
        if at is None:
            continue
        before = chain[at - 1] if at and _is_trim(chain[at - 1]) else None
        behind = chain[at + 1] if at + 1 < len(chain) and _is_trim(chain[at + 1]) else None
        by = _within(before, by)
        by = -_within(behind, -by)
        front, back = _moved(before, by), _moved(behind, -by)
        chain[at - (before is not None):at + 1 + (behind is not None)] = [front, chain[at], back]
    return edit_strip(session, strip_id, lambda strip: strip.with_(chain=tuple(chain)))


def _is_trim(stage: StageSettings) -> bool:
    return stage.kind == _TRIM and stage.on


def _within(trim: StageSettings | None, by: float) -> float:
    """So much of a move as a trim has room for."""
    stage = trim or new_stage(_TRIM)
    now = as_number(stage.params[_GAIN])
    return stage.declaration.number(_GAIN).clamp(now + by) - now


def _moved(trim: StageSettings | None, by: float) -> StageSettings:
    stage = trim or new_stage(_TRIM)
    return replace(stage, params={**stage.params, _GAIN: round(as_number(stage.params[_GAIN]) + by, 1)})
