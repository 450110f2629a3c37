"""Paths by recipe: who is sent to each, and how loud they are blended in, one level after the other until they are missed."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from arkund.core.kit.pieces import is_close, is_tom
from arkund.core.rig.strips import OFF_DB, Path
from arkund.core.tools.compressor import Compressor

SHELLS, WHOLE = "shells", "whole"
FEEDS = (SHELLS, WHOLE)  # what PUNCH and SUSTAIN are sent: shells alone, or the whole kit
TOM_DB, ROOM_DB = -4.0, 0.0
LEVELS_DB = (-20.0, -16.0, -12.0, -8.0)  # at which one hears whether it is missed; before them without it
FIRST_DB, LEAST_PEAK_DB = -20.0, -100.0


@dataclass(frozen=True, slots=True)
class Raised:
    """A path at a level against the kit without it: changes of attack against body, of density and of hits against what is before them, in dB; the share of
    the latter that is left."""

    level_db: float
    attack_db: float
    density_db: float
    contrast_db: float
    contrast_left: float

    @property
    def words(self) -> str:
        """What it does in words."""
        return (
            f"attack {self.attack_db:+.1f} dB, {-self.density_db:.1f} dB denser, hits stand out by {self.contrast_db:+.1f} dB:"
            f" {100 * self.contrast_left:.0f} % of it left"
        )


def raised_by(level_db: float, now: Mapping[str, float | None], without: Mapping[str, float | None]) -> Raised:
    """Return what a path does at a level, by the kit's figures with it and without it (see ``card.measure.kit_figures``)."""

    def by(*keys: str) -> float:
        found = [float(now[key] - without[key]) for key in keys if now[key] is not None and without[key] is not None]
        return round(sum(found) / max(len(found), 1), 2)

    stands_out = without["contrast"] or 0.0
    left = (now["contrast"] or 0.0) / stands_out if stands_out > 0.0 else 1.0
    return Raised(level_db, by("attack_kick", "attack_snare"), by("density"), by("contrast"), round(float(left), 3))


def sends_of(recipe: str, mics: Sequence, feed: str = SHELLS) -> dict[str, float]:
    """Return what is sent to a recipe's path, by mic, in dB. feed : one of FEEDS, for paths that take either

    mics : with .id, .piece, .role; who is not to be asked is left out by the caller
    """
    choose = {"weight": _weight, "crush": _crush, "plate": _plate, "glow": _everything}.get(recipe)
    choose = choose or (_everything if feed == WHOLE else _shells)
    if recipe == "crush" and all(mic.role != "room" for mic in mics):
        choose = _crush_without_rooms
    found = {mic.id: choose(mic) for mic in mics}
    return {mic: db for mic, db in found.items() if db is not None and db > OFF_DB}


def _shells(mic) -> float | None:
    """Kick in and snare in full, with what is laid under the snare, toms a bit less; neither kick out, sub, overheads nor rooms."""
    if is_tom(mic.piece):
        return TOM_DB
    return 0.0 if mic.piece == "snare" or (mic.piece == "kick" and mic.role == "in") else None


def _everything(mic) -> float | None:
    return None if mic.role == "talkback" else 0.0


def _weight(mic) -> float | None:
    return 0.0 if mic.piece == "kick" and is_close(mic.role) else None


def _crush(mic) -> float | None:
    return ROOM_DB if mic.role == "room" else None


def _crush_without_rooms(mic) -> float | None:
    """A floor or talkback mic makes a trashy room where there is no other."""
    return ROOM_DB if mic.role == "talkback" else None


def _plate(mic) -> float | None:
    return 0.0 if mic.piece == "snare" and mic.role != "bottom" else None


def with_paths(plan, paths: Sequence[Path], sends: Mapping[str, float]) -> dict[str, Any]:
    """Return paths beside those that are there, or in their place, and what mics send to each of them, as changes of a Plan. sends : dB by mic"""
    wanted = {path.id for path in paths}
    changes: dict[str, Any] = {
        "paths": [path.to_json() for path in (*(p for p in plan.paths if p.id not in wanted), *paths)]
    }
    for mic_id, level_db in sends.items():
        kept = [send.to_json() for send in plan.mic(mic_id).sends if send.id not in wanted]
        changes[f"mics.{mic_id}.sends"] = kept + [{"id": path.id, "level_db": level_db} for path in paths]
    return changes


def made_up(path: Path, came_db: float, left_db: float) -> Path:
    """Return a path whose last compressor makes its peak up to that of what comes in; as it is without one, and where either is silent.

    came_db, left_db : peaks of what comes into its row and of what leaves it
    """
    last = next((tool for tool in reversed(path.tools) if tool.kind == "compressor"), None)
    if last is None or min(came_db, left_db) < LEAST_PEAK_DB:
        return path
    limits = Compressor.ranges()["makeup_db"]
    makeup_db = round(min(max(last.makeup_db + came_db - left_db, limits.low), limits.high), 1)
    return path.replace(tools=tuple(tool.replace(makeup_db=makeup_db) if tool is last else tool for tool in path.tools))
