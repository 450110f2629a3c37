"""Paths by recipe: who is sent to each, and how loud they are blended in, one level after the other until they are missed."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from arkund.core.kit.pieces import is_close, is_tom
from arkund.core.rig.strips import OFF_DB

SHELLS, WHOLE = "shells", "whole"
FEEDS = (SHELLS, WHOLE)  # what PUNCH and SUSTAIN are sent: shells alone, or the whole kit
TOM_DB, ROOM_DB = -4.0, 0.0
LEVELS_DB = (-20.0, -16.0, -12.0, -8.0)  # at which one hears whether it is missed; before them without it
FIRST_DB = -20.0
UNDER_DB = {  # how far under the kit the first two paths are blended in, by school: PUNCH's peaks, SUSTAIN's loudness
    "natural": {"punch": 14.0, "sustain": 14.0},
    "punchy": {"punch": 10.0, "sustain": 10.0},
    "heavy": {"punch": 8.0, "sustain": 7.0},
}


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

    def by(key: str) -> float:
        return round(float((now[key] or 0.0) - (without[key] or 0.0)), 2)

    stands_out = without["contrast"] or 0.0
    left = (now["contrast"] or 0.0) / stands_out if stands_out > 0.0 else 1.0
    return Raised(level_db, by("attack"), by("density"), by("contrast"), round(float(left), 3))


def sends_of(recipe: str, mics: Sequence, feed: str = SHELLS) -> dict[str, float]:
    """Return what is sent to a recipe's path, by mic, in dB. feed : one of FEEDS, for paths that take either

    mics : with .id, .piece, .role; muted ones and layers are left out by the caller
    """
    choose = {"weight": _weight, "crush": _crush, "plate": _plate, "glow": _everything}.get(recipe)
    choose = choose or (_everything if feed == WHOLE else _shells)
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
    return ROOM_DB if mic.role in ("room", "talkback") or mic.piece == "floor" else None


def _plate(mic) -> float | None:
    return 0.0 if mic.piece == "snare" and mic.role != "bottom" else None
